package server_test

import (
	"context"
	"encoding/base64"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"innergate/api"
	"innergate/client"
	"innergate/core/saml"
	"innergate/demo"
	"innergate/gate/ground"
	"innergate/standin"
	"innergate/store"
	"innergate/testbed"
)

var page1 = store.Page{Limit: 1}

// newest is the newest trace.
func newest(t testing.TB, w *demo.World) *api.Trace {
	t.Helper()
	list, err := w.Client().Traces(context.Background(), client.Page{Limit: 1})
	require.NoError(t, err)
	require.NotEmpty(t, list.Items)
	x, err := w.Client().Trace(context.Background(), list.Items[0].Reference)
	require.NoError(t, err)
	return x
}

// atProvider brings a browser to the point where the provider's response stands in its form, not sent yet.
func atProvider(t testing.TB, w *demo.World, user string) *demo.Walker {
	t.Helper()
	b, ctx := demo.NewWalker(nil), context.Background()
	require.NoError(t, b.Get(ctx, w.RotaURL+"/sign-in"))
	require.NoError(t, b.Submit(ctx, url.Values{"person": {user}}))
	require.Contains(t, b.Text, "SAMLResponse")
	return b
}

// TestProviderMistakes has the provider make each mistake for real and expects its explanation.
func TestProviderMistakes(t *testing.T) {
	t.Parallel()
	w := world(t)
	for mistake, code := range map[string]string{
		"audience":        "saml.audience-mismatch",
		"recipient-slash": "saml.destination-mismatch",
		"destination":     "saml.destination-mismatch",
		"wrong-key":       "saml.signature-wrong-key",
		"unsigned":        "saml.signature-missing",
		"expired":         "saml.expired",
		"early":           "saml.not-yet-valid",
		"nameid-format":   "saml.nameid-format",
		"no-nameid":       "saml.nameid-missing",
		"issuer":          "saml.provider-unknown",
		"in-response-to":  "saml.in-response-mismatch",
		"no-attributes":   "map.required-missing",
		"no-context":      "saml.status-no-context",
		"nameid-policy":   "saml.status-nameid-policy",
		"denied":          "saml.status-denied",
	} {
		t.Run(mistake, func(t *testing.T) {
			w.Staff.SetMistake(mistake)
			b := demo.NewWalker(nil)
			require.NoError(t, b.SignIn(context.Background(), w.RotaURL+"/sign-in", "mvoss"))
			x := newest(t, w)
			assert.Equal(t, "refused", x.Outcome)
			require.NotNil(t, x.Explanation)
			assert.Equal(t, code, string(x.Explanation.Code))
			assert.NotContains(t, x.Explanation.Cause, "{")
			assert.Contains(t, b.Text, x.Reference)
			for _, e := range x.Explanation.Evidence {
				if len(e.Got) > 12 {
					assert.NotContains(t, b.Text, html.EscapeString(e.Got), "the person's page shows no evidence")
				}
			}
			// The application gets an answer when the person goes back.
			require.NoError(t, b.Submit(context.Background(), nil))
			assert.Contains(t, b.Text, "did not sign you in")
			assert.Contains(t, b.Text, x.Reference)
		})
	}
	assert.Len(t, standin.Mistakes, 18, "a new mistake needs a line here")
	t.Run("response-only is accepted unless set otherwise", func(t *testing.T) {
		w.Staff.SetMistake("response-only")
		b := demo.NewWalker(nil)
		require.NoError(t, b.SignIn(context.Background(), w.RotaURL+"/sign-in", "mvoss"))
		assert.Equal(t, "mvoss", b.Inner("nameid"))
	})
	t.Run("an old session after a demand for a fresh one", func(t *testing.T) {
		w.Staff.SetMistake("old-session")
		b := demo.NewWalker(nil)
		r, err := w.Client().NewRehearsal(context.Background(), api.NewRehearsal{Application: "crew-rota", Flow: "sp"})
		require.NoError(t, err)
		require.NoError(t, b.Rehearse(context.Background(), r.Link, "mvoss"))
		assert.Equal(t, "saml.authn-old", newest(t, w).Code)
	})
}

