package soak

import (
	"context"
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/config"
	"innergate/demo"
)

// crew are people whose accounts are kept, as the gate has acknowledged them.
type crew struct {
	mu    sync.Mutex
	hands map[string]*hand // by user name
	lost  int              // requests whose answer did not come
}

// hand is somebody as was asked for last. Sure is set once that was acknowledged; until then either may be so.
type hand struct {
	id, title string
	assigned  bool
	sure      bool
}

// TestAccountsAreExactAfterAKill kills the gate in the middle of assignments, changes and sendings. Afterwards each account is there once,
// and as it was acknowledged.
func TestAccountsAreExactAfterAKill(t *testing.T) {
	w, s, listen := apart(t, "--allow-private-addresses")
	c := w.Client()
	app, err := c.Application(t.Context(), "cargo-ledger")
	require.NoError(t, err)
	app.Accounts.Approve, app.Accounts.GoneShare, app.Accounts.Drift = config.ApproveNone, 100, config.DriftCorrect
	_, err = c.PutApplication(t.Context(), app.Application, 0)
	require.NoError(t, err)
	k := &crew{hands: map[string]*hand{}}
	for round := range rounds(t, 5) {
		ctx, stop := context.WithCancel(t.Context())
		var load sync.WaitGroup
		for n := range 3 {
			load.Go(func() { k.work(ctx, w, round, n) })
		}
		if round%2 == 1 {
			w.LedgerAccounts.SetMistake("twice") // and one answer of the application is lost besides
		}
		time.Sleep(time.Duration(300+rand.IntN(900)) * time.Millisecond) // it is killed anywhere
		s.Kill(t)
		stop()
		load.Wait()
		s.Start(t, listen)
		k.holds(t, w)
		if t.Failed() {
			return
		}
	}
	assert.Greater(t, len(k.hands), 10, "there was load")
	t.Logf("%d people were kept in step, %d requests failed", len(k.hands), k.lost)
}

// work hires people, and changes, assigns and unassigns them, until the context ends.
func (k *crew) work(ctx context.Context, w *demo.World, round, n int) {
	c := w.Client()
	for i := 0; ctx.Err() == nil; i++ {
		user := fmt.Sprintf("hand-%d-%d-%d", round, n, i)
		profile := map[string][]string{"preferred_username": {user}, "name": {user}, "email": {user + "@saltmere.example"},
			"title": {"mate"}}
		made, err := c.AddPerson(ctx, api.SavePerson{Profile: profile})
		if err != nil {
			k.failed()
			continue
		}
		k.note(user, &hand{id: made.ID, title: "mate", sure: true})
		k.assign(ctx, w, user, true)
		if i%3 == 1 {
			k.change(ctx, w, user, profile, fmt.Sprintf("purser %d", i))
		}
		if i%4 == 3 {
			k.assign(ctx, w, user, false)
		}
	}
}

func (k *crew) failed() {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.lost++
}

func (k *crew) note(user string, h *hand) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.hands[user] = h
}

// assign assigns somebody, or takes that back.
func (k *crew) assign(ctx context.Context, w *demo.World, user string, yes bool) {
	k.mu.Lock()
	h := *k.hands[user]
	k.mu.Unlock()
	var err error
	if yes {
		err = w.Client().Assign(ctx, "cargo-ledger", api.Assignment{Kind: "person", Who: h.id})
	} else {
		err = w.Client().Unassign(ctx, "cargo-ledger", "person", h.id)
	}
	h.assigned, h.sure = yes, err == nil && h.sure
	if err != nil {
		k.failed()
	}
	k.note(user, &h)
}

func (k *crew) change(ctx context.Context, w *demo.World, user string, profile map[string][]string, title string) {
	k.mu.Lock()
	h := *k.hands[user]
	k.mu.Unlock()
	profile["title"] = []string{title}
	_, err := w.Client().PutPerson(ctx, h.id, api.SavePerson{Profile: profile})
	h.title, h.sure = title, err == nil && h.sure
	if err != nil {
		k.failed()
	}
	k.note(user, &h)
}

// holds waits until everything is sent, and looks at each account that was acknowledged.
func (k *crew) holds(t *testing.T, w *demo.World) {
	t.Helper()
	c := w.Client()
	var v *api.Accounts
	require.Eventually(t, func() bool {
		var err error
		v, err = c.Accounts(t.Context(), "cargo-ledger")
		return err == nil && !v.Open && v.Counts["due"] == 0 && v.Counts["failed"] == 0
	}, time.Minute, 50*time.Millisecond, "everything is sent: %+v", v)
	seen := map[string]int{}
	for _, name := range w.LedgerAccounts.Names() {
		seen[name]++
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	for user, h := range k.hands {
		if !h.sure {
			continue
		}
		there := w.LedgerAccounts.Find(user)
		switch {
		case h.assigned:
			if assert.NotNil(t, there, user) {
				assert.Equal(t, []any{h.id, h.title, true}, []any{there["externalId"], there["title"], there["active"]}, user)
			}
		case there != nil:
			assert.Equal(t, []any{h.id, false}, []any{there["externalId"], there["active"]}, user)
		}
		assert.LessOrEqual(t, seen[user], 1, "%s is there once", user)
	}
}
