package claims_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/claims"
)

func proposal(t *testing.T, list []claims.Suggestion, set string) claims.Suggestion {
	t.Helper()
	i := slices.IndexFunc(list, func(s claims.Suggestion) bool { return s.Rule.Set == set })
	require.GreaterOrEqual(t, i, 0, "nothing proposes %s", set)
	return list[i]
}

func TestSuggestInbound(t *testing.T) {
	sample := claims.Bag{
		"urn:oid:0.9.2342.19200300.100.1.3": {
			" Mira.Voss@Saltmere.example",
		}, "mail": {"other@saltmere.example"}, "Given-Name": {"Mira"},
		"http://schemas.xmlsoap.org/ws/2005/05/identity/claims/surname": {"Voss"},
		"https://id.saltmere.example/claims/groups": {
			"CN=ferry-crew,OU=Crew,DC=saltmere",
			"CN=staff,OU=All,DC=saltmere",
		}, "shoeSize": {"41"}, "USERID": {"mvoss"},
	}
	got := claims.SuggestInbound(sample, nil)
	mail := proposal(t, got.Items, "email")
	assert.Equal(t, claims.Certain, mail.Sure)
	assert.Equal(t, claims.Names{"urn:oid:0.9.2342.19200300.100.1.3"}, mail.Rule.From, "the most standard name goes first")
	assert.Equal(t, []string{"mira.voss@saltmere.example"}, mail.Values)
	assert.Equal(t, claims.Likely, proposal(t, got.Items, "given_name").Sure)
	assert.Equal(t, claims.Certain, proposal(t, got.Items, "family_name").Sure)
	assert.Equal(t, []string{"ferry-crew", "staff"}, proposal(t, got.Items, "groups").Values, "names are taken out of directory paths")
	assert.Equal(t, []string{"mvoss"}, proposal(t, got.Items, "preferred_username").Values)
	assert.Equal(t, []string{"mail", "shoeSize"}, got.Left)

	// What is there is not proposed again; what is there by another way is shown as such.
	held := claims.Mapping{{Set: "given_name", From: claims.Names{"Given-Name"}}, {Set: "email", From: claims.Names{"mail"}}}
	again := claims.SuggestInbound(sample, held)
	assert.False(t, slices.ContainsFunc(again.Items, func(s claims.Suggestion) bool { return s.Rule.Set == "given_name" }))
	assert.Equal(t, 2, proposal(t, again.Items, "email").Now)

	// Nothing but the values tells.
	guess := claims.SuggestInbound(claims.Bag{"x1": {"zoe.oberg@saltmere.example"}, "x2": {"a", "b"}}, nil)
	assert.Equal(t, claims.Guess, proposal(t, guess.Items, "email").Sure)
	assert.Equal(t, claims.Guess, proposal(t, guess.Items, "groups").Sure)
}

func TestSuggestOutbound(t *testing.T) {
	got := claims.SuggestOutbound(
		[]claims.Rule{{Set: "urn:oid:2.5.4.42"}, {Set: "FirstName"}, {Set: "Role"}, {Set: "berth"}, {Set: "mail"}},
		claims.Mapping{{Set: "mail", From: claims.Names{"email"}}},
	)
	oid := proposal(t, got.Items, "urn:oid:2.5.4.42")
	assert.Equal(t, claims.Names{"given_name"}, oid.Rule.From)
	assert.Equal(t, "givenName", oid.Rule.FriendlyName)
	assert.Equal(t, []string{"Mira"}, oid.Values)
	assert.Equal(t, claims.Names{"given_name"}, proposal(t, got.Items, "FirstName").Rule.From)
	assert.Equal(t, claims.Names{"groups"}, proposal(t, got.Items, "Role").Rule.From)
	assert.Equal(t, []string{"berth"}, got.Left)
	assert.Len(t, got.Items, 3)
}

// TestNamesMeanOneThing holds the table to its promise: no name stands for two things.
func TestNamesMeanOneThing(t *testing.T) {
	seen := map[string]string{}
	for _, a := range claims.Attributes() {
		for _, n := range a.Names() {
			if other := seen[n]; other != "" {
				t.Errorf("%s stands for %s and for %s", n, other, a.Claim)
			}
			seen[n] = a.Claim
		}
	}
	assert.Equal(t, "mail address", claims.InWords("E_MAIL"))
	assert.Equal(t, "shoe size", claims.InWords("shoe size"))
}
