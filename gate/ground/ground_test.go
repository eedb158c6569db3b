package ground_test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/gate/ground"
	"innergate/store"
	"innergate/testbed"
)

// TestAllows asks every role about every other.
func TestAllows(t *testing.T) {
	t.Parallel()
	ranked := []string{ground.RoleAssigner, ground.RoleViewer, ground.RoleEngineer, ground.RoleOwner}
	for i, have := range ranked {
		for j, need := range ranked {
			assert.Equal(t, i >= j, ground.Allows(have, need), "%s where %s is needed", have, need)
		}
		assert.False(t, ground.Allows("nobody", have))
		assert.False(t, ground.Allows("", have))
	}
}

// TestUseOnce counts an identifier once for each issuer, until it may come again.
func TestUseOnce(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	use := func(issuer, id string) (fresh bool) {
		require.NoError(t, l.Store.Write(ctx, func(tx *gorm.DB) (err error) {
			fresh, err = ground.UseOnce(tx, issuer, id, l.Clock.Add(time.Hour))
			return err
		}))
		return fresh
	}
	assert.True(t, use("https://id.example", "_1"))
	assert.False(t, use("https://id.example", "_1"))
	assert.True(t, use("https://other.example", "_1"), "another issuer's")
	l.Turn(2*time.Hour + time.Minute)
	require.NoError(t, l.Tidy(ctx))
	assert.True(t, use("https://id.example", "_1"), "its assertion is over by then")
}

// TestGuessesAreCountedAndForgotten refuses after so many wrong ones, until a right one or time.
func TestGuessesAreCountedAndForgotten(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	for range 3 {
		require.NoError(t, l.Guessing(ctx, "name:x", 3))
	}
	assert.Error(t, l.Guessing(ctx, "name:x", 3))
	assert.NoError(t, l.Guessing(ctx, "name:y", 3), "another name")
	l.Guessed(ctx, "name:x")
	assert.NoError(t, l.Guessing(ctx, "name:x", 3), "a right one came")
	for range 5 {
		_ = l.Guessing(ctx, "name:x", 3)
	}
	l.Turn(ground.GuessWindow + time.Second)
	assert.NoError(t, l.Guessing(ctx, "name:x", 3), "its time is over")
}

// TestASettingHasAHistory writes one, and finds the revision and the line in the journal.
func TestASettingHasAHistory(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	before, err := l.Store.Generation(ctx)
	require.NoError(t, err)
	require.NoError(t, l.Store.Write(ctx, func(tx *gorm.DB) error {
		return l.WriteSetting(tx, testbed.Owner, "tides", "the tides", map[string]int{"high": 1}, map[string]int{"high": 2})
	}))
	after, err := l.Store.Generation(ctx)
	require.NoError(t, err)
	assert.NotEqual(t, before, after, "every process parses anew")
	lines, err := l.Journal(ctx, testbed.Owner, store.Page{Limit: 5}, "")
	require.NoError(t, err)
	assert.Contains(t, lines.Items[0].After, `"high":2`)
	assert.Contains(t, fmt.Sprintf("%+v", lines.Items[0]), testbed.Owner.Name)
}
