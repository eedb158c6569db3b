package checkup_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/access"
	"innergate/core/checkup"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/keys"
	"innergate/core/people"
	"innergate/core/saml"
)

var now = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

func certificate(t testing.TB, from time.Time, life time.Duration) config.Certificate {
	t.Helper()
	k, err := keys.Generate(keys.P256)
	require.NoError(t, err)
	der, err := keys.SelfSigned(k, "x", from, life)
	require.NoError(t, err)
	return config.Certificate{Use: "signing", PEM: string(keys.EncodeCertificate(der))}
}

const day = 24 * time.Hour

func sound(t testing.TB) (config.Application, config.Provider) {
	a := config.Application{
		Slug:      "crew-rota",
		Name:      "Crew Rota",
		Reach:     access.Everyone,
		Providers: []string{"staff"},
		StartURL:  "https://rota.saltmere.example/",
		Subject:   config.Subject{Source: "profile", From: "preferred_username"},
		Mapping:   claims.Outgoing(),
		SAML: &config.SAMLApplication{
			EntityID:     "https://rota.saltmere.example/saml",
			ACS:          []saml.Endpoint{{Binding: saml.BindingPost, Location: "https://rota.saltmere.example/acs"}},
			Certificates: []config.Certificate{certificate(t, now, 365*day)},
		},
	}
	p := config.Provider{
		Slug:      "staff",
		Name:      "Saltmere Staff",
		Reach:     access.Everyone,
		Admission: "create",
		Mapping:   claims.Standard(),
		Matching:  &people.Matching{Domains: []string{"saltmere.example"}, Unscoped: true, Groups: []string{"*"}},
		SAML: &config.SAMLProvider{
			EntityID:     "https://id.saltmere.example",
			SSO:          []saml.Endpoint{{Binding: saml.BindingRedirect, Location: "https://id.saltmere.example/sso"}},
			Certificates: []config.Certificate{certificate(t, now, 365*day)},
		},
	}
	require.NoError(t, p.Validate())
	require.NoError(t, a.Validate())
	return a, p
}

func TestSoundPassage(t *testing.T) {
	a, p := sound(t)
	stations, findings := checkup.Application(&a, []config.Provider{p}, "https://gate.saltmere.example/saml/idp", now)
	assert.Empty(t, findings)
	var names []string
	for _, s := range stations {
		names = append(names, s.Name)
		assert.Equal(t, "sound", s.State, s.Name)
		assert.NotEmpty(t, s.Lines)
	}
	assert.Equal(
		t,
		[]string{checkup.ApplicationTrust, checkup.MappingOut, checkup.Access, checkup.Matching, checkup.MappingIn, checkup.ProviderTrust},
		names,
	)
}

// TestFindings breaks one thing at a time and expects the finding at its station.
func TestFindings(t *testing.T) {
	for _, c := range []struct {
		name    string
		change  func(*config.Application, *config.Provider)
		code    string
		station string
		state   string
	}{
		{"certificate ends in 23 days", func(_ *config.Application, p *config.Provider) {
			p.SAML.Certificates = []config.Certificate{certificate(t, now, 23*day)}
		}, "certificate.ends-soon", checkup.ProviderTrust, "attention"},
		{"certificate ends in 50 days", func(_ *config.Application, p *config.Provider) {
			p.SAML.Certificates = []config.Certificate{certificate(t, now, 50*day)}
		}, "certificate.ends-soon", checkup.ProviderTrust, "sound"},
		{"certificate ended", func(a *config.Application, _ *config.Provider) {
			a.SAML.Certificates = []config.Certificate{certificate(t, now.Add(-100*day), 23*day)}
		}, "certificate.expired", checkup.ApplicationTrust, "attention"},
		{"certificate early", func(a *config.Application, _ *config.Provider) {
			a.SAML.Certificates = []config.Certificate{certificate(t, now.Add(10*day), 90*day)}
		}, "certificate.early", checkup.ApplicationTrust, "sound"},
		{"SHA-1", func(_ *config.Application, p *config.Provider) {
			p.SAML.AllowSHA1 = true
		}, "option.sha1", checkup.ProviderTrust, "attention"},
		{"CBC", func(_ *config.Application, p *config.Provider) {
			p.SAML.AllowCBC = true
		}, "option.cbc", checkup.ProviderTrust, "attention"},
		{"plain http", func(a *config.Application, _ *config.Provider) {
			a.SAML.ACS[0].Location = "http://rota.saltmere.example/acs"
		}, "endpoint.http", checkup.ApplicationTrust, "attention"},
		{"no attributes", func(a *config.Application, _ *config.Provider) {
			a.Mapping = nil
		}, "mapping.empty", checkup.MappingOut, "sound"},
		{"no start address", func(a *config.Application, _ *config.Provider) {
			a.StartURL = ""
		}, "application.no-start", checkup.ApplicationTrust, "sound"},
		{"our entity ID for theirs", func(a *config.Application, _ *config.Provider) {
			a.SAML.EntityID = "https://gate.saltmere.example/saml/idp"
		}, "application.our-entity-id", checkup.ApplicationTrust, "broken"},
		{"provider in draft", func(_ *config.Application, p *config.Provider) {
			p.Reach = access.Draft
		}, "provider.draft", checkup.Access, "attention"},
		{"subject that nobody sets", func(a *config.Application, _ *config.Provider) {
			a.Subject.From = "staff_number"
		}, "subject.no-source", checkup.MappingOut, "attention"},
		{"mail format without a mail", func(a *config.Application, _ *config.Provider) {
			a.Subject.Format = saml.FormatEmail
		}, "subject.not-a-mail", checkup.MappingOut, "attention"},
		{"persistent from the profile", func(a *config.Application, _ *config.Provider) {
			a.Subject.Format = saml.FormatPersistent
		}, "subject.persistent-from-profile", checkup.MappingOut, "sound"},
		{"transient NameID", func(_ *config.Application, p *config.Provider) {
			p.SAML.NameIDFormat = saml.FormatTransient
		}, "provider.transient", checkup.Matching, "broken"},
		{"people without names", func(_ *config.Application, p *config.Provider) {
			p.Mapping = claims.Mapping{{Set: "preferred_username", From: claims.Names{"uid"}}}
		}, "mapping.no-name", checkup.MappingIn, "attention"},
		{"no ACS", func(a *config.Application, _ *config.Provider) {
			a.SAML.ACS = nil
		}, "application.incomplete", checkup.ApplicationTrust, "broken"},
		{"no certificate of the provider", func(_ *config.Application, p *config.Provider) {
			p.SAML.Certificates = nil
		}, "provider.incomplete", checkup.ProviderTrust, "broken"},
	} {
		t.Run(c.name, func(t *testing.T) {
			a, p := sound(t)
			c.change(&a, &p)
			stations, findings := checkup.Application(&a, []config.Provider{p}, "https://gate.saltmere.example/saml/idp", now)
			holds(t, stations, findings, c.code, c.station, c.state)
		})
	}
}

