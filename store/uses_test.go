package store_test

import (
	"context"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/store"
)

// usesOf are the providers of an application, as the table of uses has them.
func usesOf(t *testing.T, db *gorm.DB, id string) []string {
	t.Helper()
	var out []string
	require.NoError(t, db.Raw("SELECT provider FROM uses WHERE application_id = ? ORDER BY 1", id).Scan(&out).Error)
	return out
}

// TestUsesFollowTheApplications writes an application, changes its providers, and deletes it; aside the same is seen, and
// nobody else sees it.
func TestUsesFollowTheApplications(t *testing.T) {
	t.Parallel()
	s, ctx := open(t, t.TempDir()), t.Context()
	put := func(s *store.Store, body string) {
		t.Helper()
		require.NoError(t, s.Write(ctx, func(tx *gorm.DB) error {
			return tx.Save(
				&store.Application{Object: store.Object{ID: "a", Slug: "rota", Name: "Rota", Body: body, CreatedAt: time.Now()}},
			).Error
		}))
	}
	put(s, `{"providers":["staff","quay","staff"]}`)
	assert.Equal(t, []string{"quay", "staff"}, usesOf(t, s.Read(ctx), "a"))
	put(s, `{"providers":["staff"]}`)
	assert.Equal(t, []string{"staff"}, usesOf(t, s.Read(ctx), "a"))
	require.NoError(t, s.Aside(ctx, []string{"applications", "uses"}, nil, func(aside *store.Store) error {
		put(aside, `{"providers":["lantern"]}`)
		assert.Equal(t, []string{"lantern"}, usesOf(t, aside.Read(ctx), "a"))
		return nil
	}))
	assert.Equal(t, []string{"staff"}, usesOf(t, s.Read(ctx), "a"))
	put(s, `{"name":"without any"}`)
	assert.Empty(t, usesOf(t, s.Read(ctx), "a"))
	put(s, `{"providers":["staff"]}`)
	require.NoError(
		t,
		s.Write(ctx, func(tx *gorm.DB) error { return tx.Delete(&store.Application{Object: store.Object{ID: "a"}}).Error }),
	)
	assert.Empty(t, usesOf(t, s.Read(ctx), "a"))
}

// TestLongReadersKeepNobodyWaiting asks for more long reads at once than there are connections of any kind: those wait for
// each other, and whoever reads beside them does not.
func TestLongReadersKeepNobodyWaiting(t *testing.T) {
	t.Parallel()
	s := open(t, t.TempDir())
	ctx, cancel := context.WithCancel(t.Context())
	var all sync.WaitGroup
	defer all.Wait()
	defer cancel()
	const many = 8
	asked := make(chan struct{}, many)
	for range many {
		all.Go(func() {
			db, done := s.Long(ctx)
			defer done()
			asked <- struct{}{}
			// It has no end but that of the context.
			_ = db.Exec("WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT max(i) FROM n").Error
		})
	}
	for range many {
		<-asked
	}
	time.Sleep(100 * time.Millisecond) // until they have what connections there are; without any of their own, all
	var n int
	began := time.Now()
	require.NoError(t, s.Read(ctx).Raw("SELECT count(*) FROM applications").Scan(&n).Error)
	assert.Less(t, time.Since(began), 3*time.Second)
}
