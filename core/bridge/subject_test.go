package bridge_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/bridge"
)

// TestLinksOfTwoIssuersNeverMeet has one issuer write what another one's people are known by.
func TestLinksOfTwoIssuersNeverMeet(t *testing.T) {
	t.Parallel()
	const own, other, third = "https://id.saltmere.example", "https://id.north.example", "https://id.south.example"
	seen := map[string]string{}
	for _, c := range []struct{ issuer, claim, value string }{
		{own, "", "4711"}, {other, "", "4711"}, {third, "", "4711"},
		{own, "oid", "4711"}, {other, "oid", "4711"}, {third, "oid", "4711"}, {own, "sub", "4711"},
	} {
		link, err := bridge.OpenIDLink(own, c.issuer, c.claim, c.value)
		require.NoError(t, err)
		who := c.issuer + " " + c.claim + " " + c.value
		assert.Empty(t, seen[link], who)
		seen[link] = who
	}
	for _, forged := range []string{other + "\x1f4711", "\x1f4711", "47\x1f11", "4711\n", "\u0085"} {
		_, err := bridge.OpenIDLink(own, own, "", forged)
		assert.Error(t, err, "%q", forged)
		_, err = bridge.OpenIDLink(own, other, "oid", forged)
		assert.Error(t, err, "%q", forged)
	}
	_, err := bridge.Link("nameid", "v", "urn:x\x1fy")
	assert.Error(t, err)
}

// TestIdentifiersAreRefused that can't tell people apart.
func TestIdentifiersAreRefused(t *testing.T) {
	t.Parallel()
	for _, bad := range []string{"", " ", "\u00a0\u2003", "a\x00b", "a\tb", "\x7f", strings.Repeat("x", 1025)} {
		assert.Error(t, bridge.CheckIdentifier(bad), "%q", bad)
	}
	for _, good := range []string{"0", "mvoss", "Zoë Öberg", strings.Repeat("x", 1024)} {
		assert.NoError(t, bridge.CheckIdentifier(good), good)
	}
}

// TestIssuersChangePlaces: whoever was whose stays theirs, and going back gives the same keys.
func TestIssuersChangePlaces(t *testing.T) {
	t.Parallel()
	const first, second, third = "https://id.saltmere.example", "https://id.north.example", "https://id.south.example"
	for _, issuer := range []string{first, second, third} {
		for _, claim := range []string{"", "oid"} {
			before, err := bridge.OpenIDLink(first, issuer, claim, "4711")
			require.NoError(t, err)
			after, err := bridge.OpenIDLink(second, issuer, claim, "4711")
			require.NoError(t, err)
			assert.Equal(t, after, bridge.Reissued(before, first, second), issuer)
			assert.Equal(t, before, bridge.Reissued(after, second, first), issuer)
		}
	}
}
