package keyring_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/keys"
	"innergate/gate/keyring"
	"innergate/testbed"
)

// TestAKeyIsReplacedInStepsThatCanBeTakenBack walks forward, back, and forward to the end.
func TestAKeyIsReplacedInStepsThatCanBeTakenBack(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	active := func() string {
		ring, err := l.Keyring.Ring(ctx, keys.PurposeSigning, "")
		require.NoError(t, err)
		return ring.IDs[0]
	}
	first := active()
	made, err := l.Keyring.MakeKey(ctx, testbed.Owner, api.NewKey{Purpose: keys.PurposeSigning})
	require.NoError(t, err)
	assert.Equal(t, keyring.KeyNext, made.State)
	_, err = l.Keyring.MakeKey(ctx, testbed.Owner, api.NewKey{Purpose: keys.PurposeSigning})
	assert.Equal(t, 409, testbed.Status(err), "two next keys at once would leave nobody knowing which one comes")
	_, err = l.Keyring.PublishKey(ctx, testbed.Owner, made.ID)
	require.NoError(t, err)
	assert.Equal(t, first, active(), "publishing signs nothing")

	_, err = l.Keyring.SwitchKey(ctx, testbed.Owner, made.ID, api.SwitchKey{Anyway: true})
	require.NoError(t, err)
	assert.Equal(t, made.ID, active())
	_, err = l.Keyring.UndoKey(ctx, testbed.Owner, made.ID)
	require.NoError(t, err)
	assert.Equal(t, first, active(), "taken back")

	at := l.Clock.Add(time.Hour)
	_, err = l.Keyring.SwitchKey(ctx, testbed.Owner, made.ID, api.SwitchKey{At: &at, Anyway: true})
	require.NoError(t, err)
	require.NoError(t, l.Keyring.SwitchDue(ctx))
	assert.Equal(t, first, active(), "not yet")
	l.Turn(2 * time.Hour)
	require.NoError(t, l.Keyring.SwitchDue(ctx))
	assert.Equal(t, made.ID, active(), "as planned")
	_, err = l.Keyring.RetireKey(ctx, testbed.Owner, first)
	require.NoError(t, err)
	_, err = l.Keyring.UndoKey(ctx, testbed.Owner, made.ID)
	assert.Error(t, err, "what is retired does not come back")
}

// TestKeysOfEachPurposeAreThereFromTheStart has one active key for each, of a kind that fits it.
func TestKeysOfEachPurposeAreThereFromTheStart(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	list, err := l.Keyring.Keys(ctx)
	require.NoError(t, err)
	purposes := map[string]bool{}
	for _, k := range list.Items {
		assert.Equal(t, keyring.KeyActive, k.State)
		assert.Contains(t, keys.KindsFor[k.Purpose], keys.Kind(k.Kind))
		purposes[k.Purpose] = true
	}
	assert.Len(t, purposes, len(keys.KindsFor))
	for kind, purpose := range map[string]string{"ed25519": keys.PurposeSigning, "rsa-512": keys.PurposeSigning, "p-256": "baking"} {
		assert.Error(t, keyring.CheckPurpose(purpose, kind), "%s for %s", kind, purpose)
	}
}
