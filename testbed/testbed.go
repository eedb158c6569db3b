// Package testbed makes whole gates cheap for tests: keys from a pool in place of new ones, passwords hashed at little
// cost, and a database that is migrated once. Nothing but tests imports it; what it leaves out is tested where it
// belongs (core/keys, core/passwords, store, and one first start in cli).
package testbed

import (
	"context"
	"crypto"
	_ "embed"
	"encoding/pem"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate/core/keys"
	"innergate/core/passwords"
	"innergate/demo"
	"innergate/store"
)

// Patience is how long a test waits for something before it says that it did not come about. What is there at once
// takes none of it, and a machine that has much else to do does not reach it.
const Patience = 2 * time.Minute

// Cost is what a password's hash costs in tests: the least that a hash may.
var Cost = passwords.Cost{Memory: 8, Rounds: 1}

// The pool: RSA keys of 2048 bits that protect nothing, in PEM.
//
//go:embed keys.pem
var pool []byte

var pooled = sync.OnceValues(func() (out []crypto.Signer, err error) {
	for block, rest := pem.Decode(pool); block != nil; block, rest = pem.Decode(rest) {
		key, err := keys.ParsePrivate(block.Bytes)
		if err != nil {
			return nil, err
		}
		out = append(out, key)
	}
	return out, nil
})

// Keys is a source that gives each key of the pool once, and then makes new ones. Two sources give the same keys.
func Keys() keys.Source {
	var next atomic.Int64
	return func(kind keys.Kind) (crypto.Signer, error) {
		if kind != keys.RSA2048 {
			return keys.Generate(kind)
		}
		held, err := pooled()
		if err != nil {
			return nil, err
		}
		if i := int(next.Add(1)) - 1; i < len(held) {
			return held[i], nil
		}
		return keys.Generate(kind)
	}
}

// emptyStore are the files of the newest form with nothing in them, by their names.
var emptyStore = sync.OnceValues(func() (map[string][]byte, error) {
	folder, err := os.MkdirTemp("", "innergate-testbed-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(folder)
	s, err := store.Open(folder, nil)
	if err != nil {
		return nil, err
	}
	s.Close() // writes the log back
	files := map[string][]byte{}
	for _, name := range []string{store.FileName, store.TracesFileName} {
		if files[name], err = os.ReadFile(filepath.Join(folder, name)); err != nil {
			return nil, err
		}
	}
	return files, nil
})

// Folder is a data folder of the test's own, with empty databases in it.
func Folder(t testing.TB) string {
	t.Helper()
	folder := t.TempDir()
	files, err := emptyStore()
	require.NoError(t, err)
	for name, data := range files {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), data, 0o600))
	}
	return folder
}

// World starts the made-up world for a test, and ends it with the test. A folder that the options name is taken as it
// is.
func World(t testing.TB, o demo.Options) *demo.World {
	t.Helper()
	if o.Folder == "" {
		o.Folder = Folder(t)
	}
	if o.KeySource == nil {
		o.KeySource = Keys()
	}
	if o.PasswordCost == (passwords.Cost{}) {
		o.PasswordCost = Cost
	}
	w, err := demo.Start(context.Background(), o)
	require.NoError(t, err)
	t.Cleanup(w.Close)
	return w
}
