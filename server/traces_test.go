package server_test

import (
	"context"
	"net/http"
	"net/url"
	"regexp"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/demo"
	"innergate/gate/ground"
	"innergate/testbed"
)

func newestReference(t *testing.T, w *demo.World) string {
	t.Helper()
	list, err := w.Client().Traces(t.Context(), client.Page{Limit: 1})
	require.NoError(t, err)
	require.NotEmpty(t, list.Items)
	return list.Items[0].Reference
}

// TestTracesAreCompared lays yesterday's good sign-in beside today's bad one, and one person beside another.
func TestTracesAreCompared(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	_, code := signsIn(t, w, "mvoss")
	require.Empty(t, code)
	good := newestReference(t, w)
	_, code = signsIn(t, w, "zoberg")
	require.Empty(t, code)
	other := newestReference(t, w)

	// Two people through the same passage: nothing that matters differs.
	r, err := c.CompareTraces(ctx, other, good)
	require.NoError(t, err)
	assert.Equal(t, []string{good, other}, []string{r.A.Reference, r.B.Reference}, "the elder comes first")
	for _, row := range r.Rows {
		if row.Matters {
			assert.Contains(t, []string{"decision", "value"}, row.Kind, "%v", row)
		}
	}

	// Somebody changes the configuration, and Mira can't come in any more.
	_, err = c.SetAccess(
		ctx,
		"crew-rota",
		access.Policy{To: access.Everybody, Rules: []access.Rule{{Name: "closed for now", Then: access.Refuse}}},
	)
	require.NoError(t, err)
	_, code = signsIn(t, w, "mvoss")
	require.Equal(t, "access.refused", code)
	bad := newestReference(t, w)
	r, err = c.CompareTraces(ctx, bad, "")
	require.NoError(t, err)
	assert.Equal(t, good, r.A.Reference, "the newest good one of the same person, not that of another")
	require.GreaterOrEqual(t, r.First, 0)
	assert.Equal(t, "access", r.Rows[r.First].Name, r.Words)
	assert.Contains(t, r.Words, "“allow", r.Words)
	require.Len(t, r.Configuration, 1)
	assert.Equal(t, "crew-rota", r.Configuration[0].Object.Slug)
	assert.Equal(t, "token demo", r.Configuration[0].By)
	assert.NotEmpty(t, r.Configuration[0].Changes)

	// A message that was changed on its way: the check that failed first is named.
	_, err = c.SetAccess(ctx, "crew-rota", access.Policy{To: access.Everybody})
	require.NoError(t, err)
	w.Staff.SetMistake("audience")
	_, code = signsIn(t, w, "mvoss")
	require.Equal(t, "saml.audience-mismatch", code)
	r, err = c.CompareTraces(ctx, newestReference(t, w), good)
	require.NoError(t, err)
	assert.Equal(t, "check", r.Rows[r.First].Kind, r.Words)
	assert.Contains(t, r.Words, "held in the first, and failed in the second")
	w.Staff.SetMistake("")

	_, err = c.CompareTraces(ctx, good, good)
	assert.ErrorContains(t, err, "one and the same")
	_, err = c.CompareTraces(ctx, good, "")
	assert.ErrorContains(t, err, "no earlier sign-in")
	_, err = c.CompareTraces(ctx, good, "NOPE-NOPE")
	assert.Error(t, err)

	// A viewer sees the difference, and no names or values.
	viewer, err := c.NewToken(ctx, api.NewToken{Name: "v", Role: "viewer", Days: 1})
	require.NoError(t, err)
	masked, err := client.New(w.URL, viewer.Secret).CompareTraces(ctx, other, good)
	require.NoError(t, err)
	assert.NotContains(t, mustText(masked), "Voss")
	assert.NotContains(t, mustText(masked), "saltmere.example\"]")
}

