package server_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/config"
	"innergate/core/saml"
	"innergate/demo"
)

// through asks in Crew Rota's name, signs in as somebody, and follows to the end. The request is unsigned, so that a
// test may say anything.
func askThrough(t testing.TB, w *demo.World, b *demo.Walker, user string, f func(*saml.Asked)) {
	t.Helper()
	ctx := context.Background()
	_, doc, err := saml.NewAuthnRequest(asked(w, f), nil)
	require.NoError(t, err)
	location, err := saml.EncodeRedirect(w.URL+"/saml/idp/sso", saml.ParamRequest, doc, "", nil)
	require.NoError(t, err)
	require.NoError(t, b.SignIn(ctx, location, user))
}

// TestSAMLWishesAtAnOpenIDProvider carries what a SAML application wants over to OpenID Connect: what can't be said
// there, or is not proven, is an error.
func TestSAMLWishesAtAnOpenIDProvider(t *testing.T) {
	t.Parallel()
	w := world(t)
	w.Northquay.SayContexts(true)
	change(t, w, func(a *config.Application) {
		a.SAML.RequireSignedRequests, a.Providers = false, []string{"northquay-stevedores"}
	})
	context := func(comparison string, classes ...string) func(*saml.Asked) {
		return func(s *saml.Asked) {
			s.RequestedContext = &saml.RequestedContext{Comparison: comparison, Classes: classes}
		}
	}
	for _, c := range []struct {
		name, code string
		ask        func(*saml.Asked)
		session    bool // somebody is signed in at the provider already
		mistake    string
	}{
		{"nothing in particular", "", func(*saml.Asked) {}, false, ""},
		{"IsPassive without a session", "oidc.no-passive", func(s *saml.Asked) { s.IsPassive = true }, false, ""},
		{"IsPassive with a session", "", func(s *saml.Asked) { s.IsPassive = true }, true, ""},
		{"ForceAuthn with a session asks anew", "", func(s *saml.Asked) { s.ForceAuthn = true }, true, ""},
		{"ForceAuthn that is not heeded", "oidc.auth-time-old", func(s *saml.Asked) { s.ForceAuthn = true }, true, "old-session"},
		{"ForceAuthn that is not proven", "oidc.auth-time-missing", func(s *saml.Asked) { s.ForceAuthn = true }, false, "no-auth-time"},
		{"an exact context", "", context("exact", "harbour-silver"), false, ""},
		{"at least a context", "", context("minimum", "harbour-silver"), false, ""},
		{"a context that is not reached", "oidc.context-unmet", context("exact", "harbour-gold"), false, ""},
		{"better than a context, which nobody can tell", "bridge.no-context", context("better", "harbour-silver"), false, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			b := w.Walker()
			if c.session {
				askThrough(t, w, b, "lene.aas", func(*saml.Asked) {})
			}
			w.Northquay.SetMistake(c.mistake)
			defer w.Northquay.SetMistake("")
			askThrough(t, w, b, "lene.aas", c.ask)
			assert.Equal(t, c.code, newest(t, w).Code)
			if c.code == "" {
				assert.Equal(t, "signed-in", newest(t, w).Outcome)
			}
		})
	}
	t.Run("the context goes back as it was proven", func(t *testing.T) {
		askThrough(t, w, w.Walker(), "lene.aas", context("exact", "harbour-silver"))
		found := false
		for _, e := range newest(t, w).Entries {
			found = found || e.Message != nil && e.Message.Name == "Response" && assert.Contains(t, e.Message.Raw, "harbour-silver")
		}
		assert.True(t, found)
	})
}

// TestOpenIDWishesAtASAMLProvider is the other way round.
func TestOpenIDWishesAtASAMLProvider(t *testing.T) {
	t.Parallel()
	p := newParty(t)
	b := p.w.Walker()
	got, _ := p.goesIn(b, p.asks(nil).Encode(), "mvoss")
	require.NotEmpty(t, got.Get("code"))
	got, _ = p.goesIn(b, p.asks(map[string][]string{"prompt": {"none"}}).Encode(), "mvoss")
	assert.NotEmpty(t, got.Get("code"), "prompt=none becomes IsPassive, and the provider's session is enough")
	p.clock.turn(2 * time.Minute)
	got, _ = p.goesIn(b, p.asks(map[string][]string{"prompt": {"login"}}).Encode(), "zoberg")
	require.NotEmpty(t, got.Get("code"), "prompt=login becomes ForceAuthn: somebody else can sign in")
	assert.Equal(t, "Zoë Öberg", p.userinfo(p.call("/oidc/token", redeeming(p, got.Get("code"))).text("access_token")).body["name"])
	got, page := p.goes(
		p.asks(map[string][]string{"claims": {`{"id_token":{"acr":{"essential":true,"values":["harbour-gold"]}}}`}}).Encode(),
		"mvoss",
	)
	assert.Empty(t, got.Get("code"), "an essential acr becomes RequestedAuthnContext")
	assert.Contains(t, page.Text, "unmet_authentication_requirements")
	p.w.Staff.SetMistake("denied")
	_, page = p.goes(p.asks(nil).Encode(), "mvoss")
	assert.Contains(t, page.Text, "error=")
	p.w.Staff.SetMistake("")
	for _, entry := range newest(t, p.w).Entries {
		if m := entry.Message; m != nil {
			assert.NotContains(t, m.Raw, p.secret)
		}
	}
}
