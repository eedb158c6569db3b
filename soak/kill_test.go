package soak

import (
	"context"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/client"
	"innergate/demo"
	"innergate/testbed"
)

// rounds is how often something is done: a few times beside the other tests, or as often as `make soak` says.
func rounds(t *testing.T, usual int) int {
	t.Helper()
	text := os.Getenv("INNERGATE_SOAK")
	if text == "" {
		return usual
	}
	n, err := strconv.Atoi(text)
	require.NoError(t, err)
	return n
}

// apart is a gate in a process of its own, started with what more says besides, with the demo's partners here.
func apart(t *testing.T, more ...string) (*demo.World, *testbed.Service, string) {
	t.Helper()
	w := testbed.World(t, demo.Options{})
	listen := strings.TrimPrefix(w.URL, "http://")
	s := &testbed.Service{URL: w.URL, Folder: w.Detach(), Guard: strings.TrimPrefix(w.BerthsURL, "http://"), More: more}
	s.Start(t, listen)
	t.Cleanup(func() { s.Stop(t) })
	return w, s, listen
}

// kept is what the gate has acknowledged: none of it may be lost, whenever it is killed.
type kept struct {
	mu sync.Mutex
	// Changes is the newest revision that was acknowledged for each application, and asked the newest that was asked for.
	changes map[string]int
	// Posted are answers of the provider with which somebody signed in, with the browser that brought them.
	posted []posted
	// Sessions are browsers that are signed in.
	sessions []*demo.Walker
	nodes    bool // each with traces of its own, so that the newest depends on who is asked
	signIns  atomic.Int64
	failed   atomic.Int64
}

type posted struct {
	form    url.Values
	browser *demo.Walker
}

// TestNothingAcknowledgedIsLostByAKill kills the gate in the middle of sign-ins and changes. Afterwards all that it had acknowledged
// is there, nothing that is good once is taken twice, and the journal's chain is whole.
func TestNothingAcknowledgedIsLostByAKill(t *testing.T) {
	w, s, listen := apart(t)
	k := &kept{changes: map[string]int{}}
	var slowest time.Duration
	for round := range rounds(t, 5) {
		ctx, stop := context.WithCancel(t.Context())
		var load sync.WaitGroup
		for range 3 {
			load.Go(func() { k.signIn(ctx, w) })
		}
		for _, slug := range []string{"crew-rota", "cargo-ledger"} {
			load.Go(func() { k.change(ctx, w, slug) })
		}
		time.Sleep(time.Duration(200+rand.IntN(600)) * time.Millisecond) // it is killed anywhere
		s.Kill(t)
		stop()
		load.Wait()
		slowest = max(slowest, s.Start(t, listen))
		k.holds(t, w, round)
		if t.Failed() {
			return
		}
	}
	verdict, err := w.Client().VerifyJournal(t.Context(), "")
	require.NoError(t, err)
	assert.True(t, verdict.Whole, "%+v", verdict)
	assert.Greater(t, k.signIns.Load(), int64(3), "there was load")
	t.Logf("%d sign-ins and %d changes were acknowledged, %d requests failed; the slowest start took %s", k.signIns.Load(),
		k.changed(), k.failed.Load(), slowest)
}

func (k *kept) changed() (n int) {
	for _, revision := range k.changes {
		n += revision
	}
	return n
}

// signIn signs people in until the context ends, and keeps what was acknowledged of it.
func (k *kept) signIn(ctx context.Context, w *demo.World) {
	for ctx.Err() == nil {
		b := w.Walker()
		var last posted
		b.HTTP.Transport = recorder{func(form url.Values) { last = posted{form, b} }}
		if err := b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"); err != nil || b.Inner("nameid") != "mvoss" {
			k.failed.Add(1)
			time.Sleep(50 * time.Millisecond)
			continue
		}
		k.signIns.Add(1)
		k.mu.Lock()
		k.posted, k.sessions = append(k.posted, last), append(k.sessions, b)
		k.mu.Unlock()
	}
}

