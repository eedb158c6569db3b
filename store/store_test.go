package store_test

import (
	"context"
	"database/sql"
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
	sealed := s.Seal(store.PlaceKey, "1", []byte("private"))
	assert.NotContains(t, string(sealed), "private")
	plain, err := s.Open(store.PlaceKey, "1", sealed)
	require.NoError(t, err)
	assert.Equal(t, "private", string(plain))
	_, err = s.Open(store.PlaceKey, "2", sealed)
	assert.ErrorContains(t, err, "can't be opened", "a sealed value is good in its own place only")
	other, err := store.NewSealer(append(make([]byte, 31), 1))
	require.NoError(t, err)
	_, err = other.Open(store.PlaceKey, "1", sealed)
	assert.ErrorContains(t, err, "master key")
	_, err = s.Open(store.PlaceKey, "1", nil)
	assert.Error(t, err)
}

func TestMasterKey(t *testing.T) {
	file := filepath.Join(t.TempDir(), "deep", "master.key")
	_, err := store.MasterKeys("", file, false)
	assert.ErrorContains(t, err, "is missing")
	key, err := store.MasterKeys("", file, true)
	require.NoError(t, err)
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	again, err := store.MasterKeys("", file, false)
	require.NoError(t, err)
	assert.Equal(t, key, again)
	_, err = store.MasterKeys("short", file, false)
	assert.ErrorContains(t, err, "32 bytes")
	require.NoError(t, os.WriteFile(file, []byte("rubbish"), 0o600))
	_, err = store.MasterKeys("", file, false)
	assert.ErrorContains(t, err, "does not hold 32 bytes")
}

