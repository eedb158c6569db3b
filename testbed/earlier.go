package testbed

import (
	"archive/tar"
	"bytes"
	"embed"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
)

// folders are the data folders of earlier versions, as the demo's walk through all sign-ins left each, under the names of the
// newest step that its database had been through. A version that changes the records adds its own.
//
//go:embed folders
var folders embed.FS

// Forms are the names of the earlier forms of the records, the oldest first.
func Forms(t testing.TB) []string {
	t.Helper()
	files, err := folders.ReadDir("folders")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	var out []string
	for _, f := range files {
		out = append(out, strings.TrimSuffix(f.Name(), ".tar.zst"))
	}
	return out
}

// Earlier unpacks the data folder of an earlier version, with its master key, into one of the test's own.
func Earlier(t testing.TB, form string) string {
	t.Helper()
	packed, err := folders.ReadFile("folders/" + form + ".tar.zst")
	require.NoError(t, err)
	plain, err := zstd.NewReader(bytes.NewReader(packed))
	require.NoError(t, err)
	defer plain.Close()
	folder := t.TempDir()
	files := tar.NewReader(plain)
	for {
		head, err := files.Next()
		if err == io.EOF {
			return folder
		}
		require.NoError(t, err)
		data, err := io.ReadAll(files)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(folder, filepath.Base(head.Name)), data, 0o600))
	}
}
