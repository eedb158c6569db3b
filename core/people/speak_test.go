package people_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"innergate/core/claims"
	"innergate/core/people"
)

// TestAProviderSpeaksForItsOwnAlone holds what providers say of their people against what they may speak for.
func TestAProviderSpeaksForItsOwnAlone(t *testing.T) {
	t.Parallel()
	mail := func(v string) claims.Bag { return claims.Bag{people.Mail: {v}} }
	proven, unproven := claims.Bag{"email_verified": {"true"}}, claims.Bag{"email_verified": {"false"}}
	partner := &people.Matching{Domains: []string{"northquay.example"}, Scopes: []string{"northquay.example"},
		Groups: []string{"quay-*", "tally"}}
	public := &people.Matching{MailElsewhere: true}
	company := &people.Matching{Domains: []string{"saltmere.example"}, Unscoped: true, Groups: []string{"*"}}
	for _, c := range []struct {
		name        string
		m           *people.Matching
		came, proof claims.Bag
		said        claims.Bag
	}{
		{"its own domain", partner, mail("a@northquay.example"), nil, mail("a@northquay.example")},
		{"its own, and not proven", partner, mail("a@northquay.example"), unproven, claims.Bag{}},
		{"a foreign domain", partner, mail("a@saltmere.example"), proven, claims.Bag{}},
		{"a subdomain is another one", partner, mail("a@x.northquay.example"), proven, claims.Bag{}},
		{"without any settings", nil, claims.Bag{"email": {"a@b.example"}, "name": {"A"}, "groups": {"x"}}, proven,
			claims.Bag{"name": {"A"}}},
		{"a public provider, elsewhere", public, mail("a@postbox.example"), proven, mail("a@postbox.example")},
		{"a public provider, not proven", public, mail("a@postbox.example"), nil, claims.Bag{}},
		{"a public provider, an employee's", public, mail("a@saltmere.example"), proven, claims.Bag{}},
		{"a name without scope", partner, claims.Bag{people.Username: {"jhale"}}, nil, claims.Bag{}},
		{
			"a scoped name", partner, claims.Bag{people.Username: {"jhale@northquay.example"}}, nil,
			claims.Bag{people.Username: {"jhale@northquay.example"}},
		},
		{"a name of another scope", partner, claims.Bag{people.ExternalID: {"1@saltmere.example"}}, nil, claims.Bag{}},
		{"the company's names", company, claims.Bag{people.Username: {"jhale"}}, nil, claims.Bag{people.Username: {"jhale"}}},
		{"groups of its own", partner, claims.Bag{"groups": {"quay-crane", "ferry-office", "tally"}}, nil,
			claims.Bag{"groups": {"quay-crane", "tally"}}},
		{"any groups", company, claims.Bag{"groups": {"ferry-office"}}, nil, claims.Bag{"groups": {"ferry-office"}}},
	} {
		said, unspoken := c.m.Say(c.came, c.proof, func(d string) bool { return d == "saltmere.example" || d == "northquay.example" })
		assert.Equal(t, c.said, said, c.name)
		gone := 0
		for _, u := range unspoken {
			gone += len(u.Values)
			assert.NotEmpty(t, u.May)
		}
		kept := 0
		for name := range said {
			kept += len(said[name])
		}
		all := 0
		for name := range c.came {
			all += len(c.came[name])
		}
		assert.Equal(t, all, kept+gone, "%s: nothing is lost without being told", c.name)
	}
	assert.Equal(t, []string{"email", "groups"},
		(&people.Matching{Unscoped: true}).Silent([]string{"email", "groups", "preferred_username", "name"}))
	assert.ErrorContains(t, (&people.Matching{Groups: []string{"a*b"}}).Check(), "how values begin")
}
