package server_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestASignInIsTwoTransactions counts what whole sign-ins write to the gate's records. Others write meanwhile what is due, so the
// least of some tries counts.
func TestASignInIsTwoTransactions(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	least := func(try func()) int64 {
		n := int64(math.MaxInt64)
		for range 5 {
			before := w.Gate.Store.Commits()
			try()
			n = min(n, w.Gate.Store.Commits()-before)
		}
		return n
	}
	full := least(func() {
		b := w.Walker()
		require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
		require.Contains(t, b.Text, "mvoss")
	})
	assert.EqualValues(t, 2, full, "a whole sign-in by SAML on both sides")
	b := w.Walker()
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	returning := least(func() {
		require.NoError(t, b.Get(ctx, w.RotaURL+"/sign-in"))
		require.NoError(t, b.Onward(ctx))
		require.Contains(t, b.Text, "mvoss")
	})
	assert.EqualValues(t, 1, returning, "one who comes back within the session")
	tokens := least(func() {
		b := w.Walker()
		b.Provider = "saltmere-staff"
		require.NoError(t, b.SignIn(ctx, w.LedgerURL+"/sign-in", "mvoss"))
		require.Contains(t, b.Text, "mira.voss")
	})
	assert.EqualValues(t, 4, tokens, "one who chooses a provider on the way; and the code with which the application fetches its tokens")
	back := least(func() {
		require.NoError(t, b.Get(ctx, w.LedgerURL+"/sign-in"))
		require.NoError(t, b.Onward(ctx))
		require.Contains(t, b.Text, "mira.voss")
	})
	assert.EqualValues(t, 2, back, "one who comes back, and the code")
}