// TestTracesAreFound looks for them by each of the fields.
func TestTracesAreFound(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	began := time.Now()
	for _, user := range []string{"mvoss", "sito", "zoberg"} {
		_, code := signsIn(t, w, user)
		require.Empty(t, code)
	}
	w.Staff.SetMistake("audience")
	signsIn(t, w, "jhale")
	w.Staff.SetMistake("")
	count := func(p client.Page) int {
		list, err := c.Traces(ctx, p)
		require.NoError(t, err)
		return len(list.Items)
	}
	mira := known(t, w, "Mira")[0]
	full, err := c.Trace(ctx, newestReference(t, w))
	require.NoError(t, err)
	id := ""
	for _, e := range full.Entries {
		if m := e.Message; m != nil && m.Name == "Response" && m.From == "provider" {
			id = regexp.MustCompile(` ID="([^"]+)"`).FindStringSubmatch(m.Raw)[1]
		}
	}
	require.NotEmpty(t, id)
	for what, one := range map[string]struct {
		page client.Page
		want int
	}{
		"first name":           {client.Page{Search: "mira"}, 1},
		"last name":            {client.Page{Search: "Voss"}, 1},
		"letters with accents": {client.Page{Search: "zoë ö"}, 1},
		"other letters":        {client.Page{Search: "咲良"}, 1},
		"mail address":         {client.Page{Search: "mira.voss@"}, 1},
		"code":                 {client.Page{Search: "saml.audience-mismatch"}, 1},
		"message ID":           {client.Page{Search: id}, 1},
		"reference":            {client.Page{Search: full.Reference}, 1},
		"person":               {client.Page{Filters: map[string]string{"person": mira.ID}}, 1},
		"outcome":              {client.Page{Filters: map[string]string{"outcome": "refused"}}, 1},
		"from":                 {client.Page{Filters: map[string]string{"from": began.Format(time.RFC3339)}}, 4},
		"from later":           {client.Page{Filters: map[string]string{"from": time.Now().Add(time.Minute).Format(time.RFC3339)}}, 0},
		"until":                {client.Page{Filters: map[string]string{"until": began.Add(-time.Minute).Format(time.RFC3339)}}, 0},
		"nobody":               {client.Page{Search: "nobody at all"}, 0},
		"a pattern":            {client.Page{Search: "%"}, 0},
	} {
		assert.Equal(t, one.want, count(one.page), what)
	}
	_, err = c.Traces(ctx, client.Page{Filters: map[string]string{"from": "yesterday"}})
	assert.Error(t, err)
	viewer, err := c.NewToken(ctx, api.NewToken{Name: "v", Role: "viewer", Days: 1})
	require.NoError(t, err)
	list, err := client.New(w.URL, viewer.Secret).Traces(ctx, client.Page{Search: "mira"})
	require.NoError(t, err)
	assert.Empty(t, list.Items, "who may not see names can't search for them")
}

func TestSignInsAreCounted(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	for range 3 {
		signsIn(t, w, "mvoss")
	}
	w.Staff.SetMistake("audience")
	signsIn(t, w, "mvoss")
	w.Staff.SetMistake("")
	s, err := c.Statistics(ctx, 7, nil)
	require.NoError(t, err)
	assert.Equal(t, []int64{3, 1}, []int64{s.SignedIn, s.Refused})
	require.NotNil(t, s.RateNow)
	assert.InDelta(t, 0.25, *s.RateNow, 0.001)
	assert.Nil(t, s.RateUsual, "there was nothing before")
	assert.Equal(t, "crew-rota", s.Applications[0].Slug)
	require.NotNil(t, s.Applications[0].LastSuccess)
	assert.Equal(t, "saltmere-staff", s.Providers[0].Slug)
	require.Len(t, s.Codes, 1)
	assert.Equal(t, "saml.audience-mismatch", s.Codes[0].Name)
	assert.Len(t, s.Buckets, 7*24)
	var sum int64
	for _, b := range s.Buckets {
		sum += b.SignedIn + b.Refused
	}
	assert.Equal(t, int64(4), sum)
	s, err = c.Statistics(ctx, 90, map[string]string{"application": "cargo-ledger"})
	require.NoError(t, err)
	assert.Zero(t, s.SignedIn+s.Refused)
	assert.Equal(t, "day", s.Bucket)
	_, err = c.Statistics(ctx, 7, map[string]string{"application": "nothing"})
	assert.Error(t, err)

	// Rehearsals are not counted.
	order, err := c.NewRehearsal(ctx, api.NewRehearsal{Application: "crew-rota", Flow: "sp"})
	require.NoError(t, err)
	b := w.Walker()
	require.NoError(t, b.Get(ctx, order.Link))
	require.NoError(t, b.Submit(ctx, nil))
	require.NoError(t, b.Onward(ctx))
	s, err = c.Statistics(ctx, 7, nil)
	require.NoError(t, err)
	assert.Equal(t, int64(4), s.SignedIn+s.Refused)
}

