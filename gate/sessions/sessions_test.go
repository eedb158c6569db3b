package sessions_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/core/config"
	"innergate/core/keys"
	"innergate/gate/issued"
	"innergate/gate/sessions"
	"innergate/store"
	"innergate/testbed"
)

const token = "a-token-of-a-browser-that-is-long-enough"

// open puts a session into the store, with a grant of it and one for access while the person is away.
func open(t *testing.T, l *testbed.Lab, id string) {
	t.Helper()
	require.NoError(t, l.Store.Write(context.Background(), func(tx *gorm.DB) error {
		row := &store.Session{ID: id, PersonID: "P", Person: "Mira Voss", CreatedAt: l.Clock, LastUsed: l.Clock,
			ExpiresAt: l.Clock.Add(12 * time.Hour)}
		if err := sessions.Insert(tx, row, keys.HashSecret(token), l.Store.Sealer.Seal(store.PlaceSession, id, []byte(`{}`))); err != nil {
			return err
		}
		for _, g := range []store.Grant{{ID: id + "-here"}, {ID: id + "-away", Offline: true}} {
			g.SessionID, g.ApplicationID, g.PersonID, g.CreatedAt, g.ExpiresAt = id, "A", "P", l.Clock, l.Clock.Add(time.Hour)
			if err := issued.InsertGrant(tx, &g); err != nil {
				return err
			}
		}
		_, err := sessions.NoteUse(tx, &store.SessionUse{SessionID: id, ApplicationID: "A", Index: "i"}, l.Clock)
		return err
	}))
}

func ended(t *testing.T, l *testbed.Lab, grant string) bool {
	t.Helper()
	var g store.Grant
	require.NoError(t, l.Store.Read(context.Background()).Where("id = ?", grant).Take(&g).Error)
	return g.EndedAt != nil
}

// TestASessionCountsAsLongAsItMay finds a session by its token until it lies idle, is over, or was ended.
func TestASessionCountsAsLongAsItMay(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	open(t, l, "S")
	found := func() bool {
		h, err := l.Sessions.SessionByToken(ctx, token)
		require.NoError(t, err)
		return h != nil
	}
	assert.True(t, found())
	for _, wrong := range []string{"", "short", token + "x"} {
		h, err := l.Sessions.SessionByToken(ctx, wrong)
		require.NoError(t, err)
		assert.Nil(t, h, wrong)
	}
	_, err := l.Sessions.SetSessionLimits(ctx, testbed.Owner, config.Sessions{IdleMinutes: 10, MaxHours: 12})
	require.NoError(t, err)
	l.Turn(9 * time.Minute)
	assert.True(t, found())
	l.Turn(2 * time.Minute)
	assert.False(t, found(), "it lay idle")
	require.NoError(t, l.Store.Write(ctx, func(tx *gorm.DB) error {
		n, err := sessions.Touch(tx, "S", l.Clock)
		assert.EqualValues(t, 1, n)
		return err
	}))
	assert.True(t, found())
	require.NoError(t, l.Sessions.EndSessionByID(ctx, testbed.Owner, "S"))
	assert.False(t, found(), "it was ended")
	require.NoError(t, l.Store.Write(ctx, func(tx *gorm.DB) error {
		n, err := sessions.Touch(tx, "S", l.Clock)
		assert.Zero(t, n, "what has ended is not woken up")
		return err
	}))
}

// TestGrantsEndWithTheirSession, besides those that the person asked for beyond it.
func TestGrantsEndWithTheirSession(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	open(t, l, "S")
	require.NoError(t, l.Store.Write(ctx, func(tx *gorm.DB) error { return sessions.EndUse(tx, "S", "B", "another application", l.Clock) }))
	assert.False(t, ended(t, l, "S-here"), "another application's part was ended")
	require.NoError(t, l.Sessions.EndSessionByID(ctx, testbed.Owner, "S"))
	assert.True(t, ended(t, l, "S-here"))
	assert.False(t, ended(t, l, "S-away"))
	require.NoError(t, l.Store.Write(ctx, func(tx *gorm.DB) error { return issued.EndOfPerson(tx, "P", "", "gone", l.Clock) }))
	assert.True(t, ended(t, l, "S-away"), "with the person it goes as well")
}

// TestTellingIsTakenOverByOne lets two processes not tell twice.
func TestTellingIsTakenOverByOne(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	open(t, l, "S")
	for i, want := range []int64{1, 0} {
		require.NoError(t, l.Store.Write(ctx, func(tx *gorm.DB) error {
			n, err := sessions.TakeTelling(tx, "S", l.Clock)
			assert.Equal(t, want, n, "try %d", i+1)
			return err
		}))
	}
}