// holds looks for a finding at a station, for the station's state, and for every finding to say something.
func holds(t *testing.T, stations []checkup.Station, findings []checkup.Finding, code, station, state string) {
	t.Helper()
	found := false
	for _, f := range findings {
		found = found || f.Code == code && f.Station == station
		assert.NotEmpty(t, f.Title)
		assert.NotEmpty(t, f.Detail)
	}
	assert.True(t, found, "%v", findings)
	at := slices.IndexFunc(stations, func(s checkup.Station) bool { return s.Name == station })
	if assert.GreaterOrEqual(t, at, 0, "there is no station %s", station) {
		assert.Equal(t, state, stations[at].State)
	}
}

// TestNextCertificateQuietsTheWarning holds the successor beside the one that ends.
func TestNextCertificateQuietsTheWarning(t *testing.T) {
	a, p := sound(t)
	p.SAML.Certificates = []config.Certificate{certificate(t, now, 10*day), certificate(t, now, 400*day)}
	_, findings := checkup.Application(&a, []config.Provider{p}, "", now)
	assert.Empty(t, findings)
}

func TestWithoutProvider(t *testing.T) {
	a, _ := sound(t)
	a.Reach, a.Providers = access.Draft, nil
	stations, findings := checkup.Application(&a, nil, "", now)
	require.Len(t, stations, 6)
	assert.Equal(t, "empty", stations[5].State)
	require.Len(t, findings, 1)
	assert.Equal(t, "application.incomplete", findings[0].Code)
}

// TestWhatNoProviderFeeds finds rules of an application that no provider of it can fill, and messages that nobody can check.
func TestWhatNoProviderFeeds(t *testing.T) {
	t.Parallel()
	provider := config.Provider{Slug: "quay", Name: "Quay", Kind: config.KindSAML, SAML: &config.SAMLProvider{},
		Mapping: claims.Mapping{{Set: "given_name", From: claims.Names{"gn"}}, {Set: "email", From: claims.Names{"mail"}}}}
	app := config.Application{Slug: "rota", Name: "Rota", Kind: config.KindSAML, SAML: &config.SAMLApplication{}, Mapping: claims.Mapping{
		{Set: "mail", From: claims.Names{"email"}},
		{Set: "full", From: claims.Names{"name"}},
		{Set: "proven", From: claims.Names{"email_verified"}},
		{Set: "member", From: claims.Names{people.Memberships}},
		{Set: "again", From: claims.Names{"mail"}},
		{Set: "fixed", Value: "x"},
		{Set: "cost", From: claims.Names{"cost_centre"}},
		{Set: "badge", From: claims.Names{"badge", "employee_number"}, Required: true},
	}}
	got := map[string]string{}
	_, findings := checkup.Application(&app, []config.Provider{provider}, "urn:gate", time.Now())
	for _, f := range findings {
		if f.Code == "mapping.no-source" {
			got[f.Title] = f.Severity
		}
	}
	assert.Equal(
		t,
		map[string]string{"Nothing sets the value for cost": checkup.Remark, "Nothing sets the value for badge": checkup.Broken},
		got,
	)

	logout := func(change func(*config.SAMLApplication)) bool {
		s := config.SAMLApplication{SLO: []saml.Endpoint{{Location: "https://rota.example/slo"}}}
		change(&s)
		rota := config.Application{Slug: "rota", Name: "Rota", Kind: config.KindSAML, SAML: &s}
		_, findings := checkup.Application(&rota, nil, "urn:gate", time.Now())
		return slices.ContainsFunc(findings, func(f checkup.Finding) bool { return f.Code == "logout.no-certificate" })
	}
	assert.True(t, logout(func(*config.SAMLApplication) {}))
	assert.False(t, logout(func(s *config.SAMLApplication) { s.UnsignedLogout = true }))
	assert.False(t, logout(func(s *config.SAMLApplication) { s.SLO = nil }))
}