func TestTracesAreKeptForAWhile(t *testing.T) {
	t.Parallel()
	now := time.Now()
	w := testbed.World(t, demo.Options{Now: func() time.Time { return now }})
	ctx, c := t.Context(), w.Client()
	k, err := c.TraceRetention(ctx)
	require.NoError(t, err)
	assert.Equal(t, 90, k.Days)
	for _, bad := range []api.TraceRetention{{Days: 0, Count: 5000}, {Days: 5, Count: 1}, {Days: 99999, Count: 5000}} {
		_, err = c.SetTraceRetention(ctx, bad)
		assert.Error(t, err)
	}
	signsIn(t, w, "mvoss")
	_, err = c.SetTraceRetention(ctx, api.TraceRetention{Days: 30, Count: 1000})
	require.NoError(t, err)
	require.NoError(t, w.Gate.Tidy(ctx))
	list, err := c.Traces(ctx, client.Page{})
	require.NoError(t, err)
	assert.Len(t, list.Items, 1)
	now = now.AddDate(0, 0, 31)
	require.NoError(t, w.Gate.Tidy(ctx))
	left, err := w.Gate.Traces.TraceRetention(ctx)
	require.NoError(t, err)
	assert.Nil(t, left.Oldest, "what is older than a month is gone")
	s, err := w.Gate.Traces.Statistics(ctx, 90, "", "")
	require.NoError(t, err)
	assert.Equal(t, int64(1), s.SignedIn, "what was counted stays")
}

func TestOnlyOwnersChangeHowLongTracesAreKept(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	engineer, err := w.Client().NewToken(ctx, api.NewToken{Name: "e", Role: "engineer", Days: 1})
	require.NoError(t, err)
	_, err = client.New(w.URL, engineer.Secret).SetTraceRetention(ctx, api.TraceRetention{Days: 30, Count: 1000})
	problem := &api.Problem{}
	require.ErrorAs(t, err, &problem)
	assert.Equal(t, http.StatusForbidden, problem.Status)
}

// TestPlantedMistakesExplainThemselves meets each of the demo's five mistakes, and finds its cause in the trace.
func TestPlantedMistakesExplainThemselves(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	planted, err := w.Plant(ctx)
	require.NoError(t, err)
	require.Len(t, planted, 5)
	meet := func(address, provider, user string) *api.Trace {
		b := w.Walker()
		b.Provider = provider
		_ = b.SignIn(ctx, address+"/sign-in", user)
		full, err := w.Client().Trace(ctx, newestReference(t, w))
		require.NoError(t, err)
		require.NotNil(t, full.Explanation, "%s through %s: %s", address, provider, b.Text)
		return full
	}
	for _, m := range []struct{ address, provider, user, code, evidence string }{
		{w.RotaURL, "", "mvoss", "saml.acs-unregistered", "/acs/"},
		{w.LedgerURL, "saltmere-staff", "mvoss", "oidc.redirect-unregistered", "/callback"},
		{w.DeskURL, "", "mvoss", "access.not-assigned", "Mira Voss"},
	} {
		full := meet(m.address, m.provider, m.user)
		assert.Equal(t, m.code, string(full.Explanation.Code))
		assert.Contains(t, mustText(full.Explanation), m.evidence)
	}
	found(t, w, "access.nobody-assigned", true)
	held, err := w.Client().Application(ctx, "cargo-ledger")
	require.NoError(t, err)
	l := held.Application
	l.OIDC.RedirectURIs = []string{w.Ledger.RedirectURI()}
	_, err = w.Client().PutApplication(ctx, l, 0)
	require.NoError(t, err)
	full := meet(w.LedgerURL, "northquay-stevedores", "lene.aas")
	assert.Contains(t, full.Explanation.Code, "issuer")
	assert.Contains(t, full.Explanation.Differences[0].Hint, "trailing slash")
	full = meet(w.LedgerURL, "lantern-pass", "70012")
	assert.Contains(t, full.Explanation.Code, "client")
}

