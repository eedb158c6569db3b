package store

import (
	"path/filepath"
	"testing"

	"github.com/go-gormigrate/gormigrate/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
)

func steps(ids ...string) (list []*gormigrate.Migration) {
	for _, id := range ids {
		list = append(list, &gormigrate.Migration{ID: id, Migrate: func(tx *gorm.DB) error {
			return tx.Exec("CREATE TABLE IF NOT EXISTS settings (name text PRIMARY KEY, value text)").Error
		}})
	}
	return list
}

// TestVersionsSideBySide brings the nodes to a newer version one after the other. What only adds is shared: the version before goes
// on, and can be started again. What it could not go on with is refused before anything is changed, unless all are brought together.
func TestVersionsSideBySide(t *testing.T) {
	t.Parallel()
	db, err := gorm.Open(sqlite.Open(filepath.Join(t.TempDir(), "records.db")))
	require.NoError(t, err)
	old, adds, breaks := steps("1", "2"), steps("1", "2", "3"), steps("1", "2", "3", "4")
	unshared := map[string]bool{"4": true}
	require.NoError(t, migrateShared(db, old, nil, false))
	require.NoError(t, migrateShared(db, adds, nil, false))
	require.NoError(t, migrateShared(db, old, nil, false), "a node of the version before starts again")
	err = migrateShared(db, breaks, unshared, false)
	require.ErrorContains(t, err, "--upgrade-together")
	form, err := formOf(db, breaks)
	require.NoError(t, err)
	assert.Equal(t, "3", form, "nothing was changed")
	require.NoError(t, migrateShared(db, breaks, unshared, true))
	require.ErrorContains(t, migrateShared(db, adds, nil, false), "newer Inner Gate", "the version before can't go on")
	require.NoError(t, migrateShared(db, breaks, unshared, false))
}
