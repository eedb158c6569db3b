package gate_test

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/keys"
	"innergate/gate/changes"
	"innergate/gate/ground"
	"innergate/store"
	"innergate/testbed"
)

// unwritable has every change fail that leaves a line in the journal, as on a full disk, until it is called again.
func unwritable(t *testing.T, l *testbed.Lab, yes bool) {
	t.Helper()
	set := "DROP TRIGGER full"
	if yes {
		set = "CREATE TRIGGER full BEFORE INSERT ON journal_entries BEGIN SELECT RAISE(ABORT, 'the disk is full'); END"
	}
	require.NoError(t, l.Store.Write(context.Background(), func(tx *gorm.DB) error { return tx.Exec(set).Error }))
}

// planned is something that is to be done by itself, and how to see that it is.
type planned struct {
	due  func(context.Context) error
	done func() bool
}

// plans sets up one of each kind, due an hour from now, for half an hour where there is a window.
func plans(t *testing.T, l *testbed.Lab) map[string]planned {
	t.Helper()
	ctx := context.Background()
	l.Furnish(t)
	shown := func(slug string) *api.Application {
		a, err := l.Checkups.Application(ctx, slug)
		require.NoError(t, err)
		return a
	}
	_, err := l.Configuration.ChangeReach(ctx, testbed.Owner, "application", "rota", api.ReachChange{Reach: access.Closed, Minutes: 60})
	require.NoError(t, err)

	change := shown("ledger").Application
	change.Description = "As planned."
	p, err := l.Changes.Propose(ctx, testbed.Owner, api.NewProposal{Kind: "application", Slug: "ledger", Application: &change})
	require.NoError(t, err)
	from, until := l.Clock.Add(time.Hour), l.Clock.Add(90*time.Minute)
	_, err = l.Changes.ApplyProposal(ctx, testbed.Owner, p.ID, api.ApplyProposal{From: &from, Until: &until})
	require.NoError(t, err)

	_, err = l.Configuration.SaveProvider(ctx, testbed.Owner, "", config.Provider{
		Slug: "new", Name: "New Staff", Kind: config.KindOIDC, Reach: access.Everyone, Admission: "refuse", Mapping: claims.Standard(),
		OIDC: &config.OIDCProvider{
			Issuer: "https://new.example", ClientID: "gate", AuthorizationEndpoint: "https://new.example/a",
			TokenEndpoint: "https://new.example/t", KeysURL: "https://new.example/k",
		},
	}, 0)
	require.NoError(t, err)
	m, err := l.Moves.NewMove(ctx, testbed.Owner, api.NewMove{Name: "Over", From: "staff", To: "new", Applications: []string{"notes"}})
	require.NoError(t, err)
	// The wave is ready when somebody has looked at it; here its time alone counts.
	require.NoError(t, l.Store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE move_waves SET state = 'open', closes_at = ? WHERE move_id = (SELECT id FROM moves WHERE slug = ?)",
			from.UTC(), m.Slug).Error
	}))

	key, err := l.Keyring.MakeKey(ctx, testbed.Owner, api.NewKey{Purpose: keys.PurposeSigning})
	require.NoError(t, err)
	_, err = l.Keyring.PublishKey(ctx, testbed.Owner, key.ID)
	require.NoError(t, err)
	_, err = l.Keyring.SwitchKey(ctx, testbed.Owner, key.ID, api.SwitchKey{At: &from, Anyway: true})
	require.NoError(t, err)

	return map[string]planned{
		"a reach for some time": {l.Configuration.RevertDue, func() bool { return shown("rota").Reach == access.Everyone }},
		"a proposal in its window": {l.Changes.ApplyDue, func() bool {
			held, err := store.One[store.Proposal](l.Store.Read(ctx), "id = ?", p.ID)
			require.NoError(t, err)
			return held.State == changes.ProposalApplied && shown("ledger").Description == "As planned."
		}},
		"the end of a wave": {l.Moves.MovesDue, func() bool {
			held, err := l.Moves.Move(ctx, m.Slug)
			require.NoError(t, err)
			return held.Waves[0].State == "settled"
		}},
		"the switch of a key": {l.Keyring.SwitchDue, func() bool {
			ring, err := l.Keyring.Ring(ctx, keys.PurposeSigning, "")
			require.NoError(t, err)
			return ring.IDs[0] == key.ID
		}},
	}
}

