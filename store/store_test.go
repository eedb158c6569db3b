package store_test

import (
	"context"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/store"
)

func open(t testing.TB, folder string) *store.Store {
	t.Helper()
	s, err := store.Open(folder, nil)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

func TestSealing(t *testing.T) {
	s, err := store.NewSealer(make([]byte, 32))
	require.NoError(t, err)
	sealed := s.Seal("key/1", []byte("private"))
	assert.NotContains(t, string(sealed), "private")
	plain, err := s.Open("key/1", sealed)
	require.NoError(t, err)
	assert.Equal(t, "private", string(plain))
	_, err = s.Open("key/2", sealed)
	assert.ErrorContains(t, err, "can't be opened", "a sealed value is good in its own place only")
	other, err := store.NewSealer(append(make([]byte, 31), 1))
	require.NoError(t, err)
	_, err = other.Open("key/1", sealed)
	assert.ErrorContains(t, err, "master key")
	_, err = s.Open("key/1", nil)
	assert.Error(t, err)
}

func TestMasterKey(t *testing.T) {
	file := filepath.Join(t.TempDir(), "deep", "master.key")
	_, err := store.MasterKey("", file, false)
	assert.ErrorContains(t, err, "is missing")
	key, err := store.MasterKey("", file, true)
	require.NoError(t, err)
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	again, err := store.MasterKey("", file, false)
	require.NoError(t, err)
	assert.Equal(t, key, again)
	_, err = store.MasterKey("short", file, false)
	assert.ErrorContains(t, err, "32 bytes")
	require.NoError(t, os.WriteFile(file, []byte("rubbish"), 0o600))
	_, err = store.MasterKey("", file, false)
	assert.ErrorContains(t, err, "does not hold 32 bytes")
}

func TestOpenExplains(t *testing.T) {
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, store.FileName), []byte("this is no database, but a letter that somebody left here"), 0o600))
	_, err := store.Open(folder, nil)
	assert.ErrorContains(t, err, "damaged or is none")
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	_, err = store.Open(filepath.Join(file, "data"), nil)
	assert.ErrorContains(t, err, "can't be made")
}

// TestNewerDatabaseIsLeftAlone opens one that a newer version wrote.
func TestNewerDatabaseIsLeftAlone(t *testing.T) {
	folder := t.TempDir()
	s := open(t, folder)
	require.NoError(t, s.Write(context.Background(), func(tx *gorm.DB) error {
		return tx.Exec("INSERT INTO migrations (id) VALUES ('2099-01-01-later')").Error
	}))
	s.Close()
	_, err := store.Open(folder, nil)
	assert.ErrorContains(t, err, "newer Inner Gate")
}

func TestJournalIsAppendOnly(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := context.Background()
	require.NoError(t, s.Write(ctx, func(tx *gorm.DB) error { return tx.Create(&store.JournalEntry{At: time.Now(), Who: "Fenna"}).Error }))
	for _, sql := range []string{"UPDATE journal_entries SET who = 'x'", "DELETE FROM journal_entries"} {
		assert.ErrorContains(t, s.Write(ctx, func(tx *gorm.DB) error { return tx.Exec(sql).Error }), "append-only")
	}
}

func TestPagesAreWhole(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := context.Background()
	require.NoError(t, s.Write(ctx, func(tx *gorm.DB) error {
		for i := range 25 {
			name := string(rune('a'+i%5)) + " same_name%"
			if err := tx.Create(&store.Application{Object: store.Object{ID: store.NewID(), Slug: store.NewID(), Name: name, Body: "{}"}}).Error; err != nil {
				return err
			}
		}
		return nil
	}))
	columns := map[string]string{"name": "name COLLATE NOCASE"}
	for _, sort := range []string{"name", "-name"} {
		seen := map[string]bool{}
		p := store.Page{Limit: 4, Sort: sort}
		for {
			db, err := p.Rows(s.Read(ctx), columns, "name", "name")
			require.NoError(t, err)
			var rows []store.Application
			require.NoError(t, db.Find(&rows).Error)
			for _, r := range rows[:min(4, len(rows))] {
				assert.False(t, seen[r.ID])
				seen[r.ID] = true
			}
			if len(rows) <= 4 {
				break
			}
			p.After = store.AfterKey(rows[3].Name, rows[3].ID)
		}
		assert.Len(t, seen, 25)
	}
	for search, want := range map[string]int{"same_name%": 25, "sameXname": 0, "a same": 5, "' OR 1=1 --": 0} {
		db, err := store.Page{Limit: 100, Search: search}.Rows(s.Read(ctx), columns, "name", "name")
		require.NoError(t, err)
		var rows []store.Application
		require.NoError(t, db.Find(&rows).Error)
		assert.Len(t, rows, want, search)
	}
	_, err := store.Page{Sort: "name; DROP TABLE applications"}.Rows(s.Read(ctx), columns, "name")
	assert.ErrorContains(t, err, "can't be sorted")
}

// TestFullDisk lets the database grow no further: the error says so, and nothing is half-written.
func TestFullDisk(t *testing.T) {
	s := open(t, t.TempDir())
	ctx := context.Background()
	require.NoError(t, s.Write(ctx, func(tx *gorm.DB) error {
		var pages int
		if err := tx.Raw("PRAGMA page_count").Scan(&pages).Error; err != nil {
			return err
		}
		return tx.Exec("PRAGMA max_page_count = " + strconv.Itoa(pages+4)).Error
	}))
	err := s.Write(ctx, func(tx *gorm.DB) error {
		for range 100 {
			if err := tx.Create(&store.Setting{Name: store.NewID(), Value: strings.Repeat("x", 4000)}).Error; err != nil {
				return err
			}
		}
		return nil
	})
	require.ErrorContains(t, err, "the disk is full, so nothing was written")
	var left int64
	require.NoError(t, s.Read(ctx).Model(&store.Setting{}).Count(&left).Error)
	assert.Zero(t, left)
}
