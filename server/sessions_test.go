package server_test

import (
	"context"
	"crypto/tls"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/core/saml"
	"innergate/demo"
	"innergate/gate/sessions"
	"innergate/store"
	"innergate/testbed"
)

// connectDesk connects Ticket Desk, which takes its logout requests by SOAP.
func connectDesk(t testing.TB, w *demo.World) {
	t.Helper()
	desk, err := w.Client().Understand(t.Context(), "application", "", api.TakeIn{URL: w.DeskURL + "/metadata"})
	require.NoError(t, err)
	d := *desk.App
	d.Slug, d.Name, d.Providers = "ticket-desk", "Ticket Desk", []string{"saltmere-staff"}
	d.Reach, d.StartURL, d.Access = access.Everyone, w.DeskURL+"/sign-in", access.Policy{To: access.Everybody}
	_, err = w.Client().AddApplication(t.Context(), d)
	require.NoError(t, err)
}

// opens goes to an address and on, without choosing or answering anything.
func opens(t testing.TB, b *demo.Walker, address string) string {
	t.Helper()
	require.NoError(t, b.Get(context.Background(), address))
	require.NoError(t, b.Onward(context.Background()))
	return b.Text
}

func decisions(x *api.Trace, about string) string {
	var out []string
	for _, e := range x.Entries {
		if d := e.Decision; d != nil && d.About == about {
			out = append(out, d.Result+" | "+d.By+" | "+strings.Join(d.Passed, "; "))
		}
	}
	return strings.Join(out, "\n")
}

const chooses = "choose who you are"

// TestASessionAsksNothingTheSecondTime signs in once and opens three applications, in both protocols.
func TestASessionAsksNothingTheSecondTime(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx, b := t.Context(), w.Walker()
	connectDesk(t, w)
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	require.Equal(t, "mvoss", b.Inner("nameid"))
	assert.Contains(t, decisions(newest(t, w), "freshness"), "asked the person anew")
	first, err := w.Gate.Sessions.Sessions(ctx, store.Page{}, sessions.Filter{})
	require.NoError(t, err)
	require.Len(t, first.Items, 1)

	assert.Contains(t, opens(t, b, w.LedgerURL+"/sign-in"), "mira.voss@saltmere.example", "no choice and no password")
	x := newest(t, w)
	assert.Contains(t, decisions(x, "session"), "used | signed in through Saltmere Staff")
	assert.Contains(t, decisions(x, "freshness"), "nobody was asked: Mira Voss’s session at the gate was used")
	assert.Contains(t, opens(t, b, w.DeskURL+"/sign-in"), "you are signed in")
	assert.Contains(t, opens(t, b, w.URL+"/start/crew-rota"), "mvoss", "from the gate as well")

	list, err := w.Client().Sessions(ctx, client.Page{})
	require.NoError(t, err)
	require.Len(t, list.Items, 1)
	s := list.Items[0]
	assert.Equal(t, first.Items[0].ID, s.ID)
	assert.Equal(t, "Mira Voss", s.Person)
	assert.Len(t, s.Applications, 3)
	require.Len(t, s.Providers, 1)
	assert.Equal(t, "one", s.Providers[0].Strength)
	assert.Equal(t, "127.0.0.1", s.Address)

	// The same SessionIndex each time, and another one at each application.
	assert.Equal(t, []string{"mvoss"}, unique(w.Rota.Sessions()))

	// Another browser has no part in it.
	assert.Contains(t, opens(t, w.Walker(), w.RotaURL+"/sign-in"), chooses)

	// What asks for more gets it: a fresh sign-in, one that is not long ago, an application with limits of its own, a
	// provider that always asks.
	assert.Contains(t, opens(t, b, forced(w)), chooses)
	change(t, w, func(a *config.Application) { a.Session = &config.SessionRules{MaxMinutes: 1} })
	assert.Contains(t, opens(t, b, w.RotaURL+"/sign-in"), "you are signed in", "a minute has not gone")
	changeProvider(t, w, func(p *config.Provider) { p.SAML.ForceAuthn = true })
	assert.Contains(t, opens(t, b, w.RotaURL+"/sign-in"), chooses)
	assert.Contains(t, decisions(newest(t, w), "session"), "set to ask anew each time")
}

func unique(list []string) []string {
	var out []string
	for _, v := range list {
		if len(out) == 0 || out[len(out)-1] != v {
			out = append(out, v)
		}
	}
	return out
}

