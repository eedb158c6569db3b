package cli_test

import (
	"encoding/base64"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestDirectoriesAndKeytabsFromTheCommandLine reads people from a directory, looking first, and enters a realm's keytab from a file.
func TestDirectoriesAndKeytabsFromTheCommandLine(t *testing.T) {
	w := world(t)
	code, _, says := run(t, "", "directory", "read", "harbour-office", "--write")
	assert.NotZero(t, code)
	assert.Contains(t, says, "Look first")
	said := good(t, "directory", "read", "harbour-office")
	assert.Contains(t, said, "Nothing was written")
	assert.Regexp(t, `new\s+│?\s*5`, said)
	assert.Contains(t, good(t, "directory", "read", "harbour-office", "--write"), "Written.")
	assert.Regexp(t, `as they were\s+│?\s*5`, good(t, "directory", "read", "harbour-office", "--write"))
	assert.Contains(t, good(t, "directory", "read", "harbour-office", "--write", "--changed"), "Written.")
	_, _, says = run(t, "", "directory", "read", "harbour-office", "--agree")
	assert.Contains(t, says, "no reading asks")

	keytab, err := w.Quayside.Keytab("HTTP/localhost")
	require.NoError(t, err)
	data, err := base64.StdEncoding.DecodeString(keytab)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "gate.keytab")
	require.NoError(t, os.WriteFile(file, data, 0o600))
	assert.Contains(t, good(t, "secret", "enter", "quayside-desk", "--keytab", file), "Stored, and counts.")
	assert.Contains(t, good(t, "secret", "list", "providers/quayside-desk"), "HTTP/localhost@QUAYSIDE.EXAMPLE v2")
}