// recorder notes what the browser posts to the gate as a provider's answer.
type recorder struct{ note func(url.Values) }

func (r recorder) RoundTrip(q *http.Request) (*http.Response, error) {
	if strings.HasSuffix(q.URL.Path, "/acs/here") && q.Body != nil {
		body, err := io.ReadAll(q.Body)
		if err != nil {
			return nil, err
		}
		form, err := url.ParseQuery(string(body))
		if err != nil {
			return nil, err
		}
		r.note(form)
		q.Body = io.NopCloser(strings.NewReader(string(body)))
	}
	return http.DefaultTransport.RoundTrip(q)
}

// change changes an application on and on, and keeps the newest revision that was acknowledged.
func (k *kept) change(ctx context.Context, w *demo.World, slug string) {
	c := w.Client()
	for n := 0; ctx.Err() == nil; n++ {
		revision, err := changeOnce(ctx, c, slug, n)
		if err != nil {
			k.failed.Add(1)
			time.Sleep(50 * time.Millisecond)
			continue
		}
		k.mu.Lock()
		k.changes[slug] = max(k.changes[slug], revision)
		k.mu.Unlock()
	}
}

func changeOnce(ctx context.Context, c *client.Client, slug string, n int) (int, error) {
	held, err := c.Application(ctx, slug)
	if err != nil {
		return 0, err
	}
	a := held.Application
	a.Contact = fmt.Sprintf("watch-%d@saltmere.example", n)
	fresh, err := c.PutApplication(ctx, a, held.Revision)
	if err != nil {
		return 0, err
	}
	return fresh.Revision, nil
}

// holds looks at everything that was acknowledged.
func (k *kept) holds(t *testing.T, w *demo.World, round int) {
	t.Helper()
	ctx, c := t.Context(), w.Client()
	for slug, revision := range k.changes {
		held, err := c.Application(ctx, slug)
		require.NoError(t, err)
		assert.GreaterOrEqual(t, held.Revision, revision, "%s after round %d", slug, round)
		history, err := c.History(ctx, "application", slug, client.Page{Limit: 200})
		require.NoError(t, err)
		numbers, newest := map[int]bool{}, 0 // one that was under way when the client gave up may still have come
		for _, h := range history.Items {
			numbers[h.Number], newest = true, max(newest, h.Number)
		}
		for n := newest; n > max(0, newest-len(history.Items)); n-- {
			assert.True(t, numbers[n], "revision %d of %s, which has %d, is gone after round %d; there are %v", n,
				slug, held.Revision, round,
				slices.Sorted(maps.Keys(numbers)))
		}
	}
	for _, p := range k.posted {
		before := k.signedIn(t, c)
		_ = p.browser.Post(ctx, w.URL+"/saml/sp/saltmere-staff/acs/here", p.form)
		assert.NotContains(t, p.browser.Text, "SAMLResponse", "an answer was taken twice after round %d", round)
		assert.Equal(t, before, k.signedIn(t, c))
	}
	k.posted = nil
	for _, b := range k.sessions {
		require.NoError(t, b.Get(ctx, w.RotaURL+"/sign-in"))
		require.NoError(t, b.Onward(ctx))
		assert.Equal(t, "mvoss", b.Inner("nameid"), "a session is gone after round %d: %s", round, b.Text)
	}
	k.sessions = nil
}

// signedIn is the newest sign-in that came out well.
func (k *kept) signedIn(t *testing.T, c *client.Client) string {
	t.Helper()
	if k.nodes {
		return ""
	}
	list, err := c.Traces(t.Context(), client.Page{Limit: 1, Filters: map[string]string{"outcome": "signed-in"}})
	require.NoError(t, err)
	if len(list.Items) == 0 {
		return ""
	}
	return list.Items[0].Reference
}
