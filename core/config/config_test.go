package config_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/access"
	"innergate/core/config"
	"innergate/core/saml"
)

func TestDraftMayBeEmpty(t *testing.T) {
	a := config.Application{Slug: "crew-rota", Name: "Crew Rota"}
	require.NoError(t, a.Validate())
	assert.Equal(t, access.Draft, a.Reach)
	assert.Equal(t, "assertion", a.SAML.Sign)
	assert.Len(t, a.Missing(), 3)
	p := config.Provider{Slug: "staff", Name: "Saltmere Staff"}
	require.NoError(t, p.Validate())
	assert.Equal(t, "refuse", p.Admission)
	assert.Len(t, p.Missing(), 3)
}

func TestValidateNamesTheField(t *testing.T) {
	for field, change := range map[string]func(*config.Application){
		"slug":                 func(a *config.Application) { a.Slug = "Crew Rota" },
		"name":                 func(a *config.Application) { a.Name = " " },
		"kind":                 func(a *config.Application) { a.Kind = "gopher" },
		"reach":                func(a *config.Application) { a.Reach = access.Everyone },
		"startUrl":             func(a *config.Application) { a.StartURL = "rota.saltmere.example" },
		"subject.source":       func(a *config.Application) { a.Subject.Source = "tea leaves" },
		"saml.entityId":        func(a *config.Application) { a.SAML.EntityID = " x" },
		"saml.acs[0].location": func(a *config.Application) { a.SAML.ACS = []saml.Endpoint{{Location: "javascript:alert(1)"}} },
		"saml.acs[1].index": func(a *config.Application) {
			n := 1
			a.SAML.ACS = []saml.Endpoint{{Location: "https://a.example/1", Index: &n}, {Location: "https://a.example/2", Index: &n}}
		},
		"saml.certificates[0].pem": func(a *config.Application) { a.SAML.Certificates = []config.Certificate{{PEM: "hello"}} },
		"saml.sign":                func(a *config.Application) { a.SAML.Sign = "nothing" },
		"saml.encrypt":             func(a *config.Application) { a.SAML.Encrypt = "assertion" },
		"saml.signatureAlgorithm": func(a *config.Application) {
			a.SAML.SignatureAlgorithm = "http://www.w3.org/2000/09/xmldsig#rsa-sha1"
		},
		"saml.clockSkewSeconds": func(a *config.Application) { a.SAML.ClockSkewSeconds = 3600 },
	} {
		a := config.Application{Slug: "crew-rota", Name: "Crew Rota", SAML: &config.SAMLApplication{}}
		change(&a)
		var problems config.Problems
		require.ErrorAs(t, a.Validate(), &problems, field)
		assert.Equal(t, field, problems[0].Field)
	}
}

func TestSlug(t *testing.T) {
	assert.Equal(t, "crew-rota-2", config.Slug("  Crew Rota (2) "))
	assert.Equal(t, "", config.Slug("日本"))
}

// TestOffers names a value of another kind and offers its right place.
func TestOffers(t *testing.T) {
	for name, c := range map[string]struct {
		p     config.OIDCProvider
		offer config.Offer
	}{
		"a discovery URL for an issuer": {config.OIDCProvider{Issuer: "https://id.northquay.example/.well-known/openid-configuration"},
			config.Offer{Field: "oidc.issuer", Value: "https://id.northquay.example"}},
		"a missing scheme": {config.OIDCProvider{TokenEndpoint: "id.northquay.example/token"},
			config.Offer{Field: "oidc.tokenEndpoint", Value: "https://id.northquay.example/token"}},
		"white space": {config.OIDCProvider{UserInfoEndpoint: " https://id.northquay.example/me "},
			config.Offer{Field: "oidc.userinfoEndpoint", Value: "https://id.northquay.example/me"}},
		"white space in a client ID": {config.OIDCProvider{ClientID: "gate "}, config.Offer{Field: "oidc.clientId", Value: "gate"}},
		"a whole request": {config.OIDCProvider{AuthorizationEndpoint: "https://id.northquay.example/a?client_id=x"},
			config.Offer{Field: "oidc.authorizationEndpoint", Value: "https://id.northquay.example/a"}},
		"discovery for a client ID": {config.OIDCProvider{ClientID: "https://id.northquay.example/.well-known/openid-configuration"},
			config.Offer{Field: "oidc.issuer", Value: "https://id.northquay.example"}},
	} {
		t.Run(name, func(t *testing.T) {
			p := config.Provider{Slug: "x", Name: "X", Kind: "oidc", OIDC: &c.p}
			var problems config.Problems
			require.ErrorAs(t, p.Validate(), &problems)
			require.Len(t, problems, 1)
			require.NotNil(t, problems[0].Offer, problems[0].Message)
			assert.Equal(t, c.offer, *problems[0].Offer)
		})
	}
}
