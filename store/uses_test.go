package store_test

import (
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

// TestLongReadersKeepNobodyWaiting holds all connections for reports, and reads beside them.
func TestLongReadersKeepNobodyWaiting(t *testing.T) {
	t.Parallel()
	s, ctx := open(t, t.TempDir()), t.Context()
	for range 2 {
		db, done := s.Long(ctx)
		defer done()
		rows, err := db.Raw("WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n LIMIT 100000) SELECT i FROM n").Rows()
		require.NoError(t, err)
		defer rows.Close()
	}
	var one int
	began := time.Now()
	for range 50 {
		require.NoError(t, s.Read(ctx).Raw("SELECT count(*) FROM applications").Scan(&one).Error)
	}
	assert.Less(t, time.Since(began), 2*time.Second)
}
