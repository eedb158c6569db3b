package issued_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/gate/issued"
	"innergate/store"
	"innergate/testbed"
)

// TestEachIsUsedOnce uses a code, a refresh token and a device code twice; the second time touches nothing.
func TestEachIsUsedOnce(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	now := l.Clock
	require.NoError(t, l.Store.Write(ctx, func(tx *gorm.DB) error {
		require.NoError(t, issued.InsertGrant(tx,
			&store.Grant{ID: "G", CodeHash: []byte("c"), CreatedAt: now, ExpiresAt: now.Add(time.Hour)}))
		require.NoError(t, issued.InsertToken(tx,
			&store.Token{Hash: []byte("r"), GrantID: "G", Kind: "refresh", CreatedAt: now, ExpiresAt: now.Add(time.Hour)}))
		require.NoError(t, issued.InsertDevice(tx,
			&store.DeviceCode{Hash: []byte("d"), UserCode: "BCDF-GHJK", State: "waiting", ExpiresAt: now.Add(time.Hour)}))
		for name, use := range map[string]func() (int64, error){
			"code":           func() (int64, error) { return issued.UseCode(tx, "G", now) },
			"refresh token":  func() (int64, error) { return issued.UseToken(tx, []byte("r"), now) },
			"device's grant": func() (int64, error) { return issued.GrantDevice(tx, []byte("d"), "G", now) },
		} {
			for i, want := range []int64{1, 0} {
				n, err := use()
				require.NoError(t, err)
				assert.Equal(t, want, n, "%s, use %d", name, i+1)
			}
		}
		for i, want := range []int64{1, 0} {
			n, err := issued.UseDevice(tx, []byte("d"))
			require.NoError(t, err)
			assert.Equal(t, want, n, "device code, use %d", i+1)
		}
		return nil
	}))
}

// TestAGrantThatHasEndedGivesNothing refuses its code, and a device that comes late.
func TestAGrantThatHasEndedGivesNothing(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	now := l.Clock
	require.NoError(t, l.Store.Write(ctx, func(tx *gorm.DB) error {
		require.NoError(t, issued.InsertGrant(tx, &store.Grant{ID: "G", CreatedAt: now, ExpiresAt: now.Add(time.Hour)}))
		require.NoError(t, issued.EndGrant(tx, "G", "signed out", now))
		n, err := issued.UseCode(tx, "G", now)
		require.NoError(t, err)
		assert.Zero(t, n)
		require.NoError(t, issued.EndGrant(tx, "G", "again", now.Add(time.Hour)))
		var g store.Grant
		require.NoError(t, tx.Where("id = ?", "G").Take(&g).Error)
		assert.Equal(t, "signed out", g.EndedBy, "the first reason stays")
		require.NoError(t, issued.InsertDevice(tx,
			&store.DeviceCode{Hash: []byte("d"), UserCode: "BCDF-GHJK", State: "waiting", ExpiresAt: now}))
		n, err = issued.GrantDevice(tx, []byte("d"), "G", now.Add(time.Second))
		assert.Zero(t, n, "its time is over")
		return err
	}))
}

// TestTidy keeps what may still be asked about for a while.
func TestTidy(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	left := func() (n int64) {
		require.NoError(t, l.Store.Read(ctx).Model(&store.Grant{}).Count(&n).Error)
		return n
	}
	require.NoError(t, l.Store.Write(ctx, func(tx *gorm.DB) error {
		return issued.InsertGrant(tx, &store.Grant{ID: "G", CreatedAt: l.Clock, ExpiresAt: l.Clock.Add(time.Hour)})
	}))
	l.Turn(2 * time.Hour)
	require.NoError(t, l.Tidy(ctx))
	assert.EqualValues(t, 1, left())
	l.Turn(24 * time.Hour)
	require.NoError(t, l.Tidy(ctx))
	assert.Zero(t, left())
}
