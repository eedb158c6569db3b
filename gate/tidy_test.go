package gate_test

import (
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

// TestTidyingWorksInParts leaves many sessions, tokens and grants that are over: all go, with what stands beside them, no
// transaction deletes more than its part, and somebody who writes meanwhile has a turn in between.
func TestTidyingWorksInParts(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), t.Context()
	const many = 3*ground.AtOnce + 20
	over := l.Clock.Add(-40 * 24 * time.Hour)
	require.NoError(t, l.Store.Write(ctx, func(tx *gorm.DB) error {
		for i := range many {
			id := fmt.Sprintf("over%06d", i)
			for _, row := range []any{
				&store.Session{ID: id, TokenHash: []byte(id), ExpiresAt: over},
				&store.SessionProof{SessionID: id, ProviderID: "p", At: over},
				&store.SessionUse{SessionID: id, ApplicationID: "a", Index: id, FirstAt: over},
				&store.Token{Hash: []byte(id), GrantID: id, ExpiresAt: over},
				&store.Grant{ID: id, ExpiresAt: over},
			} {
				if err := tx.Create(row).Error; err != nil {
					return err
				}
			}
		}
		return tx.Create(&store.Session{ID: "open", TokenHash: []byte("open"), ExpiresAt: l.Clock.Add(time.Hour)}).Error
	}))
	before := l.Store.Commits()
	tidied := make(chan error, 1)
	go func() { tidied <- l.Tidy(ctx) }()
	var longest time.Duration
	var beside int64
	for running := true; running; {
		select {
		case err := <-tidied:
			require.NoError(t, err)
			running = false
		default:
			began := time.Now()
			require.NoError(t, l.Store.Write(ctx, func(tx *gorm.DB) error { return ground.KeepSetting(tx, "beside", began.String()) }))
			longest = max(longest, time.Since(began))
			beside++
		}
	}
	for table, left := range map[string]int64{"sessions": 1, "session_proofs": 0, "session_uses": 0, "tokens": 0, "grants": 0} {
		var n int64
		require.NoError(t, l.Store.Read(ctx).Table(table).Count(&n).Error)
		assert.Equal(t, left, n, table)
	}
	assert.Greater(t, beside, int64(5))
	assert.GreaterOrEqual(t, l.Store.Commits()-before-beside, int64(3*4), "each part is a transaction")
	t.Logf("somebody beside it waited %s at the longest", longest)
}