// forced begins at Crew Rota and demands a fresh sign-in.
func forced(w *demo.World) string { return w.RotaURL + "/sign-in?fresh=1" }

// TestSessionsEnd ends them in every way, and sees that nothing is left of them.
func TestSessionsEnd(t *testing.T) {
	t.Parallel()
	clock := time.Now()
	w := testbed.World(t, demo.Options{Now: func() time.Time { return clock }})
	ctx, c := t.Context(), w.Client()
	signed := func(user string) *demo.Walker {
		b := w.Walker()
		require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", user))
		require.NotEmpty(t, b.Inner("nameid"), b.Text)
		w.Staff.Forget()
		return b
	}
	asked := func(b *demo.Walker) bool { return strings.Contains(opens(t, b, w.RotaURL+"/sign-in"), chooses) }

	b := signed("mvoss")
	assert.False(t, asked(b))
	clock = clock.Add(90 * time.Minute)
	assert.False(t, asked(b), "it was used in between")
	clock = clock.Add(121 * time.Minute)
	assert.True(t, asked(b), "it lay idle for more than two hours")

	b = signed("mvoss")
	for range 12 {
		clock = clock.Add(59 * time.Minute)
		require.False(t, asked(b))
	}
	clock = clock.Add(30 * time.Minute)
	assert.True(t, asked(b), "twelve hours are the most")

	_, err := c.SetSessionLimits(ctx, api.SessionLimits{IdleMinutes: 10, MaxHours: 1, Persistent: true})
	require.NoError(t, err)
	b = signed("mvoss")
	u, _ := url.Parse(w.URL)
	assert.NotEmpty(t, b.HTTP.Jar.Cookies(u))
	clock = clock.Add(11 * time.Minute)
	assert.True(t, asked(b), "limits count at once")
	for _, bad := range []api.SessionLimits{{IdleMinutes: 1, MaxHours: 1}, {IdleMinutes: 10}, {IdleMinutes: 10, MaxHours: 99999}} {
		_, err = c.SetSessionLimits(ctx, bad)
		assert.Error(t, err)
	}
	_, err = c.SetSessionLimits(ctx, config.UsualSessions)
	require.NoError(t, err)

	// By an administrator, one and all; the application is told.
	b = signed("mvoss")
	list, err := c.Sessions(ctx, client.Page{Search: "mira"})
	require.NoError(t, err)
	require.NotEmpty(t, list.Items)
	require.NoError(t, c.EndSession(ctx, list.Items[0].ID))
	assert.True(t, asked(b))
	b = signed("mvoss")
	require.NoError(t, c.EndSessionsOf(ctx, list.Items[0].PersonID))
	assert.True(t, asked(b))
	ended, err := c.Sessions(ctx, client.Page{Filters: map[string]string{"ended": "yes", "person": list.Items[0].PersonID}})
	require.NoError(t, err)
	assert.Contains(t, ended.Items[0].EndedBy, "ended by token demo")
	refused(t, c.EndSession(ctx, "01ARZ3NDEKTSV4RRFFQ69G5FAV"), "not-found", "")

	// The person is deactivated.
	b = signed("sito")
	p, err := c.Person(ctx, known(t, w, "伊藤")[0].ID)
	require.NoError(t, err)
	off := false
	_, err = c.PutPerson(ctx, p.ID, api.SavePerson{Profile: p.Profile, Active: &off})
	require.NoError(t, err)
	assert.True(t, asked(b))

	// Somebody else signs in with the same browser: the first one's session is over.
	b = signed("mvoss")
	require.NoError(t, b.Get(ctx, forced(w)))
	require.NoError(t, b.Submit(ctx, url.Values{"person": {"zoberg"}}))
	require.NoError(t, b.Onward(ctx))
	require.Equal(t, "zoberg", b.Inner("nameid"))
	opens(t, b, w.RotaURL+"/sign-in")
	assert.Equal(t, "zoberg", b.Inner("nameid"))
	list, err = c.Sessions(ctx, client.Page{Search: "mira"})
	require.NoError(t, err)
	assert.Empty(t, list.Items)
}

