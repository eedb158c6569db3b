package server_test

import (
	"context"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/core/access"
	"innergate/demo"
	"innergate/testbed"
)

// TestFromDraftOverACircleToEveryoneAndBack takes an application live in steps, sees who gets in at each, and takes
// each back.
func TestFromDraftOverACircleToEveryoneAndBack(t *testing.T) {
	t.Parallel()
	clock := time.Now()
	var mu sync.Mutex
	w := testbed.World(t, demo.Options{Now: func() time.Time { mu.Lock(); defer mu.Unlock(); return clock }})
	ctx, c := t.Context(), w.Client()
	in := func(user string) string {
		mu.Lock()
		clock = clock.Add(time.Second)
		mu.Unlock()
		_, code := signsIn(t, w, user)
		return code
	}
	for _, user := range []string{"mvoss", "zoberg", "sito"} {
		require.Empty(t, in(user))
	}
	circle := &access.Circle{People: []string{"mvoss"}, Groups: []string{"office"}, Except: &access.Exceptions{People: []string{"sito"}}}
	b := w.Walker()
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "zoberg"))

	// First it is shown whom it touches.
	p, err := c.PreviewReach(ctx, "applications", "crew-rota", api.ReachChange{Reach: access.InCircle, Circle: circle})
	require.NoError(t, err)
	assert.Equal(t, []int{3, 0, 2}, []int{p.People, p.Gains, p.Loses}, "%v", p.Words)
	assert.GreaterOrEqual(t, p.Sessions, 2)
	assert.Contains(t, strings.Join(p.Words, " "), "2 people can't use it any more.")
	require.Empty(t, in("zoberg"), "nothing was changed")

	_, err = c.ChangeReach(ctx, "applications", "crew-rota", api.ReachChange{Reach: access.InCircle, Circle: circle})
	require.NoError(t, err)
	assert.Empty(t, in("mvoss"), "named")
	assert.Equal(t, "reach.application-circle", in("zoberg"))
	assert.Contains(t, mustText(newest(t, w).Explanation), "in none of the circle")
	assert.Equal(t, "reach.application-circle", in("sito"), "an exception wins over a group")
	opens(t, b, w.RotaURL+"/sign-in")
	assert.Contains(t, b.Text, "not open to everybody yet", "a session at the gate does not help")
	list, err := c.Sessions(ctx, client.Page{Search: "zoë"})
	require.NoError(t, err)
	assert.NotEmpty(t, list.Items, "but it goes on, unless it is said otherwise")

	// For a maintenance window, with the sessions of those outside ended; then what was before comes back by itself.
	changed, err := c.ChangeReach(ctx, "applications", "crew-rota", api.ReachChange{Reach: access.Closed, Minutes: 30, EndSessions: true})
	require.NoError(t, err)
	assert.Positive(t, changed.Ended)
	require.NotNil(t, changed.Until)
	assert.Equal(t, "reach.application-closed", in("mvoss"))
	mu.Lock()
	clock = clock.Add(31 * time.Minute)
	mu.Unlock()
	require.NoError(t, w.Gate.Configuration.RevertDue(ctx))
	assert.Empty(t, in("mvoss"))
	assert.Equal(t, "reach.application-circle", in("zoberg"))

	_, err = c.ChangeReach(ctx, "applications", "crew-rota", api.ReachChange{Reach: access.Everyone})
	require.NoError(t, err)
	assert.Empty(t, in("zoberg"))
	require.NoError(t, c.UndoReach(ctx, "applications", "crew-rota"))
	assert.Equal(t, "reach.application-circle", in("zoberg"), "one step back")
	require.NoError(t, c.UndoReach(ctx, "applications", "crew-rota"))
	assert.Empty(t, in("zoberg"), "and another: it was open before the circle")
	refused(t, c.UndoReach(ctx, "applications", "crew-rota"), "nothing-to-undo", "")
	steps, err := c.ReachHistory(ctx, "applications", "crew-rota")
	require.NoError(t, err)
	require.Len(t, steps.Items, 3)
	assert.NotNil(t, steps.Items[0].Undone)
	assert.Contains(t, steps.Items[2].To, "circle: the group office; mvoss; but not sito")
	for code, bad := range map[string]api.ReachChange{"circle": {Reach: access.InCircle, Circle: &access.Circle{}},
		"reach": {Reach: "some"}, "minutes": {Reach: access.Closed, Minutes: -1}} {
		_, err = c.ChangeReach(ctx, "applications", "crew-rota", bad)
		refused(t, err, code, "")
	}
}

