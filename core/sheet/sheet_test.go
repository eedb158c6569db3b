package sheet_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"innergate/core/claims"
	"innergate/core/saml"
	"innergate/core/sheet"
)

func TestSpelled(t *testing.T) {
	t.Parallel()
	hex := strings.Repeat("AB", 32)
	assert.Equal(t, strings.Repeat("ab:", 31)+"ab", sheet.Spelled(hex))
	assert.Equal(t, sheet.Spelled(hex), sheet.Spelled(strings.ToLower(strings.Join(strings.SplitAfter(hex, "AB"), " "))))
	assert.Equal(t, "no fingerprint", sheet.Spelled("no fingerprint"))
}

func TestMeaningOf(t *testing.T) {
	t.Parallel()
	assert.Equal(t, `always "crew"`, sheet.MeaningOf(claims.Rule{Set: "x", Value: "crew"}))
	assert.Equal(t, "computed: a + b", sheet.MeaningOf(claims.Rule{Set: "x", Expr: "a + b"}))
	assert.NotEmpty(t, sheet.MeaningOf(claims.Rule{Set: "x", From: claims.Names{"email"}}))
}

// TestScopes knows by which scope a claim is asked for (OpenID Connect Core 1.0, section 5.4).
func TestScopes(t *testing.T) {
	t.Parallel()
	assert.Equal(t, "email", sheet.ScopeOf("email_verified"))
	assert.Equal(t, "profile", sheet.ScopeOf("given_name"))
	assert.Empty(t, sheet.ScopeOf("harbour"))
	assert.Equal(t, "openid email", sheet.ScopesText([]string{"openid", "email"}))
}

func TestNameFormatOf(t *testing.T) {
	t.Parallel()
	assert.Equal(t, saml.NameFormatURI, sheet.NameFormatOf("urn:oid:2.5.4.42"))
	assert.Equal(t, saml.NameFormatBasic, sheet.NameFormatOf("givenName"))
}

func TestHandedOut(t *testing.T) {
	t.Parallel()
	facts := sheet.HandedOut(&saml.Entity{EntityID: "https://gate.example/saml/sp", Roles: []saml.Role{{
		Kind:      saml.RoleSP,
		Endpoints: []saml.Endpoint{{Service: saml.ServiceACS, Binding: saml.BindingPost, Location: "https://gate.example/acs"}},
	}}})
	assert.Equal(t, "entity ID", facts[0].Name)
	assert.Equal(t, "https://gate.example/acs", facts[1].Value)
	assert.Contains(t, facts[1].Name, "HTTP-POST")
}