// TestASessionIsNotFixedOrForged tries to bring a session into somebody's browser, and to make one up.
func TestASessionIsNotFixedOrForged(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := t.Context()
	u, err := url.Parse(w.URL)
	require.NoError(t, err)
	token := func(b *demo.Walker) string {
		for _, c := range b.HTTP.Jar.Cookies(u) {
			if c.Name == "ig-session" {
				return c.Value
			}
		}
		return ""
	}
	evil := w.Walker()
	require.NoError(t, evil.SignIn(ctx, w.RotaURL+"/sign-in", "jhale"))
	planted := token(evil)
	require.NotEmpty(t, planted)
	victim := w.Walker()
	victim.HTTP.Jar.SetCookies(u, []*http.Cookie{{Name: "ig-session", Value: planted, Path: "/"}})
	require.NoError(t, victim.Get(ctx, forced(w)))
	require.NoError(t, victim.Submit(ctx, url.Values{"person": {"mvoss"}}))
	require.NoError(t, victim.Onward(ctx))
	require.Equal(t, "mvoss", victim.Inner("nameid"))
	assert.NotEqual(t, planted, token(victim), "a sign-in gives a new token")
	w.Staff.Forget()
	assert.Contains(t, opens(t, evil, w.RotaURL+"/sign-in"), chooses, "and the planted one is over")

	// The same person signs in anew: the old token counts no more.
	before := token(victim)
	require.NoError(t, victim.Get(ctx, forced(w)))
	require.NoError(t, victim.Submit(ctx, url.Values{"person": {"mvoss"}}))
	require.NoError(t, victim.Onward(ctx))
	assert.NotEqual(t, before, token(victim))
	old := w.Walker()
	old.HTTP.Jar.SetCookies(u, []*http.Cookie{{Name: "ig-session", Value: before, Path: "/"}})
	assert.Contains(t, opens(t, old, w.RotaURL+"/sign-in"), chooses)
	list, err := w.Client().Sessions(ctx, client.Page{Search: "mira"})
	require.NoError(t, err)
	assert.Len(t, list.Items, 1, "one session for one browser")
	for _, made := range []string{"x", strings.Repeat("A", 43), strings.Repeat("A", 5000), "' OR 1=1 --"} {
		b := w.Walker()
		b.HTTP.Jar.SetCookies(u, []*http.Cookie{{Name: "ig-session", Value: made, Path: "/"}})
		assert.Contains(t, opens(t, b, w.RotaURL+"/sign-in"), chooses)
	}

	// An answer that nobody in this browser asked for makes no session in it, and ends none.
	b := w.Walker()
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "zoberg"))
	mine := token(b)
	require.NoError(t, b.Post(ctx, w.StaffURL+"/start", url.Values{"person": {"jhale"}, "application": {w.URL + "/start/crew-rota"}}))
	require.NoError(t, b.Onward(ctx))
	require.Equal(t, "jhale", b.Inner("nameid"))
	assert.Equal(t, mine, token(b))
	opens(t, b, w.LedgerURL+"/sign-in")
	assert.Contains(t, b.Text, "zoe.oberg@saltmere.example")
}

// threeSignedIn is a browser in which somebody is signed in at three applications.
func threeSignedIn(t *testing.T, w *demo.World) *demo.Walker {
	t.Helper()
	b := w.Walker()
	require.NoError(t, b.SignIn(t.Context(), w.RotaURL+"/sign-in", "mvoss"))
	require.Contains(t, opens(t, b, w.LedgerURL+"/sign-in"), "mira.voss@saltmere.example")
	require.Contains(t, opens(t, b, w.DeskURL+"/sign-in"), "you are signed in")
	require.NotEmpty(t, w.Rota.Sessions())
	require.NotEmpty(t, w.Desk.Sessions())
	return b
}

