package cli_test

import (
	"innergate/store"
	"innergate/testbed"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestBackupAndRestoreFromTheCommandLine copies a running gate's records, looks at the copy, and brings it back elsewhere.
func TestBackupAndRestoreFromTheCommandLine(t *testing.T) {
	w := world(t)
	data, file, other := w.Gate.Store.Folder, filepath.Join(t.TempDir(), "gate.db"), filepath.Join(t.TempDir(), "other")
	assert.Contains(t, good(t, "backup", file, "--data", data), "providers and")
	assert.Contains(t, good(t, "backup", "verify", file), "Not encrypted")
	for want, args := range map[string][]string{
		"is there already":              {"backup", file, "--data", data},
		"nothing is written over":       {"restore", file, "--data", data},
		"is no recipient of age":        {"backup", file + "2", "--data", data, "--recipient", "fenna"},
		"name the file to which":        {"backup"},
		"name the copy":                 {"restore"},
		"the copy can't be read":        {"backup", "verify", file + "3"},
		"the key can't be read":         {"backup", "verify", file, "--identity", file + "4"},
		"--backup-hours and":            {"serve", "--backup-folder", other, "--backup-keep", "0", "--data", t.TempDir()},
		"there is no database " + other: {"backup", file + "5", "--data", other},
	} {
		code, _, says := run(t, "", args...)
		assert.NotZero(t, code, args)
		assert.Contains(t, says, want, "%v", args)
	}
	assert.Contains(t, good(t, "restore", file, "--data", other), "start the service")
	require.FileExists(t, filepath.Join(other, "innergate.db"))
	// The traces are a file of their own, copied where that is asked for, and brought back beside the records.
	traces := filepath.Join(t.TempDir(), "traces-copy.db")
	assert.Contains(t, good(t, "backup", file+"6", "--traces", traces, "--data", data), "traces of sign-ins")
	assert.Contains(t, good(t, "backup", "verify", traces), "traces of sign-ins")
	assert.Contains(t, good(t, "restore", traces, "--data", other), "traces of sign-ins")
	require.FileExists(t, filepath.Join(other, "traces.db"))
	code, _, says := run(t, "", "restore", traces, "--data", other)
	assert.NotZero(t, code)
	assert.Contains(t, says, "nothing is written over")
}

// TestCopiesOfBeforeUpgradesAreDroppedWhenSaidSo lists what upgrades have left, and deletes it.
func TestCopiesOfBeforeUpgradesAreDroppedWhenSaidSo(t *testing.T) {
	folder := testbed.Earlier(t, testbed.Forms(t)[0])
	assert.Contains(t, good(t, "backup", "drop-old", "--data", folder), "There is none")
	s, err := store.Open(folder, nil)
	require.NoError(t, err)
	s.Close()
	assert.Contains(t, good(t, "backup", "drop-old", "--data", folder), "Give --yes")
	copies, err := store.CopiesOf(folder)
	require.NoError(t, err)
	require.Len(t, copies, 1)
	assert.Contains(t, good(t, "backup", "drop-old", "--data", folder, "--yes"), "Deleted.")
	copies, err = store.CopiesOf(folder)
	require.NoError(t, err)
	assert.Empty(t, copies)
}
