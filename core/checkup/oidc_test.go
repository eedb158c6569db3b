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
	"innergate/core/people"
)

func soundOIDC(t testing.TB) (config.Application, config.Provider) {
	a := config.Application{
		Slug:      "cargo-ledger",
		Name:      "Cargo Ledger",
		Kind:      "oidc",
		Reach:     access.Everyone,
		Providers: []string{"northquay"},
		StartURL:  "https://ledger.saltmere.example/",
		Mapping:   claims.OutgoingOIDC(),
		OIDC: &config.OIDCApplication{
			RedirectURIs: []string{"https://ledger.saltmere.example/answer"},
			Scopes:       []string{"openid", "email", "groups"},
		},
	}
	p := config.Provider{
		Slug:      "northquay",
		Name:      "Northquay Stevedores",
		Kind:      "oidc",
		Reach:     access.Everyone,
		Admission: "create",
		Mapping:   claims.IncomingOIDC(),
		Matching: &people.Matching{Domains: []string{"northquay.example"}, Scopes: []string{"northquay.example"},
			Groups: []string{"quay-*"}},
		OIDC: &config.OIDCProvider{
			Issuer:                "https://id.northquay.example",
			AuthorizationEndpoint: "https://id.northquay.example/a",
			TokenEndpoint:         "https://id.northquay.example/t",
			KeysURL:               "https://id.northquay.example/k",
			ClientID:              "gate",
		},
	}
	require.NoError(t, p.Validate())
	require.NoError(t, a.Validate())
	return a, p
}

func TestFindingsOfOpenID(t *testing.T) {
	a, p := soundOIDC(t)
	stations, findings := checkup.Application(&a, []config.Provider{p}, "", now)
	assert.Empty(t, findings)
	require.Len(t, stations, 6)
	assert.Equal(t, []string{"1 redirect URI", "client secret"}, stations[0].Lines)
	for name, c := range map[string]struct {
		change        func(*config.Application, *config.Provider)
		code, station string
		state         string
	}{
		"no PKCE": {func(a *config.Application, _ *config.Provider) {
			a.OIDC.WithoutPKCE = true
		}, "option.no-pkce", checkup.ApplicationTrust, "attention"},
		"device grant": {func(a *config.Application, _ *config.Provider) {
			a.OIDC.DeviceGrant = true
		}, "option.device", checkup.ApplicationTrust, "sound"},
		"a reserved claim": {func(a *config.Application, _ *config.Provider) {
			a.Mapping = append(a.Mapping, claims.Rule{Set: "sub", From: claims.Names{"email"}})
		}, "mapping.reserved", checkup.MappingOut, "attention"},
		"a scope for nothing": {func(a *config.Application, _ *config.Provider) {
			a.Mapping = a.Mapping[:2]
		}, "scope.nothing", checkup.MappingOut, "sound"},
		"no redirect URI": {func(a *config.Application, _ *config.Provider) {
			a.OIDC.RedirectURIs = nil
		}, "application.incomplete", checkup.ApplicationTrust, "broken"},
		"no TLS": {func(_ *config.Application, p *config.Provider) {
			p.OIDC.TokenEndpoint = "http://id.northquay.example/t"
		}, "endpoint.http", checkup.ProviderTrust, "attention"},
		"a method unlisted": {func(_ *config.Application, p *config.Provider) {
			p.OIDC.AuthMethods, p.OIDC.Authentication = []string{"private_key_jwt"}, "client_secret_post"
		}, "provider.auth-method", checkup.ProviderTrust, "attention"},
		"nothing proven": {func(_ *config.Application, p *config.Provider) {
			p.OIDC.Authentication = "none"
		}, "option.public-client", checkup.ProviderTrust, "sound"},
		"no client ID": {func(_ *config.Application, p *config.Provider) {
			p.OIDC.ClientID = ""
		}, "provider.incomplete", checkup.ProviderTrust, "broken"},
		"plain OAuth": {func(_ *config.Application, p *config.Provider) {
			p.Kind, p.OIDC.UserInfoEndpoint, p.OIDC.SubjectFrom = "oauth2", "https://id.northquay.example/u", "id"
		}, "provider.no-proof", checkup.ProviderTrust, "sound"},
	} {
		t.Run(name, func(t *testing.T) {
			a, p := soundOIDC(t)
			c.change(&a, &p)
			stations, findings := checkup.Application(&a, []config.Provider{p}, "", now)
			holds(t, stations, findings, c.code, c.station, c.state)
		})
	}
}

// TestSecretsEnd looks at client secrets 61, 50, 20 and 5 days before their end, and after it.
func TestSecretsEnd(t *testing.T) {
	a, p := soundOIDC(t)
	in := func(days int) *time.Time { at := now.Add(time.Duration(days) * 24 * time.Hour); return &at }
	for _, c := range []struct {
		list           []checkup.Secret
		theirs, ours   string
		theirSev, ourS string
	}{
		{nil, "provider.secret-none", "application.secret-none", "broken", "broken"},
		{[]checkup.Secret{{}}, "", "", "", ""},
		{[]checkup.Secret{{Ends: in(61)}}, "", "", "", ""},
		{[]checkup.Secret{{Ends: in(50)}}, "secret.ends-soon", "application.secret-ends", "remark", "remark"},
		{[]checkup.Secret{{Ends: in(20)}}, "secret.ends-soon", "application.secret-ends", "attention", "attention"},
		{[]checkup.Secret{{Ends: in(5)}}, "secret.ends-soon", "application.secret-ends", "broken", "broken"},
		{[]checkup.Secret{{Ends: in(-2)}}, "secret.expired", "application.secret-none", "broken", "broken"},
	} {
		check := func(findings []checkup.Finding, code, severity string) {
			t.Helper()
			if code == "" {
				assert.Empty(t, findings)
				return
			}
			require.Len(t, findings, 1)
			assert.Equal(t, []string{code, severity}, []string{findings[0].Code, findings[0].Severity})
		}
		check(checkup.TheirSecrets(&p, c.list, now), c.theirs, c.theirSev)
		check(checkup.OurSecrets(&a, c.list, now), c.ours, c.ourS)
	}
	next := checkup.TheirSecrets(&p, []checkup.Secret{{Ends: in(20)}, {Next: true}}, now)
	require.Len(t, next, 1)
	assert.Equal(t, "remark", next[0].Severity, "the next one is stored already")
	tried := checkup.TheirSecrets(&p, []checkup.Secret{{}, {Next: true, Refused: true}}, now)
	require.Len(t, tried, 1)
	assert.Equal(t, "provider.secret-refused", tried[0].Code)
	p.OIDC.Authentication, a.OIDC.Authentication = "private_key_jwt", "none"
	assert.Empty(t, checkup.TheirSecrets(&p, nil, now))
	assert.Empty(t, checkup.OurSecrets(&a, nil, now))
}

// TestLocalhostIsToldOf takes localhost as a redirect host, and says what is better.
func TestLocalhostIsToldOf(t *testing.T) {
	t.Parallel()
	for uri, told := range map[string]bool{
		"http://localhost:8080/answer":          true,
		"http://127.0.0.1/answer":               false,
		"https://localhost.saltmere.example/in": false,
	} {
		client := config.OIDCApplication{RedirectURIs: []string{uri}}
		app := config.Application{Slug: "log", Name: "Log", Kind: config.KindOIDC, OIDC: &client}
		_, findings := checkup.Application(&app, nil, "urn:gate", time.Now())
		got := slices.ContainsFunc(findings, func(f checkup.Finding) bool { return f.Code == "redirect.localhost" })
		assert.Equal(t, told, got, uri)
	}
}
