package server_test

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/testbed"
)

// TestASignInIsTwoTransactions counts what whole sign-ins write to the gate's records. Others write meanwhile what is due, all of
// it in one go now and then, so it is tried until nobody did; never less than what a sign-in needs.
func TestASignInIsTwoTransactions(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	writes := func(want int64, what string, try func()) {
		n := int64(math.MaxInt64)
		for end := time.Now().Add(testbed.Patience); n > want && time.Now().Before(end); {
			before := w.Gate.Store.Commits()
			try()
			n = min(n, w.Gate.Store.Commits()-before)
		}
		assert.Equal(t, want, n, what)
	}
	writes(2, "a whole sign-in by SAML on both sides", func() {
		b := w.Walker()
		require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
		require.Contains(t, b.Text, "mvoss")
	})
	b := w.Walker()
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	writes(1, "one who comes back within the session", func() {
		require.NoError(t, b.Get(ctx, w.RotaURL+"/sign-in"))
		require.NoError(t, b.Onward(ctx))
		require.Contains(t, b.Text, "mvoss")
	})
	writes(4, "one who chooses a provider on the way; and the code with which the application fetches its tokens", func() {
		b := w.Walker()
		b.Provider = "saltmere-staff"
		require.NoError(t, b.SignIn(ctx, w.LedgerURL+"/sign-in", "mvoss"))
		require.Contains(t, b.Text, "mira.voss")
	})
	writes(2, "one who comes back, and the code", func() {
		require.NoError(t, b.Get(ctx, w.LedgerURL+"/sign-in"))
		require.NoError(t, b.Onward(ctx))
		require.Contains(t, b.Text, "mira.voss")
	})
}
