package bridge_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"innergate/core/bridge"
	"innergate/core/saml"
)

const (
	password = "urn:oasis:names:tc:SAML:2.0:ac:classes:PasswordProtectedTransport"
	token    = "urn:oasis:names:tc:SAML:2.0:ac:classes:TimeSyncToken"
)

// TestContextsAcrossTheBridge holds what an application asks for in one protocol against what a provider says in the other.
func TestContextsAcrossTheBridge(t *testing.T) {
	t.Parallel()
	levels := []bridge.Meaning{{Says: "2", Means: token}, {Says: "2", Means: password}, {Says: "1", Means: password}}
	methods := []bridge.Meaning{{AMR: []string{"otp", "pwd"}, Means: token}, {AMR: []string{"pwd"}, Means: password}}
	silent := []bridge.Meaning{{Means: password}}
	for _, c := range []struct {
		name       string
		table      []bridge.Meaning
		comparison string
		wanted     string
		asked      []string // in the provider's words
		says       string
		amr        []string
		met        bool
		told       string
	}{
		{"a level that stands for it", levels, "exact", password, []string{"2", "1"}, "1", nil, true, password},
		{"a higher level that stands for it, too", levels, "exact", password, []string{"2", "1"}, "2", nil, true, password},
		{"a level that is too low", levels, "exact", token, []string{"2"}, "1", nil, false, password},
		{"at least so strong", levels, "minimum", password, []string{"2", "1"}, "2", nil, true, token},
		{"stronger", levels, "better", password, []string{"2"}, "2", nil, true, token},
		{"not stronger", levels, "better", password, []string{"2"}, "1", nil, false, password},
		{"by the methods", methods, "exact", token, nil, "", []string{"pwd", "otp"}, true, token},
		{"by some of the methods", methods, "exact", token, nil, "", []string{"pwd"}, false, password},
		{"a provider that says nothing", silent, "exact", password, nil, "", nil, true, password},
		{"which does not stand for all", silent, "exact", token, []string{token}, "", nil, false, password},
		{"what the table does not know", levels, "exact", "urn:x", []string{"urn:x"}, "urn:x", nil, true, "urn:x"},
		{"without a table", nil, "exact", password, []string{password}, password, nil, true, password},
		{"without a table, and none said", nil, "exact", password, []string{password}, "", nil, false, ""},
	} {
		wanted := &saml.RequestedContext{Comparison: c.comparison, Classes: []string{c.wanted}}
		var asked []string
		if a := bridge.AskedOf(c.table, wanted); a != nil {
			asked = a.Classes
		}
		assert.Equal(t, c.asked, asked, c.name)
		who := bridge.Identity{Context: c.says, AMR: c.amr, Means: bridge.Meanings(c.table, c.says, c.amr)}
		assert.Equal(t, c.met, who.Meets(wanted), c.name)
		assert.Equal(t, c.told, who.Told(wanted), c.name)
	}
}