// TestAnswerBelongsToItsBrowser takes a victim's response into another browser, and an attacker's into the victim's.
func TestAnswerBelongsToItsBrowser(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	victim := atProvider(t, w, "mvoss")
	response := victim.Find(func(n *html.Node) bool { return n.Data == "form" })
	require.NotNil(t, response)
	values := url.Values{}
	for n := range response.Descendants() {
		if n.Type == html.ElementNode && n.Data == "input" {
			values.Set(attribute(n, "name"), attribute(n, "value"))
		}
	}
	thief := demo.NewWalker(nil)
	require.NoError(t, thief.Post(ctx, w.URL+"/saml/sp/saltmere-staff/acs", values))
	assert.Equal(t, "browser.lost", newest(t, w).Code)
	assert.NotContains(t, thief.Text, "SAMLResponse")
	// The thief's try does not end the victim's sign-in.
	require.NoError(t, victim.Onward(ctx))
	assert.Equal(t, "mvoss", victim.Inner("nameid"), victim.Text)
	// A second time it is over, in the victim's browser as well.
	require.NoError(t, victim.Post(ctx, w.URL+"/saml/sp/saltmere-staff/acs", values))
	assert.Contains(t, []string{"browser.finished", "browser.lost"}, newest(t, w).Code)
}

func attribute(n *html.Node, name string) string {
	for _, a := range n.Attr {
		if a.Key == name {
			return a.Val
		}
	}
	return ""
}

// TestReplayAtOnce sends one unsolicited response fifty times at once: it is good for exactly one.
func TestReplayAtOnce(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	b := demo.NewWalker(nil)
	require.NoError(t, b.Post(ctx, w.StaffURL+"/start", url.Values{"person": {"jhale"}, "application": {w.URL + "/start/crew-rota"}}))
	value := attribute(b.Find(func(n *html.Node) bool { return attribute(n, "name") == "SAMLResponse" }), "value")
	var good, replayed int
	var mu sync.Mutex
	var wg sync.WaitGroup
	for range 50 {
		wg.Go(func() {
			x := demo.NewWalker(nil)
			err := x.Post(
				ctx,
				w.URL+"/saml/sp/saltmere-staff/acs",
				url.Values{"SAMLResponse": {value}, "RelayState": {w.URL + "/start/crew-rota"}},
			)
			mu.Lock()
			defer mu.Unlock()
			switch {
			case err != nil:
				t.Error(err)
			case strings.Contains(x.Text, "SAMLResponse"):
				good++
			case strings.Contains(x.Text, "used before"):
				replayed++
			}
		})
	}
	wg.Wait()
	assert.Equal(t, 1, good)
	assert.Equal(t, 49, replayed)
}

// TestALostRaceIsNotHowItWent has one browser bring the answer to one sign-in many times at once: one of them signs in, and its
// trace tells that and goes on telling it, whatever became of the others.
func TestALostRaceIsNotHowItWent(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	for round := range 5 {
		b := w.Walker()
		require.NoError(t, b.Get(ctx, w.RotaURL+"/sign-in"))
		require.NoError(t, b.Onward(ctx))
		require.NoError(t, b.Submit(ctx, url.Values{"person": {"mvoss"}}))
		value := func(name string) string {
			return attribute(b.Find(func(n *html.Node) bool { return attribute(n, "name") == name }), "value")
		}
		form := url.Values{"SAMLResponse": {value("SAMLResponse")}, "RelayState": {value("RelayState")}}
		require.NotEmpty(t, form.Get("SAMLResponse"))
		var good atomic.Int64
		var wg sync.WaitGroup
		for range 8 {
			wg.Go(func() {
				x := *b
				if err := x.Post(ctx, w.URL+"/saml/sp/saltmere-staff/acs", form); err != nil {
					t.Error(err)
				}
				if err := x.Onward(ctx); err != nil {
					t.Error(err)
				}
				if x.Inner("nameid") == "mvoss" {
					good.Add(1)
				}
			})
		}
		wg.Wait()
		assert.EqualValues(t, 1, good.Load())
		list, err := w.Client().Traces(ctx, client.Page{Limit: 200})
		require.NoError(t, err)
		ended := 0
		for _, x := range list.Items {
			if x.Outcome == "signed-in" {
				ended++
			}
			assert.NotEqual(t, "open", x.Outcome)
		}
		assert.Equal(t, round+1, ended, "the trace of each sign-in says that it came through")
	}
}

