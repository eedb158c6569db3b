package people_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"innergate/core/claims"
	"innergate/core/people"
)

// TestOutbound is what a mapping sees: the profile, and of what the gate knows only that, not what a profile says of it.
func TestOutbound(t *testing.T) {
	t.Parallel()
	profile := claims.Bag{"email": {"m@x.example"}, people.Memberships: {"forged"}, people.PersonType: {"forged"},
		people.AssignedRoles: {"forged"}}
	out := people.Outbound(profile, []string{"crew"}, "staff", []string{"purser"})
	assert.Equal(t, claims.Bag{"email": {"m@x.example"}, people.Memberships: {"crew"}, people.PersonType: {"staff"},
		people.AssignedRoles: {"purser"}}, out)
	assert.Equal(t, claims.Bag{"email": {"m@x.example"}}, people.Outbound(profile, nil, "", nil))
	assert.Equal(t, []string{"forged"}, profile[people.Memberships], "the profile itself stays")
}

// TestProvenBy lets a provider's word about a mail address count for that address alone.
func TestProvenBy(t *testing.T) {
	t.Parallel()
	received := claims.Bag{"email": {"Mira@x.example"}, "email_verified": {"true"}}
	assert.Equal(t, []string{"true"}, people.ProvenBy(claims.Bag{"email": {"mira@x.example"}}, received)["email_verified"])
	assert.Empty(t, people.ProvenBy(claims.Bag{"email": {"other@x.example"}}, received)["email_verified"])
	assert.Equal(t, []string{"false"},
		people.ProvenBy(claims.Bag{"email": {"mira@x.example"}, "email_verified": {"false"}}, received)["email_verified"])
}

func TestShownName(t *testing.T) {
	t.Parallel()
	for name, profile := range map[string]claims.Bag{
		"Mira Voss":   {"name": {"Mira Voss"}, "email": {"m@x.example"}},
		"Zoë Öberg":   {"given_name": {"Zoë"}, "family_name": {"Öberg"}},
		"m@x.example": {"email": {"m@x.example"}, "preferred_username": {"m"}},
		"m":           {"preferred_username": {"m"}},
		"fallback":    {},
	} {
		assert.Equal(t, name, people.ShownName(profile, "fallback"))
	}
}

func TestChangedByHand(t *testing.T) {
	t.Parallel()
	sources := map[string]string{"email": "staff", "phone": "staff"}
	changed := people.ChangedByHand(claims.Bag{"email": {"a"}, "phone": {"1"}}, claims.Bag{"email": {"b"}, "name": {"M"}}, sources)
	assert.Equal(t, []string{"email", "name", "phone"}, changed)
	assert.Equal(t, map[string]string{"email": people.ByHand, "name": people.ByHand}, sources)
}

// TestNameFromParts says a person's full name where the provider said its parts alone.
func TestNameFromParts(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name string
		in   claims.Bag
		full string
	}{
		{"both parts", claims.Bag{"given_name": {"Lene"}, "family_name": {"Aas"}}, "Lene Aas"},
		{"one part", claims.Bag{"family_name": {"Aas"}}, "Aas"},
		{"said itself", claims.Bag{"given_name": {"Lene"}, "family_name": {"Aas"}, "name": {"L. Aas"}}, "L. Aas"},
		{"nothing", claims.Bag{}, ""},
	} {
		assert.Equal(t, c.full, people.Outbound(c.in, nil, "", nil).First("name"), c.name)
	}
}
