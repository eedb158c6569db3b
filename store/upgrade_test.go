package store_test

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/store"
	"innergate/testbed"
)

func sealerOf(t *testing.T, folder string) *store.Sealer {
	t.Helper()
	master, err := store.MasterKeys("", filepath.Join(folder, "master.key"), false)
	require.NoError(t, err)
	sealer, err := store.NewSealer(master[0])
	require.NoError(t, err)
	return sealer
}

// counted are the rows of some tables of a file.
func counted(t *testing.T, path string, tables ...string) map[string]int {
	t.Helper()
	db, err := sql.Open("sqlite3", "file:"+path+"?mode=ro")
	require.NoError(t, err)
	defer db.Close()
	var whole string
	require.NoError(t, db.QueryRow("PRAGMA integrity_check").Scan(&whole))
	require.Equal(t, "ok", whole)
	out := map[string]int{}
	for _, table := range tables {
		var n int
		require.NoError(t, db.QueryRow("SELECT count(*) FROM "+table).Scan(&n), table)
		out[table] = n
	}
	return out
}

var (
	recordTables = []string{"applications", "providers", "people", "links", "keys", "settings", "journal_entries", "used_ids",
		"partner_documents"}
	traceTables = []string{"traces", "trace_ids", "trace_additions", "sign_in_counts"}
)

// TestUpgradeFromEachEarlierVersion opens what each earlier version left: everything is there afterwards, everything that is
// sealed can be opened, the traces have a file of their own, and how it was before is kept.
func TestUpgradeFromEachEarlierVersion(t *testing.T) {
	for _, form := range testbed.Forms(t) {
		t.Run(form, func(t *testing.T) {
			folder := testbed.Earlier(t, form)
			at := filepath.Join(folder, store.FileName)
			records, traces := counted(t, at, recordTables...), counted(t, at, traceTables...)
			require.Positive(t, traces["traces"])
			var said []string
			sealer := sealerOf(t, folder)
			s, err := store.Open(folder, sealer, func(text string) { said = append(said, text) })
			require.NoError(t, err)
			defer s.Close()
			assert.Len(t, said, 2, "that it is copied, and that traces are moved: %v", said)
			assert.Equal(t, records, counted(t, at, recordTables...))
			assert.Equal(t, traces, counted(t, filepath.Join(folder, store.TracesFileName), traceTables...))
			before := filepath.Join(folder, store.CopiesBefore, form+".db")
			assert.Equal(t, records, counted(t, before, recordTables...))
			assert.Equal(t, traces, counted(t, before, traceTables...))
			info, err := os.Stat(before)
			require.NoError(t, err)
			assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
			for _, table := range traceTables {
				assert.Error(t, s.Read(t.Context()).Table(table).Count(new(int64)).Error, "%s is with the records no more", table)
			}
			// A new master key opens and seals whatever is sealed.
			s.Sealer, err = store.NewSealer(store.NewMasterKey(), masterOf(t, folder))
			require.NoError(t, err)
			n, err := s.Reseal(t.Context())
			require.NoError(t, err)
			assert.Greater(t, n, traces["traces"])
			// The next start has nothing to do.
			s.Close()
			said = nil
			s, err = store.Open(folder, sealer, func(text string) { said = append(said, text) })
			require.NoError(t, err)
			defer s.Close()
			assert.Empty(t, said)
		})
	}
}

func masterOf(t *testing.T, folder string) []byte {
	t.Helper()
	master, err := store.MasterKeys("", filepath.Join(folder, "master.key"), false)
	require.NoError(t, err)
	return master[0]
}

// TestMovingTracesGoesOnWhereItWas has moving the traces fail in the middle: what was moved is not moved again, nothing is lost,
// and the records are as they were.
func TestMovingTracesGoesOnWhereItWas(t *testing.T) {
	defer store.MovedAtOnce(7)()
	folder := testbed.Earlier(t, "2026-11-30-size")
	at, apart := filepath.Join(folder, store.FileName), filepath.Join(folder, store.TracesFileName)
	traces := counted(t, at, traceTables...)
	// A file of traces that takes seven of them, and then no more.
	other := t.TempDir()
	open(t, other).Close()
	require.NoError(t, os.Rename(filepath.Join(other, store.TracesFileName), apart))
	db, err := sql.Open("sqlite3", apart)
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec("CREATE TRIGGER no_more BEFORE INSERT ON traces WHEN (SELECT count(*) FROM traces) >= 10 BEGIN SELECT RAISE(ABORT, " +
		"'made by the test'); END")
	require.NoError(t, err)
	_, err = store.Open(folder, nil)
	require.ErrorContains(t, err, "made by the test")
	require.ErrorContains(t, err, "start again")
	assert.Equal(t, 7, counted(t, apart, "traces")["traces"], "whole parts alone")
	assert.Equal(t, traces, counted(t, at, traceTables...), "with the records they still are")
	_, err = db.Exec("DROP TRIGGER no_more")
	require.NoError(t, err)
	open(t, folder)
	assert.Equal(t, traces, counted(t, apart, traceTables...))
}

// TestADamagedFileOfTracesIsPutAside loses the traces in two ways: nobody is kept out by it.
func TestADamagedFileOfTracesIsPutAside(t *testing.T) {
	folder := t.TempDir()
	open(t, folder).Close()
	apart := filepath.Join(folder, store.TracesFileName)
	require.NoError(t, os.WriteFile(apart, []byte(strings.Repeat("this is no database. ", 500)), 0o600))
	said := ""
	s, err := store.Open(folder, nil, func(text string) { said += text })
	require.NoError(t, err)
	assert.Contains(t, said, "was put aside")
	aside, err := filepath.Glob(apart + ".damaged-*")
	require.NoError(t, err)
	assert.Len(t, aside, 1)
	require.NoError(t, s.Traces.Read(context.Background()).Table("traces").Count(new(int64)).Error)
	s.Close()
	require.NoError(t, os.Remove(apart))
	open(t, folder)
}