func TestAWeekIsMadeUp(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	require.NoError(t, w.Week(ctx))
	s, err := w.Client().Statistics(ctx, 30, nil)
	require.NoError(t, err)
	assert.Greater(t, s.SignedIn, int64(40))
	assert.Greater(t, s.Refused, int64(2))
	require.NoError(t, w.Week(ctx), "where there are sign-ins it does nothing")
	again, err := w.Client().Statistics(ctx, 30, nil)
	require.NoError(t, err)
	assert.Equal(t, s.SignedIn, again.SignedIn)
	list, err := w.Client().Traces(ctx, client.Page{Filters: map[string]string{"until": time.Now().AddDate(0, 0, -4).Format(time.RFC3339)}})
	require.NoError(t, err)
	assert.NotEmpty(t, list.Items, "they are found by the time at which they were")
	for _, x := range list.Items {
		assert.True(t, x.Started.Before(time.Now().AddDate(0, 0, -4)))
	}

	// The rest of the company signs in as well; every one of its sign-ins opens like one of the week's own.
	require.NoError(t, w.Rhythm(ctx))
	full, err := w.Client().Statistics(ctx, 7, nil)
	require.NoError(t, err)
	assert.Equal(t, "hour", full.Bucket)
	assert.Greater(t, full.SignedIn, int64(1500))
	assert.Less(t, full.Refused*10, full.SignedIn)
	year, err := w.Client().Statistics(ctx, 366, nil)
	require.NoError(t, err)
	assert.Equal(t, "week", year.Bucket)
	assert.InDelta(t, 53, len(year.Buckets), 2)
	for _, b := range year.Buckets {
		assert.Equal(t, time.Monday, b.At.Weekday())
	}
	newest, err := w.Client().Traces(ctx, client.Page{Limit: 5})
	require.NoError(t, err)
	for _, x := range newest.Items {
		one, err := w.Client().Trace(ctx, x.Reference)
		require.NoError(t, err)
		assert.NotEmpty(t, one.Entries)
	}
	before := full.SignedIn
	require.NoError(t, w.Rhythm(ctx), "where there are more it does nothing")
	full, err = w.Client().Statistics(ctx, 7, nil)
	require.NoError(t, err)
	assert.Equal(t, before, full.SignedIn)
}

// TestRehearsalsAreFollowed gets what comes to the trace while somebody signs in, and is told the end.
func TestRehearsalsAreFollowed(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	order, err := c.NewRehearsal(ctx, api.NewRehearsal{Application: "crew-rota", Flow: "sp"})
	require.NoError(t, err)
	got := make(chan api.FollowedTrace, 20)
	ended := make(chan error, 1)
	go func() {
		ended <- c.FollowRehearsal(ctx, order.ID, func(f api.FollowedTrace) error { got <- f; return nil })
	}()
	b := w.Walker()
	require.NoError(t, b.Get(ctx, order.Link))
	require.NoError(t, b.Submit(ctx, nil))
	require.NoError(t, b.Onward(ctx))
	first := <-got // while the person is still at the provider
	assert.Equal(t, "open", first.Outcome)
	require.NotEmpty(t, first.Entries)
	require.NoError(t, b.Submit(ctx, url.Values{"person": {"mvoss"}}))
	require.NoError(t, b.Onward(ctx))
	require.NoError(t, <-ended)
	close(got)
	entries, last := len(first.Entries), first
	for f := range got {
		entries, last = entries+len(f.Entries), f
	}
	assert.Equal(t, "signed-in", last.Outcome)
	full, err := c.Trace(ctx, last.Reference)
	require.NoError(t, err)
	assert.Len(t, full.Entries, entries, "each entry came once")

	// A follower who stops is no burden, one without a token gets nothing, and one of nothing is told so.
	order, err = c.NewRehearsal(ctx, api.NewRehearsal{Application: "crew-rota", Flow: "sp"})
	require.NoError(t, err)
	short, stop := context.WithTimeout(ctx, 200*time.Millisecond)
	defer stop()
	assert.Error(t, c.FollowRehearsal(short, order.ID, func(api.FollowedTrace) error { return nil }))
	problem := &api.Problem{}
	require.ErrorAs(t, client.New(w.URL, "").FollowRehearsal(ctx, order.ID, func(api.FollowedTrace) error { return nil }), &problem)
	assert.Equal(t, http.StatusUnauthorized, problem.Status)
	require.ErrorAs(t, c.FollowRehearsal(ctx, "01ARZ3NDEKTSV4RRFFQ69G5FAV", func(api.FollowedTrace) error { return nil }), &problem)
	assert.Equal(t, http.StatusNotFound, problem.Status)
}

