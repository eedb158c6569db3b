package cli_test

import (
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
}
