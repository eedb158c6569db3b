package server_test

import (
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"innergate/api"
	"innergate/core/access"
	"innergate/demo"
	"innergate/standin"
)

// formOf is where the first form of the page goes, as an absolute address.
func formOf(t testing.TB, w *demo.World, b *demo.Walker) string {
	t.Helper()
	form := b.Find(func(n *html.Node) bool { return n.Data == "form" })
	require.NotNil(t, form, b.Text)
	base, err := url.Parse(w.URL)
	require.NoError(t, err)
	at, err := base.Parse(attribute(form, "action"))
	require.NoError(t, err)
	return at.String()
}

// secondProvider connects an OpenID provider of somebody else's, who says of its people what it likes.
func secondProvider(t testing.TB, w *demo.World, people ...standin.Person) *standin.OpenID {
	t.Helper()
	ctx, c := t.Context(), w.Client()
	var other *standin.OpenID
	srv := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) { other.Handler().ServeHTTP(rw, r) }))
	t.Cleanup(srv.Close)
	other, err := standin.NewOpenID("Tidemark", srv.URL, people)
	require.NoError(t, err)
	const secret = "a-secret-that-tidemark-made-for-the-gate"
	other.Clients = []standin.Registered{{ID: "saltmere-gate", Secret: secret, RedirectURIs: []string{w.URL + "/oidc/callback/tidemark"}}}
	north, err := c.Provider(ctx, "northquay-stevedores")
	require.NoError(t, err)
	p := north.Provider
	p.Slug, p.Name = "tidemark", "Tidemark"
	o := *p.OIDC
	o.Issuer, o.AuthorizationEndpoint, o.TokenEndpoint = srv.URL, srv.URL+"/authorize", srv.URL+"/token"
	o.UserInfoEndpoint, o.KeysURL, o.EndSessionEndpoint = srv.URL+"/userinfo", srv.URL+"/keys", ""
	p.OIDC, p.Matching, p.Admission, p.Grants = &o, nil, "create", nil
	_, err = c.AddProvider(ctx, p)
	require.NoError(t, err)
	_, err = c.KeepSecret(ctx, "tidemark", api.TheirSecret{Value: secret})
	require.NoError(t, err)
	a, err := c.Application(ctx, "cargo-ledger")
	require.NoError(t, err)
	held := a.Application
	held.Providers = append(held.Providers, "tidemark")
	_, err = c.PutApplication(ctx, held, 0)
	require.NoError(t, err)
	return other
}

// asksConsent has Cargo Ledger's next sign-in ask for consent, so that it waits at a page between proof and answer.
func asksConsent(w *demo.World) { w.Ledger.Ask = url.Values{"prompt": {"consent"}} }

// TestProofOfOneProviderIsNoneOfAnother signs in through one provider, chooses another at the page that asks for
// consent, and agrees there: whom the first vouched for must not become whom the other calls the same.
func TestProofOfOneProviderIsNoneOfAnother(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	_, known := through(t, w, "northquay-stevedores", "ivo.tamm")
	victim := known.Inner("subject")
	require.NotEmpty(t, victim)
	secondProvider(t, w, standin.Person{ID: "ivo.tamm", Name: "Mallory", Claims: map[string]any{"name": "Mallory"}})
	asksConsent(w)
	b := w.Walker()
	require.NoError(t, b.Get(ctx, w.LedgerURL+"/sign-in"))
	require.NoError(t, b.Onward(ctx))
	require.NoError(t, b.Submit(ctx, url.Values{"provider": {"tidemark"}}))
	require.NoError(t, b.Onward(ctx))
	require.NoError(t, b.Submit(ctx, url.Values{"person": {"ivo.tamm"}}))
	require.NoError(t, b.Onward(ctx))
	confirm := formOf(t, w, b)
	require.True(t, strings.HasSuffix(confirm, "/confirm"), confirm)
	require.NoError(t, b.Post(ctx, strings.TrimSuffix(confirm, "confirm")+"choose", url.Values{"provider": {"northquay-stevedores"}}))
	require.NoError(t, b.Post(ctx, confirm, url.Values{"answer": {"yes"}}))
	require.NoError(t, b.Onward(ctx))
	assert.NotEqual(t, victim, b.Inner("subject"))
	assert.Empty(t, b.Inner("subject"))
	assert.Equal(t, "browser.finished", newest(t, w).Code, "what is not due is refused")
}