// TestWhatIsPlannedOutlivesAFullDisk: what fails when its time comes is tried again, with growing pauses, told of,
// and done when the disk can be written again.
func TestWhatIsPlannedOutlivesAFullDisk(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	all := plans(t, l)
	l.Turn(61 * time.Minute)
	unwritable(t, l, true)
	for what, p := range all {
		require.NoError(t, p.due(ctx), what)
		assert.False(t, p.done(), what)
	}
	waiting := l.Waiting()
	require.Len(t, waiting, len(all))
	for _, w := range waiting {
		assert.Contains(t, w.Why, "disk is full", w.What)
		assert.Equal(t, l.Clock.Add(2*time.Second), w.Next)
	}
	// Not before the pause is over, and the next one is longer.
	for range 3 {
		for _, p := range all {
			require.NoError(t, p.due(ctx))
		}
	}
	assert.Equal(t, waiting, l.Waiting())
	l.Turn(2 * time.Second)
	for _, p := range all {
		require.NoError(t, p.due(ctx))
	}
	for _, w := range l.Waiting() {
		assert.Equal(t, 2, w.Tries)
		assert.Equal(t, l.Clock.Add(4*time.Second), w.Next)
	}
	// Whoever looks is told.
	l.Turn(2 * time.Minute)
	unwritable(t, l, false)
	result, err := l.Checkups.Checkup(ctx)
	require.NoError(t, err)
	late := 0
	for _, f := range result.Findings {
		if f.Code == "planned.late" {
			late++
		}
	}
	assert.Positive(t, late)
	for what, p := range all {
		require.NoError(t, p.due(ctx), what)
		assert.True(t, p.done(), what)
	}
	assert.Empty(t, l.Waiting())
}

// TestWhatIsRefusedIsGivenUp: an attempt that is refused for what it is comes back at once, and is not tried again by itself.
func TestWhatIsRefusedIsGivenUp(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	refusal := ground.Conflict("so", "It is not so.", "")
	assert.Equal(t, refusal, l.Attempt(ctx, "one", "One", func() error { return refusal }))
	assert.Empty(t, l.Waiting())
	tries := 0
	fails := func() error { tries++; return errors.New("the disk failed") }
	for range 400 {
		require.NoError(t, l.Attempt(ctx, "two", "Two", fails))
		l.Turn(10 * time.Second)
	}
	assert.InDelta(t, 20, tries, 6, "the pauses grow to five minutes")
	l.Clock = l.Clock.Add(-24 * time.Hour)
	before := tries
	require.NoError(t, l.Attempt(ctx, "two", "Two", fails))
	assert.Equal(t, before+1, tries, "a clock that was set back puts nothing off")
}

// TestTwoProcessesDoEachPlannedThingOnce has two gates on one store do what is due at the same moment.
func TestTwoProcessesDoEachPlannedThingOnce(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	all := plans(t, l)
	l.Turn(61 * time.Minute)
	other := second(t, l)
	other.Ground.Now = func() time.Time { return l.Clock }
	lines := func() int64 {
		var n int64
		require.NoError(t, l.Store.Read(ctx).Model(&store.JournalEntry{}).Count(&n).Error)
		return n
	}
	before := lines()
	errs := make(chan error, 2)
	go func() { errs <- l.Gate.Turn(ctx) }()
	go func() { errs <- other.Turn(ctx) }()
	require.NoError(t, <-errs)
	require.NoError(t, <-errs)
	for what, p := range all {
		assert.True(t, p.done(), what)
	}
	// One line each: reach, change, wave, proposal and key; none for what the other did.
	assert.Equal(t, before+5, lines())
}

