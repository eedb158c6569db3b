package address_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"innergate/core/address"
)

func TestOrigin(t *testing.T) {
	t.Parallel()
	for text, origin := range map[string]string{
		"https://a.example:8443/x?y#z": "https://a.example:8443",
		"http://a.example":             "http://a.example",
		"urn:a":                        "",
		"javascript:alert(1)":          "",
		"//a.example":                  "",
		"ftp://a.example":              "",
		"%":                            "",
	} {
		assert.Equal(t, origin, address.Origin(text), text)
	}
}

func TestHostAndNetwork(t *testing.T) {
	t.Parallel()
	assert.Equal(t, "a.example", address.Host("https://a.example:8443/x"))
	assert.Equal(t, "urn:a", address.Host("urn:a"))
	for _, one := range []string{"2001:db8:1:2:3:4:5:6", "2001:db8:1:2::1", "2001:db8:1:2::ffff:0:1", "2001:DB8:1:2::9"} {
		assert.Equal(t, "2001:db8:1:2::/64", address.Network(one), "a network counts, not each of its addresses")
	}
	assert.Equal(t, "2001:db8::/64", address.Network("2001:db8::7"))
	assert.Equal(t, "192.0.2.7", address.Network("::ffff:192.0.2.7"), "an IPv4 address in other clothes")
	assert.Equal(t, "unknown", address.Network("unknown"))
	assert.Equal(t, "192.0.2.7", address.Network("192.0.2.7"))
	assert.True(t, address.PublicDomain("fastmail.example"))
	assert.False(t, address.PublicDomain("saltmere.example"))
}
