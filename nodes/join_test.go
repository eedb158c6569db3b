package nodes_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/nodes"
)

// TestAnInvitationIsReadAsItWasWritten reads what another one has printed, and nothing else.
func TestAnInvitationIsReadAsItWasWritten(t *testing.T) {
	t.Parallel()
	i, err := nodes.NewInvitation("https://gate.saltmere.example", "01ARZ3NDEKTSV4RRFFQ69G5FAV")
	require.NoError(t, err)
	text, err := i.Text()
	require.NoError(t, err)
	again, err := nodes.ReadInvitation(text)
	require.NoError(t, err)
	assert.Equal(t, i, again)
	for _, other := range []string{"", "KEY", text + "!", text[:len(text)-20], "e30"} {
		_, err := nodes.ReadInvitation(other)
		assert.ErrorContains(t, err, "innergate node invite", other)
	}
}

// TestAProofIsBoundToWhatItIsAbout proves one thing, which proves no other.
func TestAProofIsBoundToWhatItIsAbout(t *testing.T) {
	t.Parallel()
	secret := []byte("a secret of thirty-two octets ...")
	proof := nodes.Proof(secret, nodes.AboutJoining, []byte("a"), []byte("bc"))
	assert.Equal(t, proof, nodes.Proof(secret, nodes.AboutJoining, []byte("a"), []byte("bc")))
	for what, other := range map[string][]byte{
		"another cut":     nodes.Proof(secret, nodes.AboutJoining, []byte("ab"), []byte("c")),
		"another purpose": nodes.Proof(secret, nodes.AboutJoined, []byte("a"), []byte("bc")),
		"another secret":  nodes.Proof([]byte("another"), nodes.AboutJoining, []byte("a"), []byte("bc")),
		"one part less":   nodes.Proof(secret, nodes.AboutJoining, []byte("abc")),
	} {
		assert.NotEqual(t, proof, other, what)
	}
}

// TestTheFirstNodeIsTheFirstOnce prepares a folder, reads it back, and takes the authority out of it: from then on it is one like
// the others, and brings nothing along any more.
func TestTheFirstNodeIsTheFirstOnce(t *testing.T) {
	t.Parallel()
	data, now := t.TempDir(), time.Now()
	assert.False(t, nodes.IsNode(data))
	require.Error(t, nodes.Begin(data, nodes.Setup{Address: "0.0.0.0:8424"}, now))
	require.NoError(t, nodes.Begin(data, nodes.Setup{Address: "10.0.0.1:8424"}, now))
	assert.True(t, nodes.IsNode(data))
	require.ErrorContains(t, nodes.Begin(data, nodes.Setup{Address: "10.0.0.1:8424"}, now), "a node's already")
	files, err := os.ReadDir(nodes.Folder(data))
	require.NoError(t, err)
	for _, f := range files {
		info, err := f.Info()
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), f.Name())
	}
	o, err := nodes.ReadOptions(data)
	require.NoError(t, err)
	assert.Equal(t, "10.0.0.1:8424", o.Address)
	first, err := nodes.First(data)
	require.NoError(t, err)
	assert.True(t, first)
	a, forget, err := nodes.TakeAuthority(data)
	require.NoError(t, err)
	own, err := o.Identity.Certificate()
	require.NoError(t, err)
	require.NoError(t, own.CheckSignatureFrom(a.Certificate))
	text, err := a.PEM()
	require.NoError(t, err)
	again, err := nodes.ReadAuthority(text)
	require.NoError(t, err)
	assert.True(t, a.Key.Equal(again.Key))
	require.NoError(t, forget())
	first, err = nodes.First(data)
	require.NoError(t, err)
	assert.False(t, first, "its records are with the nodes")
	a, _, err = nodes.TakeAuthority(data)
	require.NoError(t, err)
	assert.Nil(t, a)
	// What is damaged is said so.
	_, err = nodes.ReadAuthority(text[:100])
	assert.ErrorContains(t, err, "damaged")
	require.NoError(t, os.WriteFile(filepath.Join(nodes.Folder(data), "authority.pem"), []byte("nothing"), 0o600))
	_, err = nodes.ReadOptions(data)
	assert.ErrorContains(t, err, "authority.pem holds no certificate")
}

// TestAJoinedNodeIsNeverTheFirst prepares a folder for a node that joins others.
func TestAJoinedNodeIsNeverTheFirst(t *testing.T) {
	t.Parallel()
	a, err := nodes.NewAuthority(time.Now())
	require.NoError(t, err)
	key, err := nodes.NewKey()
	require.NoError(t, err)
	der, err := a.Sign(&key.PublicKey, time.Now())
	require.NoError(t, err)
	data := t.TempDir()
	setup := nodes.Setup{Address: "10.0.0.2:8424", Others: []string{"10.0.0.1:8424"}}
	require.NoError(t, nodes.Prepare(data, setup, key, der, a.Certificate, nil))
	first, err := nodes.First(data)
	require.NoError(t, err)
	assert.False(t, first)
	o, err := nodes.ReadOptions(data)
	require.NoError(t, err)
	assert.Equal(t, []string{"10.0.0.1:8424"}, o.Others)
}
