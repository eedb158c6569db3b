package server_test

import (
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/client"
	"innergate/core/bridge"
	"innergate/core/config"
	"innergate/core/saml"
	"innergate/demo"
	"innergate/standin"
)

// TestContextDemandedOfAProviderThatSaysNone has an application demand a context as its library does by default, of a provider
// that says no acr: as it is, preferred, ignored, and with a table that says what the provider's sign-ins stand for.
func TestContextDemandedOfAProviderThatSaysNone(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	w.Rota.Behave(standin.ApplicationHabits{Context: saml.ContextPassword})
	change(t, w, func(a *config.Application) { a.Providers = []string{"northquay-stevedores"} })
	table := func(lines ...bridge.Meaning) {
		p, err := w.Client().Provider(ctx, "northquay-stevedores")
		require.NoError(t, err)
		changed := p.Provider
		changed.Contexts = lines
		_, err = w.Client().PutProvider(ctx, changed, p.Revision)
		require.NoError(t, err)
	}
	signs := func() (outcome, code, told string) {
		b := demo.NewWalker(nil)
		require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "ivo.tamm"))
		x := newest(t, w)
		return x.Outcome, x.Code, b.Inner("context")
	}
	holds := func(name, outcome, code, told string) {
		t.Helper()
		gotOutcome, gotCode, gotTold := signs()
		assert.Equal(t, []string{outcome, code, told}, []string{gotOutcome, gotCode, gotTold}, name)
	}
	holds("demanded", "refused", "oidc.context-unmet", "")
	_, err := w.Client().Checkup(ctx)
	require.NoError(t, err)
	found, err := w.Client().Findings(ctx, client.Page{Filters: map[string]string{"code": "seen.context-unmet"}})
	require.NoError(t, err)
	assert.NotEmpty(t, found.Items, "the engineer is told after the first such request")

	change(t, w, func(a *config.Application) { a.Contexts = config.ContextsPrefer })
	holds("preferred", "signed-in", "", "unspecified")
	change(t, w, func(a *config.Application) { a.Contexts = config.ContextsIgnore })
	holds("ignored", "signed-in", "", "unspecified")
	change(t, w, func(a *config.Application) { a.Contexts = config.ContextsDemand })
	holds("demanded again", "refused", "oidc.context-unmet", "")
	table(bridge.Meaning{Means: saml.ContextPassword})
	holds("by the table", "signed-in", "", "PasswordProtectedTransport")
	table(bridge.Meaning{AMR: []string{"mfa"}, Means: saml.ContextPassword})
	holds("by another line of it", "refused", "oidc.context-unmet", "")
	w.Northquay.SayContexts(true)
	table(bridge.Meaning{Says: "1", Means: saml.ContextPassword})
	holds("asked for in the provider's own words", "signed-in", "", "PasswordProtectedTransport")
}

// TestContextsTheOtherWay has an OpenID Connect application demand an acr value that a SAML provider says as a context class.
func TestContextsTheOtherWay(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	w.Ledger.Ask = url.Values{"claims": {`{"id_token":{"acr":{"essential":true,"values":["silver"]}}}`}}
	signs := func() (*demo.Walker, string) {
		b := demo.NewWalker(nil)
		b.Provider = "saltmere-staff"
		require.NoError(t, b.SignIn(ctx, w.LedgerURL+"/sign-in", "mvoss"))
		return b, newest(t, w).Code
	}
	_, code := signs()
	assert.Equal(t, "saml.context-not-proven", code)
	changeProvider(t, w, func(p *config.Provider) {
		p.Contexts = []bridge.Meaning{{Says: saml.ContextPassword, Means: "silver"}}
	})
	b, code := signs()
	assert.Empty(t, code)
	assert.Equal(t, "silver", b.Inner("acr"))
	changeProvider(t, w, func(p *config.Provider) {
		p.Contexts = []bridge.Meaning{{Says: "urn:oasis:names:tc:SAML:2.0:ac:classes:X509", Means: "silver"}}
	})
	_, code = signs()
	assert.Equal(t, "saml.context-not-proven", code)
}