func TestOpenExplains(t *testing.T) {
	folder := t.TempDir()
	require.NoError(
		t,
		os.WriteFile(filepath.Join(folder, store.FileName), []byte("this is no database, but a letter that somebody left here"), 0o600),
	)
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
			if err := tx.Create(&store.Application{Object: store.Object{ID: store.NewID(), Slug: store.NewID(), Name: name,
				Body: "{}"}}).Error; err != nil {
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

func TestMasterKeyRotation(t *testing.T) {
	folder := t.TempDir()
	file := filepath.Join(folder, "master.key")
	first, err := store.MasterKeys("", file, true)
	require.NoError(t, err)
	old, err := store.NewSealer(first[0])
	require.NoError(t, err)
	s, err := store.Open(folder, old)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	ctx := context.Background()
	for i := range 450 {
		id := "01K" + strconv.Itoa(1000+i)
		require.NoError(t, s.Write(ctx, func(tx *gorm.DB) error {
			return tx.Create(&store.Key{
				ID:        id,
				Purpose:   "test",
				State:     "retired",
				Sealed:    old.Seal(store.PlaceKey, id, []byte("private "+id)),
				CreatedAt: time.Now(),
			}).Error
		}))
	}
	next := store.NewMasterKey()
	require.NoError(t, store.WriteMasterKeys(file, [][]byte{next, first[0]}))
	both, err := store.MasterKeys("", file, false)
	require.NoError(t, err)
	require.Len(t, both, 2)
	s.Sealer, err = store.NewSealer(both[0], both[1:]...)
	require.NoError(t, err)
	n, err := s.Reseal(ctx)
	require.NoError(t, err)
	assert.Equal(t, 450, n)
	n, err = s.Reseal(ctx)
	require.NoError(t, err)
	assert.Zero(t, n, "a second run finds nothing to do")

	alone, err := store.NewSealer(next)
	require.NoError(t, err)
	var k store.Key
	require.NoError(t, s.Read(ctx).Where("id = ?", "01K1449").Take(&k).Error)
	plain, err := alone.Open(store.PlaceKey, "01K1449", k.Sealed)
	require.NoError(t, err)
	assert.Equal(t, "private 01K1449", string(plain))
	_, err = old.Open(store.PlaceKey, "01K1449", k.Sealed)
	assert.Error(t, err, "the old key opens nothing any more")
}

func TestHold(t *testing.T) {
	folder := t.TempDir()
	one, err := store.Hold(folder, false)
	require.NoError(t, err)
	two, err := store.Hold(folder, false)
	require.NoError(t, err, "several services may run on one folder")
	_, err = store.Hold(folder, true)
	assert.ErrorContains(t, err, "stop it first")
	one()
	two()
	alone, err := store.Hold(folder, true)
	require.NoError(t, err)
	_, err = store.Hold(folder, false)
	assert.ErrorContains(t, err, "wait until it has finished")
	alone()
}

// The schema of the first version is kept, so that every later one is tried on it.
func TestUpgradeFromTheFirstVersion(t *testing.T) {
	folder := t.TempDir()
	schema, err := os.ReadFile("testdata/first.sql")
	require.NoError(t, err)
	db, err := sql.Open("sqlite3", filepath.Join(folder, store.FileName))
	require.NoError(t, err)
	_, err = db.Exec(string(schema))
	require.NoError(t, err)
	_, err = db.Exec(
		`INSERT INTO keys (id, purpose, kind, state, certificate, sealed, created_at) VALUES ('01K1', 'saml-signing', 'rsa-2048', ` +
			`'active', x'00', x'01', '2026-11-23 09:00:00+00:00')`,
	)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	s := open(t, folder)
	var k store.Key
	require.NoError(t, s.Read(context.Background()).Take(&k).Error)
	assert.NotNil(t, k.PublishedAt, "the key that was active counts as published")
	again := s.Write(context.Background(), func(tx *gorm.DB) error {
		return tx.Create(&store.Key{ID: "01K2", Purpose: "saml-signing", State: "active", CreatedAt: time.Now()}).Error
	})
	assert.ErrorIs(t, again, store.ErrDuplicate, "there is one active key for a purpose")
}

// TestAMigrationThatFailsNamesItself: it says which step failed and what to do, leaves those before it, and the next start goes
// on with it.
func TestAMigrationThatFailsNamesItself(t *testing.T) {
	folder := t.TempDir()
	db, err := sql.Open("sqlite3", filepath.Join(folder, store.FileName))
	require.NoError(t, err)
	_, err = db.Exec("CREATE TABLE counts (made TEXT)") // by hand, in the way of the newest step
	require.NoError(t, err)
	_, err = store.Open(folder, nil)
	require.ErrorContains(t, err, "the step 2026-11-30-size failed")
	assert.ErrorContains(t, err, "table counts already exists")
	assert.ErrorContains(t, err, "start again")
	var done, half int
	require.NoError(t, db.QueryRow("SELECT count(*) FROM migrations").Scan(&done))
	require.NoError(t, db.QueryRow("SELECT count(*) FROM sqlite_master WHERE name = 'people_by_name'").Scan(&half))
	assert.Greater(t, done, 10, "those before it stay")
	assert.Zero(t, half, "of it nothing stays")
	_, err = db.Exec("DROP TABLE counts")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	open(t, folder)
}

// TestTheLogStaysSmall writes much while somebody reads on and on: the write-ahead log is begun anew in between, as soon as
// nobody reads what was before it, and waits for nobody for long.
func TestTheLogStaysSmall(t *testing.T) {
	s, ctx := open(t, t.TempDir()), context.Background()
	fill := func() {
		for range 6 {
			require.NoError(t, s.Write(ctx, func(tx *gorm.DB) error {
				return tx.Exec("INSERT INTO used_ids (issuer, value, expires_at) WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 " +
					"FROM n WHERE i < 20000) SELECT hex(randomblob(100)), i, '2026-11-30' FROM n").Error
			}))
		}
	}
	reading, err := s.Read(ctx).Raw("SELECT id FROM migrations").Rows()
	require.NoError(t, err)
	require.True(t, reading.Next())
	fill()
	require.Greater(t, s.LogNow(), int64(store.LogSize), "somebody reads what was before all of it")
	begin := time.Now()
	log, err := s.BoundLog(ctx)
	require.NoError(t, err)
	assert.True(t, log.Held)
	assert.Less(t, time.Since(begin), 2*time.Second, "whoever signs in does not wait for a reader")
	require.NoError(t, s.Write(ctx, func(tx *gorm.DB) error { return store.Changed(tx) }), "and writing goes on")
	require.NoError(t, reading.Close())
	log, err = s.BoundLog(ctx)
	require.NoError(t, err)
	assert.False(t, log.Held)
	assert.Less(t, s.LogNow(), int64(store.LogSize))
}

// TestAWriterWaitsForAnotherProcess has another process hold the lock for longer than the database itself waits.
func TestAWriterWaitsForAnotherProcess(t *testing.T) {
	folder := t.TempDir()
	s, ctx := open(t, folder), context.Background()
	db, err := sql.Open("sqlite3", filepath.Join(folder, store.FileName)+"?_txlock=immediate")
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	tx, err := db.Begin()
	require.NoError(t, err)
	calls := 0
	done := make(chan error, 1)
	go func() {
		done <- s.Write(ctx, func(tx *gorm.DB) error {
			calls++
			return store.Changed(tx)
		})
	}()
	select {
	case err := <-done:
		t.Fatal("it did not wait", err)
	case <-time.After(2 * time.Second): // the database itself gives up after one
	}
	require.NoError(t, tx.Rollback())
	require.NoError(t, <-done)
	assert.Equal(t, 1, calls)
	// Whoever leaves waits no longer.
	tx, err = db.Begin()
	require.NoError(t, err)
	gone, leave := context.WithTimeout(ctx, 100*time.Millisecond)
	defer leave()
	require.Error(t, s.Write(gone, func(*gorm.DB) error { return nil }))
	require.NoError(t, tx.Rollback())
}