// TestReachChangesUnderLoad takes Ticket Desk from draft over a circle to everyone and back while people sign in:
// nobody who is let in fails.
func TestReachChangesUnderLoad(t *testing.T) {
	t.Parallel()
	w := testbed.World(t, demo.Options{InFlight: 100000})
	ctx, c := t.Context(), w.Client()
	connectDesk(t, w)
	circle := &access.Circle{Groups: []string{"crew"}}
	var running sync.WaitGroup
	var done, wrong atomic.Int64
	var first atomic.Value
	stop := make(chan struct{})
	for _, user := range []string{"mvoss", "jhale"} { // both are in the circle
		running.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				b := w.Walker()
				if err := b.SignIn(context.Background(), w.DeskURL+"/sign-in", user); err != nil || b.Inner("nameid") == "" {
					wrong.Add(1)
					first.CompareAndSwap(nil, b.Text)
				}
				b.HTTP.CloseIdleConnections()
				done.Add(1)
			}
		})
	}
	some := func() {
		before := done.Load()
		require.Eventually(t, func() bool { return done.Load() >= before+8 }, testbed.Patience, 5*time.Millisecond)
	}
	some()
	for range 2 {
		for _, to := range []api.ReachChange{{Reach: access.InCircle, Circle: circle}, {Reach: access.Everyone}, {Reach: access.InCircle},
			{Reach: access.Everyone, Minutes: 60}} {
			_, err := c.ChangeReach(ctx, "applications", "ticket-desk", to)
			require.NoError(t, err)
			some()
		}
		require.NoError(t, c.UndoReach(ctx, "applications", "ticket-desk"))
		some()
	}
	close(stop)
	running.Wait()
	assert.Zero(t, wrong.Load(), "%v", first.Load())
	assert.Greater(t, done.Load(), int64(60))
}

// TestAProvidersCircle sends the chosen few to the new provider and all others to the former one.
func TestAProvidersCircle(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx, c := t.Context(), w.Client()
	_, code := signsIn(t, w, "mvoss")
	require.Empty(t, code)
	_, err := c.ChangeReach(
		ctx,
		"providers",
		"northquay-stevedores",
		api.ReachChange{Reach: access.InCircle, Circle: &access.Circle{People: []string{"mvoss", "lene.aas"}, Instead: "saltmere-staff"}},
	)
	require.NoError(t, err)
	ask := func(q api.RouteQuestion) *api.RouteAnswer {
		q.Application = "cargo-ledger"
		a, err := c.AskRoute(ctx, q)
		require.NoError(t, err)
		return a
	}
	a := ask(api.RouteQuestion{})
	require.NotNil(t, a.Page)
	assert.True(t, a.Page.Field, "it depends on who signs in")
	assert.NotContains(t, a.Page.Buttons, "Northquay Stevedores")
	a = ask(api.RouteQuestion{Name: "mira.voss@saltmere.example"})
	require.NotNil(t, a.Page)
	assert.Contains(t, a.Page.Buttons, "Northquay Stevedores")
	assert.NotContains(t, a.Page.Buttons, "Saltmere Staff", "those inside do not go to the former one")

	b := w.Walker()
	require.NoError(t, b.Get(ctx, w.LedgerURL+"/sign-in"))
	require.NoError(t, b.Post(ctx, w.URL+formAction(b, "/name"), url.Values{"name": {"mvoss"}}))
	require.NoError(t, b.Onward(ctx))
	assert.Contains(t, b.Text, "Name", "a login name goes to the gate's own directory, whether it is known or not")
	// Whoever gets there all the same, and is outside, is told so.
	n := w.Walker()
	n.Provider = "northquay-stevedores"
	require.NoError(t, n.Get(ctx, w.LedgerURL+"/sign-in"))
	require.NoError(t, n.Submit(ctx, url.Values{"provider": {"northquay-stevedores"}}))
	assert.NotContains(t, n.Text, "choose who you are")
}

// formAction is the action of the form that ends so.
func formAction(b *demo.Walker, end string) string {
	i := strings.Index(b.Text, end+`"`)
	if i < 0 {
		return ""
	}
	from := strings.LastIndex(b.Text[:i], `"`)
	return b.Text[from+1 : i+len(end)]
}