// TestBundles makes a file for support, with and without what is personal, and looks for what must never be in it.
func TestBundles(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	w.Staff.SetMistake("audience")
	signsIn(t, w, "mvoss")
	w.Staff.SetMistake("")
	reference := newestReference(t, w)
	whole, err := c.Bundle(ctx, api.BundleQuestion{Reference: reference})
	require.NoError(t, err)
	var names []string
	for _, p := range whole.Contents {
		names = append(names, p.Name)
		assert.NotEmpty(t, p.Redacted)
	}
	assert.Equal(t, []string{"trace", "application", "provider", "versions"}, names)
	page, err := c.BundleFile(ctx, api.BundleQuestion{Reference: reference})
	require.NoError(t, err)
	for _, wanted := range []string{reference, "saml.audience-mismatch", "crew-rota", "expected", "What to do"} {
		assert.Contains(t, string(page), wanted)
	}
	for _, never := range []string{"Voss", "mira.voss", "<script", "http-equiv", "src="} {
		assert.NotContains(t, string(page), never)
	}
	full, err := c.BundleFile(ctx, api.BundleQuestion{Reference: reference, Personal: true})
	require.NoError(t, err)
	assert.Contains(t, string(full), "mira.voss@saltmere.example")
	assert.Contains(t, string(full), "(shown when it has expired)", "signature values are taken out for good")

	page, err = c.BundleFile(ctx, api.BundleQuestion{Kind: "provider", Slug: "northquay-stevedores"})
	require.NoError(t, err)
	assert.Contains(t, string(page), w.NorthquayURL)
	for _, bad := range []api.BundleQuestion{{}, {Reference: reference, Slug: "crew-rota", Kind: "application"},
		{Kind: "person", Slug: "x"}, {Kind: "application", Slug: "nothing"}, {Reference: "NOPE-NOPE"}} {
		_, err = c.Bundle(ctx, bad)
		assert.Error(t, err, bad)
	}
	viewer, err := c.NewToken(ctx, api.NewToken{Name: "v", Role: "viewer", Days: 1})
	require.NoError(t, err)
	v := client.New(w.URL, viewer.Secret)
	_, err = v.Bundle(ctx, api.BundleQuestion{Reference: reference})
	require.NoError(t, err)
	_, err = v.BundleFile(ctx, api.BundleQuestion{Reference: reference, Personal: true})
	problem := &api.Problem{}
	require.ErrorAs(t, err, &problem)
	assert.Equal(t, http.StatusForbidden, problem.Status)
}

// TestARehearsalStopsAtTheGate shows what the provider sends and what the application would get, and hands nothing on.
func TestARehearsalStopsAtTheGate(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	order, err := c.NewRehearsal(ctx, api.NewRehearsal{Application: "crew-rota", Flow: "sp", Stop: true, Hours: 24})
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now().Add(24*time.Hour), order.Expires, time.Minute)
	b := w.Walker()
	require.NoError(t, b.Rehearse(ctx, order.Link, "mvoss"))
	assert.Contains(t, b.Text, "This rehearsal ends here, before the application")
	assert.NotContains(t, b.Text, "SAMLResponse")
	full, err := c.Trace(ctx, newestReference(t, w))
	require.NoError(t, err)
	assert.Equal(t, "stopped", full.Outcome)
	out := false
	for _, e := range full.Entries {
		out = out || e.Value != nil && e.Value.Direction == "out"
		if m := e.Message; m != nil {
			assert.False(t, m.From == "gate" && m.To == "application", "nothing goes to the application")
		}
	}
	assert.True(t, out, "it says what the application would have got")
	assert.Empty(t, known(t, w, "Mira"), "nobody was made")
	for _, hours := range []int{-1, 73} {
		_, err = c.NewRehearsal(ctx, api.NewRehearsal{Application: "crew-rota", Flow: "sp", Hours: hours})
		refused(t, err, "hours", "1 to 72")
	}
}

