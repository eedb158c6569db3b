package server_test

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/backup"
	"innergate/client"
	"innergate/testbed"
)

// TestCopiesOverTheAPI makes a copy in the service's folder, and fetches one in clear and one that only its key opens; each holds
// all records, and is written down.
func TestCopiesOverTheAPI(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	list, err := c.Copies(ctx)
	require.NoError(t, err)
	assert.Empty(t, list.Items)
	made, err := c.MakeCopy(ctx)
	require.NoError(t, err)
	list, err = c.Copies(ctx)
	require.NoError(t, err)
	require.Len(t, list.Items, 1)
	assert.Equal(t, *made, list.Items[0])
	seen, err := backup.Verify(ctx, filepath.Join(list.Folder, made.Name), nil)
	require.NoError(t, err)
	assert.Positive(t, seen.Applications)

	key, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	for _, recipients := range [][]string{nil, {key.Recipient().String()}} {
		var b bytes.Buffer
		require.NoError(t, c.FetchCopy(ctx, api.FetchCopy{Recipients: recipients}, &b))
		file := filepath.Join(t.TempDir(), "copy")
		require.NoError(t, os.WriteFile(file, b.Bytes(), 0o600))
		_, err := backup.Verify(ctx, file, nil)
		assert.Equal(t, recipients == nil, err == nil, "%v", err)
		got, err := backup.Verify(ctx, file, []age.Identity{key})
		require.NoError(t, err)
		assert.Equal(t, seen.Applications, got.Applications)
		assert.Equal(t, recipients != nil, got.Encrypted)
	}
	assert.Equal(t, 400, testbed.Status(c.FetchCopy(ctx, api.FetchCopy{Recipients: []string{"age1no"}}, &bytes.Buffer{})))
	left, err := filepath.Glob(filepath.Join(w.Gate.Store.Folder, backup.Temporary+"*"))
	require.NoError(t, err)
	assert.Empty(t, left, "nothing stays behind")
	lines, err := c.Journal(ctx, client.Page{Limit: 4})
	require.NoError(t, err)
	var did []string
	for _, l := range lines.Items {
		did = append(did, l.Action)
	}
	assert.Contains(t, did, "copied the records")
	assert.Contains(t, did, "fetched a copy of the records")
}
