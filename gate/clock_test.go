package gate_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/gate/ground"
	"innergate/gate/traces"
	"innergate/store"
	"innergate/testbed"
)

// TestAClockThatJumpsIsNoticed moves the clock against the time that really goes by.
func TestAClockThatJumpsIsNoticed(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	berlin, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	for name, c := range map[string]struct {
		clock, really time.Duration
		words         string
	}{
		"as usual":               {2 * time.Second, 2 * time.Second, ""},
		"moved by NTP":           {7 * time.Second, 2 * time.Second, ""},
		"a turn that took long":  {20 * time.Minute, 20 * time.Minute, ""},
		"set forward":            {time.Hour + 2*time.Second, 2 * time.Second, "set forward by 1 hour"},
		"set back":               {-time.Hour, 2 * time.Second, "set back by 1 hour"},
		"asleep over the night":  {8 * time.Hour, 3 * time.Second, "set forward by 7 hours 59 minutes, or the machine slept as long"},
		"through the time shift": {time.Hour, time.Hour, ""}, // 02:30 comes twice; it is not an hour that counts
	} {
		l := testbed.NewLab(t)
		l.Clock = time.Date(2026, 10, 25, 0, 30, 0, 0, time.UTC).In(berlin) // 02:30, for the first time
		really := time.Now()
		require.NoError(t, l.WatchClock(ctx, really))
		l.Turn(c.clock)
		require.NoError(t, l.WatchClock(ctx, really.Add(c.really)))
		require.NoError(t, l.WatchClock(ctx, really.Add(c.really)))
		if c.words == "" {
			assert.Nil(t, l.Jumped(), name)
			continue
		}
		require.NotNil(t, l.Jumped(), name)
		assert.Contains(t, l.Jumped().Words(), c.words, name)
		lines, err := l.Journal(ctx, testbed.Owner, store.Page{}, "clock")
		require.NoError(t, err)
		require.Len(t, lines.Items, 1, "once: %s", name)
		result, err := l.Checkups.Checkup(ctx)
		require.NoError(t, err)
		found := false
		for _, f := range result.Findings {
			found = found || f.Code == "gate.clock-jumped"
		}
		assert.True(t, found, name)
		l.Turn(25 * time.Hour)
		assert.Nil(t, l.Jumped(), name)
	}
}

// TestWhatWasUsedStaysUsedAcrossJumps: an identifier is kept an hour longer than it can be accepted; after a jump nothing is
// forgotten, since the clock may be set back.
func TestWhatWasUsedStaysUsedAcrossJumps(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	use := func() (fresh bool) {
		require.NoError(t, l.Store.Write(ctx, func(tx *gorm.DB) (err error) {
			fresh, err = ground.UseOnce(tx, "https://id.example", "_one", l.Clock.Add(5*time.Minute))
			return err
		}))
		return fresh
	}
	begin, really := l.Clock, time.Now()
	require.NoError(t, l.WatchClock(ctx, really))
	require.True(t, use())
	for name, at := range map[string]time.Duration{"the clock goes on": 64 * time.Minute, "set forward by a day": 24 * time.Hour} {
		l.Clock = begin.Add(at)
		if at > 2*time.Hour {
			require.NoError(t, l.WatchClock(ctx, really.Add(2*time.Second)))
		}
		require.NoError(t, l.Tidy(ctx))
		l.Clock = begin.Add(time.Minute)
		assert.False(t, use(), name)
	}
	// Left alone for long enough, it goes.
	l.Clock = begin.Add(72 * time.Hour)
	require.NoError(t, l.Tidy(ctx))
	assert.True(t, use())
}

// TestAStartBeforeTheNewestLineIsNoticed starts a gate whose clock stands before what was written last.
func TestAStartBeforeTheNewestLineIsNoticed(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	require.NoError(t, l.LookBack(ctx))
	assert.Nil(t, l.Jumped())
	l.Turn(-3 * time.Hour)
	require.NoError(t, l.LookBack(ctx))
	require.NotNil(t, l.Jumped())
	assert.Contains(t, l.Jumped().Words(), "set back by 3 hours")
}

// TestHoursAreCountedThroughTheTimeShift counts sign-ins of the two hours that are called half past two, apart.
func TestHoursAreCountedThroughTheTimeShift(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	berlin, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	first := time.Date(2026, 10, 25, 0, 30, 0, 0, time.UTC).In(berlin)
	second := first.Add(time.Hour)
	require.Equal(t, first.Format("15:04"), second.Format("15:04"))
	require.NoError(t, l.Store.Traces.Write(ctx, func(tx *gorm.DB) error {
		for _, at := range []time.Time{first, second, second} {
			row := &store.Trace{ID: store.NewIDAt(at), ApplicationID: "a", ProviderID: "p", Outcome: traces.OutcomeSignedIn, StartedAt: at}
			if err := traces.NoteEnd(tx, nil, row, at); err != nil {
				return err
			}
		}
		return nil
	}))
	l.Clock = second.Add(time.Hour)
	s, err := l.Traces.Statistics(ctx, 1, "", "")
	require.NoError(t, err)
	var counts []int64
	for _, b := range s.Buckets {
		if b.SignedIn > 0 {
			counts = append(counts, b.SignedIn)
		}
	}
	assert.Equal(t, []int64{1, 2}, counts)
}