// TestUnsolicitedNeedsLeave takes the leave away, and tries RelayStates that lead nowhere.
func TestUnsolicitedNeedsLeave(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	try := func(relay string) string {
		b := demo.NewWalker(nil)
		require.NoError(t, b.Post(ctx, w.StaffURL+"/start", url.Values{"person": {"jhale"}, "application": {relay}}))
		require.NoError(t, b.Onward(ctx))
		return newest(t, w).Code
	}
	for _, relay := range []string{"", "nobody", "https://evil.example/start/crew-rota", w.URL + "/start/",
		w.URL + ".evil.example/start/crew-rota"} {
		assert.Equal(t, "saml.unsolicited-where", try(relay), relay)
	}
	assert.Equal(t, "relay.refused", try(w.URL+"/start/crew-rota?to=https%3A%2F%2Fevil.example%2F"))
	assert.Equal(t, "", try(w.URL+"/start/crew-rota?to="+url.QueryEscape(w.RotaURL+"/week/47")))
	p, err := w.Client().Provider(ctx, "saltmere-staff")
	require.NoError(t, err)
	c := p.Provider
	c.SAML.AllowUnsolicited = false
	_, err = w.Client().PutProvider(ctx, c, 0)
	require.NoError(t, err)
	assert.Equal(t, "saml.unsolicited", try(w.URL+"/start/crew-rota"), "the change acts at once")
}

func TestDeepLinksStayInside(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	for to, allowed := range map[string]bool{
		"/week/47":       true,
		"":               true,
		"@evil.example/": false,
		".evil.example/": false,
		"/../../evil":    false,
		"\\evil":         false,
	} {
		target := w.RotaURL + to
		b := demo.NewWalker(nil)
		require.NoError(t, b.SignIn(ctx, w.URL+"/start/crew-rota?to="+url.QueryEscape(target), "mvoss"))
		if to == "" {
			continue // the bare host lacks the slash of the beginning that is allowed
		}
		assert.Equal(t, allowed, b.Inner("nameid") == "mvoss", to)
	}
}

// TestRepeatedRequest goes back and reloads in the same browser, and opens the same link in another.
func TestRepeatedRequest(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	b := demo.NewWalker(&http.Transport{})
	b.HTTP.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	r, err := http.NewRequest(http.MethodGet, w.RotaURL+"/sign-in", nil)
	require.NoError(t, err)
	answer, err := b.HTTP.Do(r)
	require.NoError(t, err)
	answer.Body.Close()
	link := answer.Header.Get("Location")
	b.HTTP.CheckRedirect = nil
	require.NoError(t, b.Get(ctx, link))
	require.Contains(t, b.Text, "choose who you are")
	require.NoError(t, b.Get(ctx, link), "double click")
	require.Contains(t, b.Text, "choose who you are")
	other := demo.NewWalker(nil)
	require.NoError(t, other.Get(ctx, link))
	assert.Equal(t, "saml.request-repeated", newest(t, w).Code)
	require.NoError(t, b.Submit(ctx, url.Values{"person": {"mvoss"}}))
	require.NoError(t, b.Onward(ctx))
	assert.Equal(t, "mvoss", b.Inner("nameid"), b.Text)
	require.NoError(t, b.Get(ctx, link))
	assert.Equal(t, "saml.request-repeated", newest(t, w).Code, "once answered it is over")
}

