package server_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/backup"
	"innergate/client"
	"innergate/demo"
	"innergate/store"
)

// TestAGateComesBackOnAnotherMachine copies a gate's records while it runs, and brings them back in an empty folder, with the
// master key that was kept apart: whoever was signed in still is, and everything is there. With another key it does not start.
func TestAGateComesBackOnAnotherMachine(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := t.Context()
	b := demo.NewWalker(nil)
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	file, folder := filepath.Join(t.TempDir(), "gate.db"), filepath.Join(t.TempDir(), "new")
	_, err := backup.Make(ctx, w.Gate.Store.Folder, file, nil, nil)
	require.NoError(t, err)
	key, err := os.ReadFile(filepath.Join(w.Gate.Store.Folder, "master.key"))
	require.NoError(t, err)
	_, err = backup.Restore(ctx, file, folder, nil)
	require.NoError(t, err)

	require.NoError(t, os.WriteFile(filepath.Join(folder, "master.key"), key, 0o600))
	w, err = w.Reopen(folder)
	require.NoError(t, err)
	require.NoError(t, b.Get(ctx, w.RotaURL+"/sign-in"))
	require.NoError(t, b.Onward(ctx))
	assert.Equal(t, "mvoss", b.Inner("nameid"), "without being asked again")
	require.NoError(t, demo.NewWalker(nil).SignIn(ctx, w.RotaURL+"/sign-in", "zoberg"))
	verdict, err := w.Client().VerifyJournal(ctx, "")
	require.NoError(t, err)
	assert.True(t, verdict.Whole)
	list, err := w.Client().Applications(ctx, client.Page{})
	require.NoError(t, err)
	assert.NotEmpty(t, list.Items)

	other := t.TempDir()
	_, err = backup.Restore(ctx, file, other, nil)
	require.NoError(t, err)
	sealer, err := store.NewSealer(store.NewMasterKey())
	require.NoError(t, err)
	s, err := store.Open(other, sealer)
	require.NoError(t, err)
	defer s.Close()
	keys := []store.Key{}
	require.NoError(t, s.Read(ctx).Find(&keys).Error)
	require.NotEmpty(t, keys)
	_, err = sealer.Open(store.PlaceKey, keys[0].ID, keys[0].Sealed)
	require.ErrorContains(t, err, "can't be opened", "what is sealed stays sealed")
}