// TestSecondFactorCountsForItsPersonAlone proves one's own second factor, and then signs in within the same sign-in as
// somebody of whom only the password is known.
func TestSecondFactorCountsForItsPersonAlone(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	secret, _, err := atRegister(t, w).SignInHere(ctx, "runa.holt", w.AgencyPassword(), "", time.Now())
	require.NoError(t, err)
	id := known(t, w, "Runa")[0].ID
	p, err := w.Client().Person(ctx, id)
	require.NoError(t, err)
	p.Profile["preferred_username"] = []string{"gfell"}
	_, err = w.Client().PutPerson(ctx, id, api.SavePerson{Profile: p.Profile})
	require.NoError(t, err)
	_, err = w.Client().SetAccess(ctx, "cargo-ledger", access.Policy{To: access.Everybody, Rules: []access.Rule{{Then: access.Stronger}}})
	require.NoError(t, err)
	tr, _ := through(t, w, "saltmere-staff", "mvoss")
	require.Equal(t, "access.stronger-impossible", tr.Code, "alone she has none")

	asksConsent(w)
	b := w.Walker()
	b.Provider = "saltmere-staff"
	require.NoError(t, b.Get(ctx, w.LedgerURL+"/sign-in"))
	require.NoError(t, b.Onward(ctx))
	require.NoError(t, b.Submit(ctx, url.Values{"provider": {"saltmere-staff"}}))
	require.NoError(t, b.Onward(ctx))
	require.NoError(t, b.Submit(ctx, url.Values{"person": {"gfell"}}))
	require.NoError(t, b.Onward(ctx))
	require.Contains(t, b.Text, "Your second factor")
	require.NoError(t, submitCode(ctx, b, secret, time.Now().Add(30*time.Second)))
	confirm := formOf(t, w, b)
	require.True(t, strings.HasSuffix(confirm, "/confirm"), confirm)
	// The one who does this leaves their own session at the provider behind.
	u, err := url.Parse(w.URL)
	require.NoError(t, err)
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	jar.SetCookies(u, b.HTTP.Jar.Cookies(u))
	b.HTTP.Jar = jar
	require.NoError(t, b.Post(ctx, strings.TrimSuffix(confirm, "confirm")+"choose", url.Values{"provider": {"saltmere-staff"}}))
	require.NoError(t, b.Onward(ctx))
	require.NoError(t, b.Submit(ctx, url.Values{"person": {"mvoss"}}))
	require.NoError(t, b.Onward(ctx))
	assert.Empty(t, b.Inner("claim-email"))
	assert.Equal(t, "access.stronger-impossible", newest(t, w).Code)
}

// TestStepsThatAreNotDueAreRefused posts to every page of a sign-in while another is due.
func TestStepsThatAreNotDueAreRefused(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	for _, c := range []struct {
		step   string
		fields url.Values
	}{
		{"confirm", url.Values{"answer": {"yes"}}},
		{"profile", url.Values{"answer": {"yes"}, "name": {"Somebody"}}},
		{"own", url.Values{"name": {"runa.holt"}, "password": {w.AgencyPassword()}}},
	} {
		b := w.Walker()
		require.NoError(t, b.Get(ctx, w.LedgerURL+"/sign-in"))
		require.NoError(t, b.Onward(ctx))
		choose := formOf(t, w, b)
		base := choose[:strings.LastIndex(choose, "/")+1]
		require.NoError(t, b.Post(ctx, base+c.step, c.fields))
		assert.GreaterOrEqual(t, b.Status, 400, c.step)
		assert.Equal(t, "browser.finished", newest(t, w).Code, c.step)
	}
}

// TestOnlyTheProviderInStepIsHeard chooses one provider and then another; the first one's answer comes late.
func TestOnlyTheProviderInStepIsHeard(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	b := w.Walker()
	require.NoError(t, b.Get(ctx, w.LedgerURL+"/sign-in"))
	require.NoError(t, b.Onward(ctx))
	choose := formOf(t, w, b)
	require.NoError(t, b.Post(ctx, choose, url.Values{"provider": {"northquay-stevedores"}}))
	id := choose[strings.Index(choose, "/sign-in/")+len("/sign-in/"):]
	id = id[:strings.Index(id, "/")]
	require.NoError(t, b.Post(ctx, choose, url.Values{"provider": {"saltmere-staff"}}))
	require.NoError(t, b.Get(ctx, w.URL+"/oidc/callback/northquay-stevedores?code=x&iss="+url.QueryEscape(w.NorthquayURL)+"&state="+id))
	assert.Equal(t, "oidc.answer-issuer", newest(t, w).Code)
}
