package server_test

import (
	"net/http"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/client"
	"innergate/core/config"
	"innergate/core/saml"
	"innergate/demo"
	"innergate/standin"
	"innergate/testbed"
)

// openSessions counts the sessions at the gate.
func openSessions(t *testing.T, w *demo.World) int {
	t.Helper()
	list, err := w.Client().Sessions(t.Context(), client.Page{})
	require.NoError(t, err)
	return len(list.Items)
}

// TestUnsignedLogoutEndsTheBrowsersOwnSession takes messages that anybody can write for the session of the very browser that
// brings them, where the application is set so, and never by the back channel.
func TestUnsignedLogoutEndsTheBrowsersOwnSession(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := t.Context()
	w.Rota.Behave(standin.ApplicationHabits{UnsignedLogout: true})
	mira, stranger := w.Walker(), w.Walker()
	require.NoError(t, mira.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	require.NoError(t, stranger.SignIn(ctx, w.RotaURL+"/sign-in", "zoberg"))
	assert.Contains(t, opens(t, mira, w.RotaURL+"/sign-out"), "Sign out here")
	refused := newest(t, w)
	assert.Equal(t, "saml.logout-unsigned", refused.Code)
	assert.Equal(t, 2, openSessions(t, w))

	change(t, w, func(a *config.Application) { a.SAML.UnsignedLogout = true })
	_, doc, err := saml.Logout{Issuer: saml.EntityID(w.Rota.EntityID()), Destination: w.URL + "/saml/idp/slo", Now: time.Now()}.
		Request(saml.NameID{Value: "mvoss"}, nil)
	require.NoError(t, err)
	location, err := saml.EncodeRedirect(w.URL+"/saml/idp/slo", saml.ParamRequest, doc, "", w.Rota.Signer())
	require.NoError(t, err)
	location, _, _ = strings.Cut(location, "&SigAlg=")
	opens(t, stranger, location)
	assert.Equal(t, 2, openSessions(t, w), "another browser's session is nobody's to end")
	opens(t, w.Walker(), location)
	assert.Equal(t, 2, openSessions(t, w))

	_, doc, err = saml.Logout{Issuer: saml.EntityID(w.Rota.EntityID()), Destination: w.URL + "/saml/idp/slo", Now: time.Now(), SOAP: true}.
		Request(saml.NameID{Value: "mvoss"}, nil)
	require.NoError(t, err)
	answer, _ := send(t, http.DefaultClient, "POST", w.URL+"/saml/idp/slo", "", string(doc), "Content-Type", "text/xml")
	assert.Equal(t, http.StatusInternalServerError, answer.StatusCode, "by the back channel a signature is needed all the same")
	assert.Equal(t, 2, openSessions(t, w))

	require.NoError(t, mira.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	assert.Contains(t, opens(t, mira, w.RotaURL+"/sign-out"), "signed you out")
	assert.Equal(t, 1, openSessions(t, w))
}

// TestAnApplicationWithoutLogoutIsNotTold names it as what can't be told, not as one that did not answer.
func TestAnApplicationWithoutLogoutIsNotTold(t *testing.T) {
	t.Parallel()
	w := world(t)
	connectDesk(t, w)
	b := threeSignedIn(t, w)
	change(t, w, func(a *config.Application) { a.SAML.SLO, a.SAML.Metadata = nil, nil })
	text := opens(t, b, w.DeskURL+"/sign-out")
	assert.Contains(t, text, "Not told, since they have no address for it: Crew Rota")
	assert.NotContains(t, text, "No answer")
	b = w.Walker()
	require.NoError(t, b.SignIn(t.Context(), w.RotaURL+"/sign-in", "mvoss"))
	opens(t, b, w.URL+"/sign-out")
	require.NoError(t, b.Submit(t.Context(), nil))
	require.NoError(t, b.Onward(t.Context()))
	assert.Contains(t, b.Text, "These can&#39;t be told")
	assert.Contains(t, b.Text, "<li>Crew Rota</li>")
}

// TestNameIDStaysEncryptedInLogout asks an application that gets encrypted identifiers with one to sign somebody out.
func TestNameIDStaysEncryptedInLogout(t *testing.T) {
	t.Parallel()
	for _, encrypt := range []string{"nameid", "assertion"} {
		w := world(t)
		connectDesk(t, w)
		desk, err := w.Client().Application(t.Context(), "ticket-desk")
		require.NoError(t, err)
		changed := desk.Application
		changed.SAML.Encrypt = encrypt
		_, err = w.Client().PutApplication(t.Context(), changed, desk.Revision)
		require.NoError(t, err)
		b := threeSignedIn(t, w)
		require.NotEmpty(t, w.Desk.Sessions(), encrypt)
		assert.Contains(t, opens(t, b, w.RotaURL+"/sign-out"), "signed you out everywhere", encrypt)
		assert.Empty(t, w.Desk.Sessions(), "%s: the application knows whom", encrypt)
		found := false
		for _, e := range newest(t, w).Entries {
			if e.Message != nil && e.Message.Name == "LogoutRequest" && e.Message.To == "application" {
				found = true
				assert.Contains(t, e.Message.Raw, "EncryptedID", encrypt)
				assert.NotContains(t, e.Message.Raw, "<saml:NameID", encrypt)
			}
		}
		assert.True(t, found)
	}
}

// TestSomebodyElsesHint signs out with an ID token of a sign-in in another browser: that one ends, and this one goes on.
func TestSomebodyElsesHint(t *testing.T) {
	t.Parallel()
	p := newParty(t)
	mira, zoe := p.w.Walker(), p.w.Walker()
	got, _ := p.goesIn(mira, p.asks(nil).Encode(), "mvoss")
	hint := p.call("/oidc/token", redeeming(p, got.Get("code"))).text("id_token")
	require.NotEmpty(t, hint)
	_, _ = p.goesIn(zoe, p.asks(nil).Encode(), "zoberg")
	require.Equal(t, 2, openSessions(t, p.w))
	require.NoError(t, zoe.Get(t.Context(), p.w.URL+"/oidc/logout?"+url.Values{"id_token_hint": {hint}}.Encode()))
	assert.Contains(t, zoe.Text, "The sign-in of <strong>Mira Voss</strong> in another browser has ended.")
	assert.Contains(t, zoe.Text, "You are signed in as")
	assert.Equal(t, 1, openSessions(t, p.w))
	assert.NotContains(t, opens(t, zoe, p.w.URL+"/sign-out"), "You are signed out here", "her own session goes on")
}

// TestIdleSessionsTellTheOthers has a session lie idle until it ends: the applications in which it was used are told.
func TestIdleSessionsTellTheOthers(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	now := time.Now()
	w := testbed.World(t, demo.Options{Now: func() time.Time { mu.Lock(); defer mu.Unlock(); return now }})
	b := w.Walker()
	b.Provider = "saltmere-staff"
	require.NoError(t, b.SignIn(t.Context(), w.LedgerURL+"/sign-in", "mvoss"))
	require.NoError(t, w.Gate.Sessions.EndIdle(t.Context()))
	require.NoError(t, w.Gate.SignOut.TellEnded(t.Context()))
	assert.Empty(t, w.Ledger.LoggedOut(), "it is in use")
	mu.Lock()
	now = now.Add(3 * time.Hour)
	mu.Unlock()
	require.NoError(t, w.Gate.Sessions.EndIdle(t.Context()))
	require.NoError(t, w.Gate.SignOut.TellEnded(t.Context()))
	require.Eventually(t, func() bool { return len(w.Ledger.LoggedOut()) == 1 }, testbed.Patience, 10*time.Millisecond)
	list, err := w.Client().Sessions(t.Context(), client.Page{Filters: map[string]string{"ended": "yes"}})
	require.NoError(t, err)
	require.Len(t, list.Items, 1)
	assert.Contains(t, list.Items[0].EndedBy, "nobody used it")
}