// TestRoutesLead sends people by mail domain, network, group and what they used before, and tells where somebody would
// go, and why.
func TestRoutesLead(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx, c := t.Context(), w.Client()
	_, code := signsIn(t, w, "mvoss")
	require.Empty(t, code)
	routes := access.Routes{Rules: []access.Route{
		{Name: "stevedores", If: access.RouteCondition{MailDomains: []string{"northquay.example"}}, To: []string{"northquay-stevedores"}},
		{Name: "our own", If: access.RouteCondition{Known: []string{"saltmere-staff"}}, To: []string{"saltmere-staff"}},
		{
			Name: "the office",
			If:   access.RouteCondition{Networks: []string{"10.20.0.0/16"}},
			To:   []string{"saltmere-staff", "harbour-register"},
		},
		{Name: "ticket holders", If: access.RouteCondition{MailDomains: []string{"freemail.example"}}, To: []string{"lantern-pass"}},
	}}
	_, err := c.SetRoutes(ctx, routes)
	require.NoError(t, err)
	ask := func(q api.RouteQuestion) *api.RouteAnswer {
		t.Helper()
		q.Application = "cargo-ledger"
		a, err := c.AskRoute(ctx, q)
		require.NoError(t, err)
		return a
	}
	mira := known(t, w, "Mira")[0]
	assert.Equal(t, "northquay-stevedores", ask(api.RouteQuestion{Name: "nobody.here@northquay.example"}).Goes)
	a := ask(api.RouteQuestion{Person: mira.ID})
	assert.Equal(t, []string{"saltmere-staff", "route 2 (our own)"}, []string{a.Goes, a.By})
	assert.Contains(t, a.Passed, "route 1 (stevedores): the mail domain is not northquay.example")
	a = ask(api.RouteQuestion{Name: "somebody@elsewhere.example", Network: "10.20.4.4"})
	require.NotNil(t, a.Page)
	assert.Equal(t, []string{"Saltmere Staff", "Harbour Register"}, a.Page.Buttons)
	assert.Equal(
		t, "harbour-register", ask(api.RouteQuestion{Name: "runa.holt"}).Goes,
		"a name without an address is one of the gate's own directory",
	)
	draft := access.Routes{Rules: []access.Route{{To: []string{"lantern-pass"}}}}
	assert.Equal(t, "lantern-pass", ask(api.RouteQuestion{Routes: &draft}).Goes, "a draft is asked about as well")

	// By way of the page: the same for a person who is there and one who is not.
	for _, name := range []string{"lene.aas@northquay.example", "nobody@northquay.example"} {
		b := w.Walker()
		require.NoError(t, b.Get(ctx, w.LedgerURL+"/sign-in"))
		require.NoError(t, b.Post(ctx, w.URL+formAction(b, "/name"), url.Values{"name": {name}}))
		require.NoError(t, b.Onward(ctx))
		assert.True(t, strings.HasPrefix(b.Address.String(), w.NorthquayURL), "%s: %s", name, b.Address)
	}
	// Somebody enters a routed address where a password is asked for: no password is tried, and a sentence stands in
	// its place.
	b := w.Walker()
	require.NoError(t, b.Get(ctx, w.LedgerURL+"/sign-in"))
	require.NoError(t, b.Submit(ctx, url.Values{"provider": {"harbour-register"}}))
	require.NoError(t, b.Onward(ctx))
	require.NoError(t, b.Submit(ctx, url.Values{"name": {"lene.aas@northquay.example"}, "password": {"any password at all"}}))
	require.NoError(t, b.Onward(ctx))
	assert.Contains(t, b.Text, "You sign in at <strong>Northquay Stevedores</strong>")
	assert.NotContains(t, b.Text, `role="alert"`)
	require.NoError(t, b.Submit(ctx, url.Values{"provider": {"northquay-stevedores"}}))
	require.NoError(t, b.Onward(ctx))
	assert.Contains(t, b.Text, chooses)

	// The way that was taken is remembered.
	require.NoError(t, b.Submit(ctx, url.Values{"person": {"lene.aas"}}))
	require.NoError(t, b.Onward(ctx))
	require.NotEmpty(t, b.Inner("subject"), b.Text)
	opens(t, b, w.URL+"/sign-out")
	require.NoError(t, b.Submit(ctx, nil))
	require.NoError(t, b.Get(ctx, w.LedgerURL+"/sign-in"))
	assert.Contains(t, b.Text, "Northquay Stevedores · the last time", "at %s", b.Address)

	// Findings: what is never reached, leads nowhere, or trusts a domain that anybody can have.
	routes.Rules = append(
		routes.Rules,
		access.Route{
			Name: "late",
			If:   access.RouteCondition{MailDomains: []string{"northquay.example"}, Groups: []string{"quay"}},
			To:   []string{"northquay-stevedores"},
		},
		access.Route{Name: "lost", If: access.RouteCondition{Applications: []string{"crew-rota"}}, To: []string{"lantern-pass"}},
	)
	_, err = c.SetRoutes(ctx, routes)
	require.NoError(t, err)
	_, err = c.Checkup(ctx)
	require.NoError(t, err)
	found(t, w, "route.never", true)
	found(t, w, "route.nowhere", true)
	assert.Contains(t, found(t, w, "route.public-domain", true).Detail, "freemail.example")
	for want, bad := range map[string]access.Routes{"no such provider": {Rules: []access.Route{{To: []string{"nothing"}}}},
		"no such application": {Rules: []access.Route{{If: access.RouteCondition{Applications: []string{"x"}},
			To: []string{"lantern-pass"}}}},
		"no group": {Rules: []access.Route{{If: access.RouteCondition{Groups: []string{"x"}}, To: []string{"lantern-pass"}}}}} {
		_, err = c.SetRoutes(ctx, bad)
		assert.ErrorContains(t, err, want)
	}
	// As a file, twice.
	file, err := c.ExportConfig(ctx)
	require.NoError(t, err)
	assert.Contains(t, file, "name: stevedores")
	again, err := c.LoadConfig(ctx, file, false)
	require.NoError(t, err)
	assert.Empty(t, again.Steps)
}
