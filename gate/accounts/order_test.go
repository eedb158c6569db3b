package accounts_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"regexp"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/config"
	"innergate/testbed"
)

// watched stands before the application and notes what changes anything there; before each, it calls a function.
type watched struct {
	mu     sync.Mutex
	wrote  []string // a method and the name in the body, if there is one
	before func(n int)
}

var nameInBody = regexp.MustCompile(`"userName":"([^"]*)"`)

// watch puts one before the application, which is asked for one thing at a time.
func (l *ledger) watch(before func(n int)) *watched {
	l.t.Helper()
	w := &watched{before: before}
	server := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet {
			body, err := io.ReadAll(r.Body)
			if err != nil {
				return
			}
			r.Body = io.NopCloser(bytes.NewReader(body))
			line := r.Method
			if m := nameInBody.FindSubmatch(body); m != nil {
				line += " " + string(m[1])
			}
			w.mu.Lock()
			w.wrote = append(w.wrote, line)
			n := len(w.wrote)
			w.mu.Unlock()
			if w.before != nil {
				w.before(n)
			}
		}
		l.there.ServeHTTP(rw, r)
	}))
	l.t.Cleanup(server.Close)
	l.set(func(a *config.Accounts) { a.Address, a.AtOnce = server.URL+"/scim/v2", 1 })
	_, err := l.Partners.KeepAccountSecret(context.Background(), testbed.Owner, "cargo", api.TheirSecret{Value: token})
	require.NoError(l.t, err)
	return w
}

func (w *watched) list() []string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return append([]string{}, w.wrote...)
}

// workOut works out what changed, and sends nothing.
func (l *ledger) workOut() {
	for more := true; more; {
		var err error
		more, err = l.Accounts.WorkOut(context.Background())
		require.NoError(l.t, err)
	}
}

// TestWhoIsGoneGoesFirst has somebody leave after many were assigned, and sees that nobody is made before they are gone.
func TestWhoIsGoneGoesFirst(t *testing.T) {
	t.Parallel()
	l := keeping(t, func(a *config.Accounts) { a.GoneShare = 100 })
	l.compare()
	leaver := l.person("leaver", true)
	l.settle()
	w := l.watch(nil)
	l.settle()
	for i := range 12 {
		l.person(fmt.Sprintf("hand%02d", i), true)
	}
	l.workOut()
	l.Clock = l.Clock.Add(time.Minute)
	l.unassign(leaver)
	assert.Equal(t, 13, l.settle().Counts["step"])
	list := w.list()
	require.Len(t, list, 13)
	assert.Equal(t, http.MethodPatch, list[0], "the one who left, though everybody else was there to be sent before")
}

// TestNothingOldIsSent has people be unassigned while those before them are being sent: what was not begun is never made.
func TestNothingOldIsSent(t *testing.T) {
	t.Parallel()
	l := keeping(t, nil)
	l.compare()
	var ids []string
	for i := range 40 {
		ids = append(ids, l.person(fmt.Sprintf("hand%02d", i), true))
	}
	w := l.watch(func(n int) {
		if n == 1 {
			for _, id := range ids[10:] {
				l.unassign(id)
			}
			l.workOut()
		}
	})
	v := l.settle()
	assert.Equal(t, 10, v.Counts["step"])
	assert.Len(t, w.list(), 10)
	assert.Len(t, l.there.Names(), 10)
}

// TestAnotherPace changes how many are sent at the same time while some are: it counts from the next ones on.
func TestAnotherPace(t *testing.T) {
	t.Parallel()
	l := keeping(t, nil)
	l.compare()
	for i := range 30 {
		l.person(fmt.Sprintf("hand%02d", i), true)
	}
	var mu sync.Mutex
	var together, most int
	w := l.watch(nil)
	w.before = func(n int) {
		if n == 1 {
			l.set(func(a *config.Accounts) { a.AtOnce = 6 })
		}
		mu.Lock()
		together++
		most = max(most, together)
		wide := most > 1
		mu.Unlock()
		if n > 12 && !wide { // waits for another one to come beside it
			assert.Eventually(t, func() bool { mu.Lock(); defer mu.Unlock(); return most > 1 }, testbed.Patience, time.Millisecond)
		}
		mu.Lock()
		together--
		mu.Unlock()
	}
	l.workOut()
	assert.Equal(t, 30, l.settle().Counts["step"])
	assert.Greater(t, most, 1)
}