// TestARehearsalInSteps signs in, opens a second application without being asked, and signs out, with a session of its
// own; nobody is made.
func TestARehearsalInSteps(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	order, err := c.NewRehearsal(ctx, api.NewRehearsal{Application: "crew-rota", Flow: "sp", Second: "cargo-ledger", SignOut: true})
	require.NoError(t, err)
	ended := make(chan error, 1)
	var outcomes []string
	go func() {
		ended <- c.FollowRehearsal(ctx, order.ID, func(f api.FollowedTrace) error { outcomes = append(outcomes, f.Outcome); return nil })
	}()
	b := w.Walker()
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "zoberg")) // an ordinary session, of somebody else
	require.NoError(t, b.Rehearse(ctx, order.Link, "mvoss"))
	require.Equal(t, "mvoss", b.Inner("nameid"), b.Text)
	require.NoError(t, b.Get(ctx, order.Link))
	assert.Contains(t, b.Text, "must not ask you anything")
	require.NoError(t, b.Submit(ctx, nil))
	require.NoError(t, b.Onward(ctx))
	assert.Contains(t, b.Text, "mira.voss@saltmere.example")
	assert.Contains(t, decisions(newest(t, w), "session"), "used")
	require.NoError(t, b.Get(ctx, order.Link))
	assert.Contains(t, b.Text, "Now sign out")
	require.NoError(t, b.Submit(ctx, nil))
	require.NoError(t, b.Onward(ctx))
	assert.Contains(t, b.Text, "You are signed out")
	assert.Contains(t, b.Text, "<li>Crew Rota</li>")
	require.NoError(t, <-ended)
	assert.Equal(t, "signed-out", outcomes[len(outcomes)-1])
	r, err := c.Rehearsal(ctx, order.ID)
	require.NoError(t, err)
	assert.Len(t, r.Traces, 3)
	assert.Empty(t, known(t, w, "Mira"), "nobody was made")
	list, err := c.Sessions(ctx, client.Page{})
	require.NoError(t, err)
	require.Len(t, list.Items, 1)
	assert.Contains(t, opens(t, b, w.RotaURL+"/sign-in"), "zoberg", "the ordinary session of the browser goes on")

	// Where the second application wants a fresh sign-in, the rehearsal says so instead of asking.
	order, err = c.NewRehearsal(
		ctx,
		api.NewRehearsal{Application: "cargo-ledger", Provider: "saltmere-staff", Flow: "sp", Second: "crew-rota", KeepPerson: true},
	)
	require.NoError(t, err)
	b = w.Walker()
	require.NoError(t, b.Rehearse(ctx, order.Link, "mvoss"))
	require.Len(t, known(t, w, "Mira"), 1, "it was told to")
	changeProvider(t, w, func(p *config.Provider) { p.SAML.ForceAuthn = true })
	require.NoError(t, b.Get(ctx, order.Link))
	require.NoError(t, b.Submit(ctx, nil))
	require.NoError(t, b.Onward(ctx))
	x := newest(t, w)
	assert.Equal(t, "rehearsal.asked-again", x.Code)
	assert.Contains(t, mustText(x.Explanation), "set to ask anew each time")

	// A provider alone, with other scopes.
	order, err = c.NewRehearsal(ctx, api.NewRehearsal{Provider: "northquay-stevedores", Scopes: []string{"openid", "profile"}})
	require.NoError(t, err)
	b = w.Walker()
	require.NoError(t, b.Rehearse(ctx, order.Link, "lene.aas"))
	assert.Contains(t, b.Text, "This rehearsal ends here")
	x = newest(t, w)
	assert.Equal(t, "stopped", x.Outcome)
	assert.Equal(t, "Northquay Stevedores, alone", x.Application)
	asked := ""
	for _, e := range x.Entries {
		if m := e.Message; m != nil && m.Name == "Authentication request" {
			asked = m.Raw
		}
	}
	assert.Contains(t, asked, "openid profile")
	assert.NotContains(t, asked, "email")
	for code, n := range map[string]api.NewRehearsal{"nothing-named": {},
		"second-same":    {Application: "crew-rota", Second: "crew-rota", Flow: "sp"},
		"provider-alone": {Provider: "saltmere-staff", SignOut: true},
		"second-stopped": {Application: "crew-rota", Second: "cargo-ledger", Flow: "sp", Stop: true}} {
		_, err = c.NewRehearsal(ctx, n)
		refused(t, err, code, "")
	}
}