// TestAReachGoesBackOverWhatOthersChanged: what somebody else changed between the reading and the writing stays.
func TestAReachGoesBackOverWhatOthersChanged(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	_, err := l.Configuration.ChangeReach(ctx, testbed.Owner, "application", "rota", api.ReachChange{Reach: access.Closed, Minutes: 60})
	require.NoError(t, err)
	l.Turn(61 * time.Minute)
	// The writer is held while the change is taken back, and another change goes in before it.
	begun, went := make(chan struct{}), make(chan error, 1)
	require.NoError(t, l.Store.Write(ctx, func(tx *gorm.DB) error {
		go func() {
			close(begun)
			went <- l.Configuration.RevertDue(ctx)
		}()
		<-begun
		time.Sleep(50 * time.Millisecond) // it reads what it reads outside
		row, err := store.One[store.Application](tx, "slug = 'rota'")
		if err != nil {
			return err
		}
		c, err := ground.DecodeBody[config.Application](row.Body)
		if err != nil {
			return err
		}
		c.Description = "Changed by somebody else."
		return l.Configuration.WriteApplication(tx, l.Clock, testbed.Owner, "rota", c, row.Revision)
	}))
	require.NoError(t, <-went)
	a, err := l.Checkups.Application(ctx, "rota")
	require.NoError(t, err)
	assert.Equal(t, access.Everyone, a.Reach)
	assert.Equal(t, "Changed by somebody else.", a.Description)

	// A reach that somebody has set since is not taken back.
	_, err = l.Configuration.ChangeReach(ctx, testbed.Owner, "application", "rota", api.ReachChange{Reach: access.Closed, Minutes: 60})
	require.NoError(t, err)
	_, err = l.Configuration.ChangeReach(ctx, testbed.Owner, "application", "rota", api.ReachChange{Reach: access.Draft})
	require.NoError(t, err)
	l.Turn(61 * time.Minute)
	require.NoError(t, l.Configuration.RevertDue(ctx))
	a, err = l.Checkups.Application(ctx, "rota")
	require.NoError(t, err)
	assert.Equal(t, access.Draft, a.Reach)
}

// TestNoticesOfEachRecipient: one recipient that fails holds up no other, is tried again with growing pauses, and what an
// administrator sets meanwhile stays.
func TestNoticesOfEachRecipient(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	var calls atomic.Int64
	var refuse atomic.Bool
	refuse.Store(true)
	var meanwhile func()
	hook := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, _ *http.Request) {
		calls.Add(1)
		if meanwhile != nil {
			meanwhile()
		}
		if refuse.Load() {
			rw.WriteHeader(http.StatusForbidden)
		}
	}))
	defer hook.Close()
	set := func(n api.Notices) {
		_, err := l.Checkups.SetNotices(ctx, testbed.Owner, api.SaveNotices{Notices: n})
		require.NoError(t, err)
	}
	set(api.Notices{Webhook: hook.URL, Mail: []string{"fenna@saltmere.example"}})
	p, err := l.Checkups.Provider(ctx, "staff")
	require.NoError(t, err)
	c := p.Provider
	c.SAML.AllowSHA1 = true
	_, err = l.Configuration.SaveProvider(ctx, testbed.Owner, "staff", c, 0)
	require.NoError(t, err)
	// While the webhook is called, somebody sets something else.
	meanwhile = func() {
		set(api.Notices{Webhook: hook.URL, Mail: []string{"fenna@saltmere.example"}, From: "broken"})
		meanwhile = nil
	}
	_, err = l.Checkups.Checkup(ctx)
	require.NoError(t, err)
	require.NoError(t, l.Checkups.Tell(ctx))
	view, err := l.Checkups.Notices(ctx)
	require.NoError(t, err)
	assert.Equal(t, "broken", view.From, "what was set meanwhile stays")
	require.Len(t, view.Deliveries, 2)
	assert.Contains(t, view.Deliveries[0].Error, "403")
	assert.Contains(t, view.Deliveries[1].Error, "mail", "no server for mail is set: that one fails for itself")
	assert.EqualValues(t, 1, calls.Load())
	require.NoError(t, l.Checkups.Tell(ctx))
	assert.EqualValues(t, 1, calls.Load(), "not again at once")
	l.Turn(61 * time.Second)
	require.NoError(t, l.Checkups.Tell(ctx))
	assert.EqualValues(t, 2, calls.Load())
	l.Turn(61 * time.Second)
	require.NoError(t, l.Checkups.Tell(ctx))
	assert.EqualValues(t, 2, calls.Load(), "the second pause is longer")
	l.Turn(61 * time.Second)
	refuse.Store(false)
	require.NoError(t, l.Checkups.Tell(ctx))
	assert.EqualValues(t, 3, calls.Load())
	view, err = l.Checkups.Notices(ctx)
	require.NoError(t, err)
	assert.Equal(t, l.Clock.UTC(), view.Deliveries[0].LastSent.UTC())
	assert.Zero(t, view.Deliveries[0].Waiting)
	assert.Equal(t, 1, view.Deliveries[1].Waiting)
	// Whoever is told no more gets nothing of what waits.
	set(api.Notices{Webhook: hook.URL})
	var left int64
	require.NoError(t, l.Store.Read(ctx).Model(&store.Notice{}).Where("sent_at IS NULL").Count(&left).Error)
	assert.Zero(t, left)
}