// TestTwoTabs runs two sign-ins of one browser at once.
func TestTwoTabs(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	first := atProvider(t, w, "mvoss")
	second := &demo.Walker{HTTP: first.HTTP}
	w.Staff.Forget()
	require.NoError(t, second.SignIn(ctx, w.RotaURL+"/sign-in", "jhale"))
	assert.Equal(t, "jhale", second.Inner("nameid"))
	require.NoError(t, first.Onward(ctx))
	assert.Equal(t, "mvoss", first.Inner("nameid"), first.Text)
}

func TestUnknownAskersGetOurPage(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	ask := func(issuer, acs string) *demo.Walker {
		_, doc, err := saml.NewAuthnRequest(
			saml.Asked{Issuer: saml.EntityID(issuer), Destination: w.URL + "/saml/idp/sso", ACS: acs, Now: time.Now()},
			nil,
		)
		require.NoError(t, err)
		location, err := saml.EncodeRedirect(w.URL+"/saml/idp/sso", saml.ParamRequest, doc, "", nil)
		require.NoError(t, err)
		b := demo.NewWalker(nil)
		require.NoError(t, b.Get(ctx, location))
		return b
	}
	b := ask("https://evil.example/saml", "https://evil.example/acs")
	assert.Equal(t, "saml.application-unknown", newest(t, w).Code)
	assert.NotContains(t, b.Text, "evil.example")
	b = ask(w.RotaURL+"/saml", "https://evil.example/acs")
	assert.Equal(t, "saml.request-unsigned", newest(t, w).Code)
	assert.NotContains(t, b.Text, "evil.example/acs")
	for _, query := range []string{"?SAMLRequest=nonsense", "?SAMLResponse=x", "?x=1"} {
		require.NoError(t, b.Get(ctx, w.URL+"/saml/idp/sso"+query))
		assert.Equal(t, http.StatusBadRequest, b.Status)
	}
	require.NoError(t, b.Get(ctx, w.URL+"/saml/idp/sso"))
	assert.Contains(t, b.Text, "takes sign-in requests")
	require.NoError(t, b.Get(ctx, w.URL+"/saml/sp/saltmere-staff/acs"))
	assert.Contains(t, b.Text, "takes sign-in responses")
}

// TestRehearsalStaysWithItsBrowser: a rehearsal is for the first browser that begins, and a draft is open to nobody
// else.
func TestRehearsalStaysWithItsBrowser(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	require.NoError(t, w.Client().SetReach(ctx, "applications", "crew-rota", "draft"))
	r, err := w.Client().NewRehearsal(ctx, api.NewRehearsal{Application: "crew-rota", Flow: "sp"})
	require.NoError(t, err)
	tester := demo.NewWalker(nil)
	require.NoError(t, tester.Rehearse(ctx, r.Link, "mvoss"))
	assert.Equal(t, "mvoss", tester.Inner("nameid"))
	other := demo.NewWalker(nil)
	require.NoError(t, other.Get(ctx, r.Link))
	assert.Contains(t, other.Text, "rehearsal is over")
	require.NoError(t, other.Post(ctx, r.Link, nil))
	assert.NotContains(t, other.Text, "SAML")
	require.NoError(t, other.SignIn(ctx, w.RotaURL+"/sign-in", "jhale"))
	assert.Equal(t, "reach.application-draft", newest(t, w).Code)
	// Nobody was created by the rehearsal.
	require.NoError(t, w.Client().SetReach(ctx, "applications", "crew-rota", "everyone"))
	fresh := demo.NewWalker(nil)
	require.NoError(t, fresh.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	created := false
	for _, e := range newest(t, w).Entries {
		created = created || e.Decision != nil && strings.Contains(e.Decision.Result, "(created)")
	}
	assert.True(t, created)
	// A form of another site can't begin one.
	r, err = w.Client().NewRehearsal(ctx, api.NewRehearsal{Application: "crew-rota", Flow: "idp"})
	require.NoError(t, err)
	answer, _ := send(
		t, http.DefaultClient, http.MethodPost, r.Link, "", "", "Origin", "https://evil.example", "Content-Type",
		"application/x-www-form-urlencoded",
	)
	assert.Equal(t, 403, answer.StatusCode)
}

func TestViewerSeesNoPersonalValues(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), context.Background()
	b := demo.NewWalker(nil)
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "zoberg"))
	viewer := client.New(w.URL, token(t, w, ground.RoleViewer))
	list, err := viewer.Traces(ctx, client.Page{})
	require.NoError(t, err)
	_, body := send(t, http.DefaultClient, http.MethodGet, w.URL+"/api/v1/traces/"+list.Items[0].Reference, viewer.Token, "")
	for _, secret := range []string{"zoberg", "Öberg", "zoe.oberg", base64.StdEncoding.EncodeToString([]byte("zoberg"))} {
		assert.NotContains(t, body, secret)
	}
	assert.Equal(t, "•••", list.Items[0].Person)
	assert.Contains(t, body, "saml.audience")
}