// TestTracingGivesWayFirst floods the gate with failing sign-ins of strangers: the honest ones go on, and the gate says
// what it did not keep.
func TestTracingGivesWayFirst(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	stop := make(chan struct{})
	var flood sync.WaitGroup
	var sent atomic.Int64
	for range 6 {
		flood.Go(func() {
			client := &http.Client{}
			for {
				select {
				case <-stop:
					return
				default:
				}
				answer, err := client.Get(w.URL + "/saml/idp/sso?SAMLRequest=bm8gcmVxdWVzdA")
				if err != nil {
					continue
				}
				answer.Body.Close()
				sent.Add(1)
			}
		})
	}
	for range 5 {
		_, code := signsIn(t, w, "mvoss")
		assert.Empty(t, code, "an honest sign-in goes on, and leaves its trace")
	}
	require.Eventually(
		t,
		func() bool { return w.Gate.Metrics.TracesLost.Load() > 50 },
		testbed.Patience,
		10*time.Millisecond,
		"only so many strangers leave traces",
	)
	close(stop)
	flood.Wait()
	assert.Greater(t, sent.Load(), int64(60), "a fifth of what all strangers may leave")
	_, err := w.Client().Checkup(ctx)
	require.NoError(t, err)
	f := found(t, w, "traces.lost", true)
	assert.Contains(t, f.Detail, "more than 300 requests of strangers failed within a minute")
	answer, body := send(t, http.DefaultClient, "GET", w.URL+"/metrics", "", "")
	assert.Equal(t, 200, answer.StatusCode)
	assert.Regexp(t, `innergate_traces_lost_total [1-9]`, body)
}

// TestFollowingEndsWithTheRole has somebody follow until their token is taken back, and somebody open too many streams.
func TestFollowingEndsWithTheRole(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	order, err := c.NewRehearsal(ctx, api.NewRehearsal{Application: "crew-rota", Flow: "sp"})
	require.NoError(t, err)
	made, err := c.NewToken(ctx, api.NewToken{Name: "a follower", Role: ground.RoleViewer, Days: 1})
	require.NoError(t, err)
	short, stop := context.WithTimeout(ctx, testbed.Patience)
	defer stop()
	got := make(chan api.FollowedTrace, 20)
	ended := make(chan error, 1)
	go func() {
		ended <- client.New(w.URL, made.Secret).FollowRehearsal(short, order.ID, func(f api.FollowedTrace) error { got <- f; return nil })
	}()
	b := w.Walker()
	require.NoError(t, b.Get(ctx, order.Link))
	require.NoError(t, b.Submit(ctx, nil))
	require.NoError(t, b.Onward(ctx))
	<-got
	require.NoError(t, c.RevokeToken(ctx, made.ID))
	require.Error(t, <-ended, "it was cut off before the end")
	require.NoError(t, short.Err(), "and that before anybody lost patience")
	require.NoError(t, b.Submit(ctx, url.Values{"person": {"mvoss"}}))
	require.NoError(t, b.Onward(ctx))
	for len(got) > 0 {
		assert.Equal(t, "open", (<-got).Outcome, "what came later was not told")
	}

	// One person has a bounded number of streams, and another still gets one.
	order, err = c.NewRehearsal(ctx, api.NewRehearsal{Application: "crew-rota", Flow: "sp"})
	require.NoError(t, err)
	open := func(token string) int {
		r, err := http.NewRequestWithContext(short, http.MethodGet, w.URL+"/api/v1/rehearsals/"+order.ID+"/events", nil)
		require.NoError(t, err)
		r.Header.Set("Authorization", "Bearer "+token)
		a, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		t.Cleanup(func() { a.Body.Close() })
		return a.StatusCode
	}
	greedy := token(t, w, ground.RoleViewer)
	for range 10 {
		require.Equal(t, http.StatusOK, open(greedy))
	}
	assert.Equal(t, http.StatusTooManyRequests, open(greedy))
	assert.Equal(t, http.StatusOK, open(token(t, w, ground.RoleViewer)))
}