// TestSigningOutSignsOut signs out from each of three applications, from the gate and from the provider, and sees that
// all of them and the provider know.
func TestSigningOutSignsOut(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx, c := t.Context(), w.Client()
	connectDesk(t, w)
	for from, goes := range map[string]func(b *demo.Walker){
		"crew rota": func(b *demo.Walker) {
			assert.Contains(t, opens(t, b, w.RotaURL+"/sign-out"), "signed you out everywhere", "by HTTP-Redirect")
		},
		"ticket desk": func(b *demo.Walker) {
			assert.Contains(t, opens(t, b, w.DeskURL+"/sign-out"), "signed you out everywhere")
		},
		"cargo ledger": func(b *demo.Walker) {
			opens(t, b, w.LedgerURL+"/sign-in")
			out := b.Link("Sign out")
			require.NotEmpty(t, out, b.Text)
			opens(t, b, out)
			assert.True(t, strings.HasPrefix(b.Address.String(), w.LedgerURL+"/signed-out"), b.Address)
		},
		"the gate": func(b *demo.Walker) {
			assert.Contains(t, opens(t, b, w.URL+"/sign-out"), "Sign out?", "a link alone signs nobody out")
			require.NoError(t, b.Submit(ctx, nil))
			require.NoError(t, b.Onward(ctx))
			assert.Contains(t, b.Text, "You are signed out")
			for _, name := range []string{"Crew Rota", "Cargo Ledger", "Ticket Desk", "Saltmere Staff"} {
				assert.Contains(t, b.Text, "<li>"+name+"</li>")
			}
		},
		"the provider": func(b *demo.Walker) {
			assert.Contains(t, opens(t, b, w.StaffURL+"/sign-out"), "signed you out everywhere")
		},
	} {
		b := threeSignedIn(t, w)
		told := len(w.Ledger.LoggedOut())
		goes(b)
		assert.Empty(t, w.Rota.Sessions(), from)
		assert.Empty(t, w.Desk.Sessions(), from)
		if from != "cargo ledger" {
			assert.Greater(t, len(w.Ledger.LoggedOut()), told, from)
		}
		x := newest(t, w)
		assert.Equal(t, "signed-out", x.Outcome, from)
		assert.Contains(t, decisions(x, "session"), "ended", from)
		assert.Contains(t, opens(t, b, w.RotaURL+"/sign-in"), chooses, "neither the gate nor the provider knows the browser: %s", from)
		list, err := c.Sessions(ctx, client.Page{})
		require.NoError(t, err)
		assert.Empty(t, list.Items, from)
	}
}

// TestSigningOutAsTheApplicationIsSet leaves the provider, or all others, alone where the application is set so.
func TestSigningOutAsTheApplicationIsSet(t *testing.T) {
	t.Parallel()
	w := world(t)
	connectDesk(t, w)
	change(t, w, func(a *config.Application) { a.SignOut = config.SignOutGate })
	b := threeSignedIn(t, w)
	opens(t, b, w.RotaURL+"/sign-out")
	assert.Empty(t, w.Desk.Sessions())
	assert.Contains(t, opens(t, b, w.RotaURL+"/sign-in"), "you are signed in", "the provider still knows the person")
	assert.Contains(t, decisions(newest(t, w), "freshness"), "asked the person anew", "its session is a moment old")
	opens(t, b, w.RotaURL+"/sign-out")

	change(t, w, func(a *config.Application) { a.SignOut = config.SignOutApplication })
	b = threeSignedIn(t, w)
	assert.Contains(t, opens(t, b, w.RotaURL+"/sign-out"), "signed you out everywhere")
	assert.NotEmpty(t, w.Desk.Sessions(), "it ends its own part alone")
	assert.Contains(t, decisions(newest(t, w), "session"), "goes on")
	w.Staff.Forget()
	assert.Contains(t, opens(t, b, w.RotaURL+"/sign-in"), "you are signed in", "the session at the gate goes on")
}

// TestWhoDoesNotAnswerIsNamed has an application that is down, and one that answers nonsense.
func TestWhoDoesNotAnswerIsNamed(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := t.Context()
	connectDesk(t, w)
	hang := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() }))
	t.Cleanup(hang.Close)
	b := threeSignedIn(t, w)
	change(t, w, func(a *config.Application) { a.SAML.SLO[0].Location, a.SAML.Metadata = hang.URL+"/slo", nil })
	began := time.Now()
	assert.Contains(t, opens(t, b, w.DeskURL+"/sign-out"), "but not everywhere. No answer came of: Crew Rota")
	assert.Less(t, time.Since(began), 10*time.Second, "a dead one holds nobody up for long")
	assert.Contains(t, decisions(newest(t, w), "logout"), "Crew Rota could not be told")

	// One that was asked and sends nobody back: the person opens the sign-out page again, and is told.
	nonsense := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, _ *http.Request) { rw.Write([]byte("something else")) }))
	t.Cleanup(nonsense.Close)
	change(t, w, func(a *config.Application) { a.SAML.SLO[0].Location = w.RotaURL + "/slo" })
	b = threeSignedIn(t, w)
	change(t, w, func(a *config.Application) { a.SAML.SLO[0].Location = nonsense.URL + "/slo" })
	opens(t, b, w.URL+"/sign-out")
	require.NoError(t, b.Submit(ctx, nil))
	require.NoError(t, b.Onward(ctx))
	require.Contains(t, b.Text, "something else")
	assert.Contains(t, opens(t, b, w.URL+"/sign-out"), "You are signed out, but not everywhere")
	assert.Contains(t, b.Text, "<li>Crew Rota</li>")
	assert.Contains(t, opens(t, b, w.URL+"/sign-out"), "You are signed out here", "it is over")
}

