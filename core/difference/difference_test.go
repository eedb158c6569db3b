package difference_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"innergate/core/config"
	"innergate/core/difference"
	"innergate/core/saml"
)

// TestFlat lays out what a partner's document can change, and nothing that is ours.
func TestFlat(t *testing.T) {
	t.Parallel()
	p := config.Provider{Name: "Staff", Kind: "saml", Slug: "staff", SAML: &config.SAMLProvider{
		EntityID: "https://id.example",
		SSO:      []saml.Endpoint{{Binding: saml.BindingPost, Location: "https://id.example/sso"}},
	}}
	lines := difference.Flat(p)
	assert.Contains(t, lines, difference.Line{Field: "entity ID", Value: "https://id.example"})
	before := difference.Hash(lines)
	p.Description = "ours alone"
	assert.Equal(t, before, difference.Hash(difference.Flat(p)), "what is ours changes nothing")
	p.SAML.SSO[0].Location += "/new"
	assert.NotEqual(t, before, difference.Hash(difference.Flat(p)))
}

// TestLeaves finds each value by its path.
func TestLeaves(t *testing.T) {
	t.Parallel()
	out := map[string]string{}
	difference.Leaves("", map[string]any{
		"name":  "Ledger",
		"tags":  []any{"a", "b"},
		"rules": []any{map[string]any{"then": "allow"}, map[string]any{"then": "refuse"}},
		"gone":  nil,
	}, out)
	assert.Equal(t, map[string]string{
		"name": "Ledger", "tags": "a, b", "rules[1].then": "allow", "rules[2].then": "refuse",
	}, out)
}
