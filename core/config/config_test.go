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
		"saml.signatureAlgorithm":  func(a *config.Application) { a.SAML.SignatureAlgorithm = "http://www.w3.org/2000/09/xmldsig#rsa-sha1" },
		"saml.clockSkewSeconds":    func(a *config.Application) { a.SAML.ClockSkewSeconds = 3600 },
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