// TestNobodyIsSignedOutByOthers tries to sign somebody out in another application's name, with an old message, and with
// answers that were not asked for.
func TestNobodyIsSignedOutByOthers(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := t.Context()
	connectDesk(t, w)
	b := threeSignedIn(t, w)
	ask := func(issuer saml.EntityID, name saml.NameID, sessions []string, by *demo.Walker, signer string) int {
		s := w.Rota.Signer()
		if signer == "desk" {
			s = w.Desk.Signer()
		}
		_, doc, err := saml.Logout{Issuer: issuer, Destination: w.URL + "/saml/idp/slo", Now: time.Now()}.Request(name, sessions)
		require.NoError(t, err)
		location, err := saml.EncodeRedirect(w.URL+"/saml/idp/slo", saml.ParamRequest, doc, "", s)
		require.NoError(t, err)
		require.NoError(t, by.Get(ctx, location))
		return by.Status
	}
	open := func() int {
		list, err := w.Client().Sessions(ctx, client.Page{})
		require.NoError(t, err)
		return len(list.Items)
	}
	rota, desk := saml.EntityID(w.Rota.EntityID()), saml.EntityID(w.Desk.EntityID())
	assert.Equal(t, 400, ask(rota, saml.NameID{Value: "mvoss"}, nil, w.Walker(), "desk"), "another's key")
	assert.Equal(t, "saml.query-signature", newest(t, w).Code)
	ask(desk, saml.NameID{Value: "mvoss"}, nil, w.Walker(), "desk")
	ask(rota, saml.NameID{Value: "zoberg"}, nil, w.Walker(), "rota")
	ask(rota, saml.NameID{Value: "mvoss", Format: saml.FormatEmail}, nil, w.Walker(), "rota")
	ask(rota, saml.NameID{Value: "mvoss"}, []string{"_of-another"}, w.Walker(), "rota")
	assert.Equal(t, 1, open(), "an identifier that the application did not get signs nobody out")
	assert.NotEmpty(t, w.Desk.Sessions())

	// An answer that this browser did not wait for.
	doc, err := saml.Logout{Issuer: rota, Destination: w.URL + "/saml/idp/slo", Now: time.Now()}.Response("_x", false, "")
	require.NoError(t, err)
	location, err := saml.EncodeRedirect(w.URL+"/saml/idp/slo", saml.ParamResponse, doc, "01ARZ3NDEKTSV4RRFFQ69G5FAV", w.Rota.Signer())
	require.NoError(t, err)
	require.NoError(t, w.Walker().Get(ctx, location))
	assert.Equal(t, "logout.lost", newest(t, w).Code)

	// A form of another site.
	answer, _ := send(t, b.HTTP, "POST", w.URL+"/sign-out", "", "", "Origin", "https://evil.example", "Sec-Fetch-Site", "cross-site")
	assert.Equal(t, 403, answer.StatusCode)
	assert.Equal(t, 1, open())

	// By the application's own message, from another browser: the session ends, and what only its own browser could
	// tell is not told.
	assert.NotEqual(t, 400, ask(rota, saml.NameID{Value: "mvoss"}, nil, w.Walker(), "rota"))
	assert.Zero(t, open())
	assert.Empty(t, w.Desk.Sessions(), "by SOAP everybody can be told")
}