// TestTraceIsNoWayToBecomeSomebody: while a message might still be accepted, its signature is not shown to anybody.
func TestTraceIsNoWayToBecomeSomebody(t *testing.T) {
	t.Parallel()
	turned := time.Duration(0)
	w := testbed.World(t, demo.Options{Now: func() time.Time { return time.Now().Add(turned) }})
	b := demo.NewWalker(nil)
	require.NoError(t, b.SignIn(context.Background(), w.RotaURL+"/sign-in", "zoberg"))
	x := newest(t, w)
	for _, e := range x.Entries {
		if e.Message != nil && strings.Contains(e.Message.Raw, "SignatureValue") {
			assert.Contains(t, e.Message.Raw, "<ds:SignatureValue>(shown when it has expired)</ds:SignatureValue>")
			assert.Contains(t, e.Decoded, "(shown when it has expired)")
		}
	}
	turned = 11 * time.Minute
	shown := `<ds:SignatureValue>[A-Za-z0-9+/]{300,}=*</ds:SignatureValue>`
	later := newest(t, w)
	assert.Regexp(t, shown, later.Entries[len(later.Entries)-1].Message.Raw)
	for _, e := range later.Entries {
		if e.Message != nil && e.Message.Name == "Response" && e.Message.From == "provider" {
			assert.NotRegexp(t, shown, e.Message.Raw, "a provider's assertion may live for a day")
		}
	}
}

// TestStrangersCantFillTheDisk begins more sign-ins than one address may have in flight.
func TestStrangersCantFillTheDisk(t *testing.T) {
	t.Parallel()
	w := testbed.World(t, demo.Options{InFlight: 5})
	for i := range 8 {
		b := demo.NewWalker(nil)
		require.NoError(t, b.Get(context.Background(), w.RotaURL+"/sign-in"))
		assert.Equal(t, i < 5, strings.Contains(b.Text, "choose who you are"), "sign-in %d", i+1)
	}
	assert.Equal(t, "gate.busy", newest(t, w).Code)
}

// TestRestartInTheMiddle stops the service while the person is at the provider; the sign-in goes on afterwards.
func TestRestartInTheMiddle(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	w := testbed.World(t, demo.Options{Folder: folder})
	b := atProvider(t, w, "mvoss")
	second, err := w.Reopen(folder)
	require.NoError(t, err)
	t.Cleanup(second.Close)
	require.NoError(t, b.Onward(context.Background()))
	assert.Equal(t, "mvoss", b.Inner("nameid"), b.Text)
}
