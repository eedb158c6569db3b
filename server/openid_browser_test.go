package server_test

import (
	"context"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/config"
)

// TestRequestsByPost sends the authentication request as a form, which an authorization server must take (OpenID
// Connect Core 1.0, section 3.1.2.1).
func TestRequestsByPost(t *testing.T) {
	t.Parallel()
	p, ctx := newParty(t), context.Background()
	b := p.w.Walker()
	require.NoError(t, b.Post(ctx, p.w.URL+"/oidc/authorize", p.asks(nil)))
	require.NoError(t, b.Onward(ctx))
	require.NoError(t, b.Submit(ctx, url.Values{"person": {"mvoss"}}))
	require.NoError(t, b.Onward(ctx))
	require.NotEmpty(t, p.got.Get("code"), b.Text)
	assert.Equal(t, "st-1", p.got.Get("state"))
	assert.Equal(t, 200, p.call("/oidc/token", redeeming(p, p.got.Get("code"))).status)
	again := p.w.Walker()
	// The query of a form's address does not count, and a body of another kind is not read.
	r, err := http.Post(p.w.URL+"/oidc/authorize", "application/json", strings.NewReader(`{"client_id":"tide-archive"}`))
	require.NoError(t, err)
	r.Body.Close()
	assert.Equal(t, http.StatusUnsupportedMediaType, r.StatusCode)
	long := p.asks(url.Values{"ui_locales": {strings.Repeat("a", 70<<10)}})
	require.NoError(t, again.Post(ctx, p.w.URL+"/oidc/authorize", long))
	assert.Contains(t, recent(t, p.w), "oidc.request-unreadable")
}

// TestAnswersByForm has a provider post its answer to our redirect URI (OAuth 2.0 Form Post Response Mode).
func TestAnswersByForm(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	x, err := w.Client().Provider(ctx, "northquay-stevedores")
	require.NoError(t, err)
	x.OIDC.AnswerByForm = true
	_, err = w.Client().PutProvider(ctx, x.Provider, x.Revision)
	require.NoError(t, err)
	tr, b := through(t, w, "northquay-stevedores", "lene.aas")
	assert.Equal(t, "signed-in", tr.Outcome)
	assert.NotEmpty(t, b.Inner("subject"))
	full, err := w.Client().Trace(ctx, tr.Reference)
	require.NoError(t, err)
	bindings := []string{}
	for _, e := range full.Entries {
		if e.Message != nil && e.Message.Name == "Authentication response" {
			bindings = append(bindings, e.Message.Binding)
			assert.NotContains(t, e.Message.Raw, "eyJ")
		}
	}
	assert.Contains(t, bindings, "form_post")
	// An answer that nobody asked for, posted by another site.
	stranger := w.Walker()
	require.NoError(
		t,
		stranger.Post(ctx, w.URL+"/oidc/callback/northquay-stevedores", url.Values{"state": {"made-up"}, "code": {"made-up"}}),
	)
	assert.Contains(t, recent(t, w), "browser.lost")
}

// TestStartAddresses begins sign-ins at the gate: at an application with an address for that (OpenID Connect Core 1.0,
// section 4), with a start address, and with neither.
func TestStartAddresses(t *testing.T) {
	t.Parallel()
	p := newParty(t)
	stops := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	start := func(query string) (int, string) {
		r, err := stops.Get(p.w.URL + "/start/" + p.id + query)
		require.NoError(t, err)
		r.Body.Close()
		return r.StatusCode, r.Header.Get("Location")
	}
	status, location := start("")
	assert.Empty(t, location)
	assert.Equal(t, http.StatusBadRequest, status, "it can only be begun at the application")
	assert.Contains(t, recent(t, p.w), "start.sp-only")

	p.set(func(a *config.Application) { a.StartURL = "https://tides.example/begin" })
	_, location = start("")
	assert.Equal(t, "https://tides.example/begin", location)

	p.set(func(a *config.Application) { a.OIDC.InitiateLogin = "https://tides.example/login?here=1" })
	_, location = start("?to=" + url.QueryEscape("https://tides.example/week/47"))
	u, err := url.Parse(location)
	require.NoError(t, err)
	assert.Equal(t, url.Values{"here": {"1"}, "iss": {p.w.URL}, "target_link_uri": {"https://tides.example/week/47"}}, u.Query())
	_, location = start("?to=" + url.QueryEscape("https://evil.example/"))
	assert.Empty(t, location, "a deep link leads nowhere else")
	assert.Contains(t, recent(t, p.w), "relay.refused")
}