// TestLogoutBySOAPAndByPost has an application and a provider send their messages in the other bindings.
func TestLogoutBySOAPAndByPost(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := t.Context()
	connectDesk(t, w)
	first := threeSignedIn(t, w)
	soap := func(path string, doc []byte) (int, string) {
		answer, body := send(
			t, &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{}}}, "POST", w.URL+path, "",
			string(doc), "Content-Type", "text/xml",
		)
		return answer.StatusCode, body
	}
	l := saml.Logout{
		Issuer:      saml.EntityID(w.Desk.EntityID()),
		Destination: w.URL + "/saml/idp/slo",
		Now:         time.Now(),
		Signer:      w.Desk.Signer(),
		SOAP:        true,
	}
	name := saml.NameID{Value: w.Desk.Sessions()[0], Format: saml.FormatPersistent}
	_, doc, err := l.Request(name, nil)
	require.NoError(t, err)
	status, body := soap("/saml/idp/slo", doc)
	assert.Equal(t, 200, status, body)
	assert.Contains(t, body, "PartialLogout", "Crew Rota can be told by the browser only")
	assert.Contains(t, body, "Crew Rota")
	assert.NotEmpty(t, w.Ledger.LoggedOut())
	list, err := w.Client().Sessions(ctx, client.Page{Filters: map[string]string{"ended": "yes"}})
	require.NoError(t, err)
	require.Len(t, list.Items, 1)
	for _, a := range list.Items[0].Applications {
		assert.Equal(t, map[string]string{"Crew Rota": "browser", "Cargo Ledger": "told", "Ticket Desk": ""}[a.Name], a.Told, a.Name)
	}
	status, body = soap("/saml/idp/slo", []byte("<x/>"))
	assert.Equal(t, 500, status)
	assert.Contains(t, body, "Fault")

	// The provider, by SOAP and by POST.
	opens(t, first, w.RotaURL+"/sign-out")
	opens(t, first, w.DeskURL+"/sign-out")
	b := threeSignedIn(t, w)
	staff := saml.Logout{
		Issuer:      saml.EntityID(w.Staff.EntityID()),
		Destination: w.URL + "/saml/sp/saltmere-staff/slo",
		Now:         time.Now(),
		Signer:      w.Staff.Signer(),
		SOAP:        true,
	}
	_, doc, err = staff.Request(saml.NameID{Value: "zoberg-7c1f", Format: saml.FormatPersistent}, nil)
	require.NoError(t, err)
	status, _ = soap("/saml/sp/saltmere-staff/slo", doc)
	assert.Equal(t, 200, status)
	assert.NotEmpty(t, w.Desk.Sessions(), "somebody else was meant")
	staff.SOAP = false
	_, doc, err = staff.Request(saml.NameID{Value: "mvoss-7c1f", Format: saml.FormatPersistent}, nil)
	require.NoError(t, err)
	require.NoError(t, b.Post(ctx, w.URL+"/saml/sp/saltmere-staff/slo", url.Values{"SAMLRequest": {saml.EncodePost(doc)}}))
	require.NoError(t, b.Onward(ctx))
	assert.Contains(t, b.Text, "signed you out everywhere", "Crew Rota was told on the way")
	assert.Empty(t, w.Desk.Sessions())
	list, err = w.Client().Sessions(ctx, client.Page{})
	require.NoError(t, err)
	assert.Empty(t, list.Items)
}

// TestALogoutRequestCountsOnce answers a request once, not again, not for a session that began after it was made, and not
// for a name with other qualifiers.
func TestALogoutRequestCountsOnce(t *testing.T) {
	t.Parallel()
	w := world(t)
	connectDesk(t, w)
	b := threeSignedIn(t, w)
	soap := func(doc []byte) (int, string) {
		answer, body := send(t, http.DefaultClient, http.MethodPost, w.URL+"/saml/idp/slo", "", string(doc), "Content-Type", "text/xml")
		return answer.StatusCode, body
	}
	request := func(at time.Time, change func(*saml.NameID)) []byte {
		l := saml.Logout{Issuer: saml.EntityID(w.Desk.EntityID()), Destination: w.URL + "/saml/idp/slo", Now: at, Signer: w.Desk.Signer(),
			SOAP: true}
		name := saml.NameID{Value: w.Desk.Sessions()[0], Format: saml.FormatPersistent}
		if change != nil {
			change(&name)
		}
		_, doc, err := l.Request(name, nil)
		require.NoError(t, err)
		return doc
	}
	open := func() int {
		list, err := w.Client().Sessions(t.Context(), client.Page{Filters: map[string]string{"ended": "no"}})
		require.NoError(t, err)
		return len(list.Items)
	}
	before := open()
	for _, change := range []func(*saml.NameID){
		func(n *saml.NameID) { n.NameQualifier = "https://another.example" },
		func(n *saml.NameID) { n.SPNameQualifier = "https://another.example" },
	} {
		soap(request(time.Now(), change))
		assert.Equal(t, before, open(), "another name")
	}
	soap(request(time.Now().Add(-9*time.Minute), nil))
	assert.Equal(t, before, open(), "made before the session began")
	doc := request(time.Now(), nil)
	status, body := soap(doc)
	require.Equal(t, 200, status, body)
	require.Less(t, open(), before)
	require.NoError(t, b.SignIn(t.Context(), w.DeskURL+"/sign-in", "mvoss"))
	again := open()
	status, body = soap(doc)
	assert.Equal(t, 500, status)
	assert.Contains(t, body, "saml.request-repeated")
	assert.Equal(t, again, open())
}
