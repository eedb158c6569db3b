package bridge_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/bridge"
	"innergate/core/claims"
)

// TestEvidenceIsOfOneProviderAndOnePerson proves things for one person, and asks for them of another.
func TestEvidenceIsOfOneProviderAndOnePerson(t *testing.T) {
	t.Parallel()
	at := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	bare := bridge.Vouch("p1", bridge.Identity{Subject: "s"}, at)
	assert.False(t, bare.Second("mira"))
	assert.False(t, bare.Agreed(""), "somebody who is not kept has not agreed by having no ID")
	e := bare.WithSecond("mira", at).WithAgreement("mira", at)
	assert.True(t, e.Second("mira"))
	assert.False(t, e.Second("jonas"))
	assert.True(t, e.Agreed("mira"))
	assert.False(t, e.Agreed(""))
	assert.False(t, bare.Second("mira"), "what is added to a copy is not added to the other")
	_, confirmed := e.Profile()
	assert.False(t, confirmed)
	e = e.WithProfile(claims.Bag{})
	added, confirmed := e.Profile()
	assert.True(t, confirmed)
	assert.Empty(t, added)

	text, err := json.Marshal(e)
	require.NoError(t, err)
	var again bridge.Evidence
	require.NoError(t, json.Unmarshal(text, &again))
	assert.Equal(t, e, again)
	assert.Equal(t, "p1", again.Provider())
	assert.Equal(t, "s", again.Who().Subject)
	assert.True(t, again.At().Equal(at))
	for _, nobodys := range []string{`{}`, `{"who":{"subject":"s"}}`, `null`, `[]`} {
		var e bridge.Evidence
		if err := json.Unmarshal([]byte(nobodys), &e); err == nil {
			assert.Empty(t, e.Provider())
			assert.Empty(t, e.Who().Subject, nobodys)
		}
	}
}