// TestScriptsAskBefore makes the preflight request of a browser (CORS).
func TestScriptsAskBefore(t *testing.T) {
	t.Parallel()
	p := newParty(t, func(a *config.Application) { a.OIDC.Origins = []string{"https://pages.example"} })
	for _, path := range []string{"/oidc/token", "/oidc/revoke", "/oidc/userinfo"} {
		for origin, allowed := range map[string]string{"https://pages.example": "https://pages.example", "https://evil.example": "",
			"https://pages.example.evil.example": "", "": ""} {
			r, err := http.NewRequest(http.MethodOptions, p.w.URL+path, nil)
			require.NoError(t, err)
			r.Header.Set("Origin", origin)
			r.Header.Set("Access-Control-Request-Method", "POST")
			got := p.do(r)
			assert.Equal(t, http.StatusNoContent, got.status)
			assert.Equal(t, allowed, got.header.Get("Access-Control-Allow-Origin"), "%s from %s", path, origin)
			assert.Equal(t, allowed != "", got.header.Get("Access-Control-Allow-Headers") != "")
			assert.Empty(t, got.header.Get("Access-Control-Allow-Credentials"))
		}
	}
}

// TestConsoleThroughProvider comes in to the console through a provider, and is out as soon as the rule is gone.
func TestConsoleThroughProvider(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	c := w.Client()
	page := func() (names []string) {
		var list struct{ Items []struct{ Name string } }
		p := &party{t: t, w: w}
		p.get("/api/v1/session/providers", &list)
		for _, x := range list.Items {
			names = append(names, x.Name)
		}
		return names
	}
	assert.Empty(t, page(), "without a rule nobody comes in")
	require.NoError(
		t,
		c.SetConsoleAccess(
			ctx,
			api.ConsoleAccess{
				Rules: []api.AccessRule{{Provider: "saltmere-staff", Attribute: "groups", Value: "ferry-office", Role: "engineer"}},
			},
		),
	)
	assert.Equal(t, []string{"Saltmere Staff"}, page())

	// Another site can't begin it.
	r, err := http.NewRequest(http.MethodPost, w.URL+"/console-sign-in/saltmere-staff", nil)
	require.NoError(t, err)
	r.Header.Set("Origin", "https://evil.example")
	foreign, err := http.DefaultTransport.RoundTrip(r)
	require.NoError(t, err)
	foreign.Body.Close()
	assert.Equal(t, http.StatusForbidden, foreign.StatusCode)

	walk := func(user string) (int, string) {
		b := w.Walker()
		require.NoError(t, b.Get(ctx, w.URL+"/sign-out"))
		require.NoError(t, b.Post(ctx, w.URL+"/console-sign-in/saltmere-staff", nil))
		require.NoError(t, b.Onward(ctx))
		require.NoError(t, b.Submit(ctx, url.Values{"person": {user}}))
		require.NoError(t, b.Onward(ctx))
		me := func() (int, string) {
			require.NoError(t, b.Get(ctx, w.URL+"/api/v1"+"/session"))
			return b.Status, b.Text
		}
		status, text := me()
		if status == 200 {
			require.NoError(t, c.SetConsoleAccess(ctx, api.ConsoleAccess{}))
			lost, _ := me()
			assert.Contains(t, []int{401, 403}, lost, "whoever loses the rule is out at once")
		}
		return status, text
	}
	status, _ := walk("rpike")
	assert.Equal(t, 401, status)
	assert.Contains(t, recent(t, w), "console.no-role")
	status, text := walk("tkerr")
	require.Equal(t, 200, status, text)
	assert.Contains(t, text, "engineer")
	assert.Contains(t, text, "Tamsin Kerr")
}
