package server_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	explained "innergate/core/refused"
)

// TestTheApplicationRefusedIt tells what to compare where the application refused what it was sent, in both protocols, and what its
// message means.
func TestTheApplicationRefusedIt(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	line := func(r *api.RefusedThere, name string) explained.Line {
		i := slices.IndexFunc(r.Compare, func(l explained.Line) bool { return l.Name == name })
		require.GreaterOrEqual(t, i, 0, name)
		return r.Compare[i]
	}
	b := w.Walker()
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	reference := newest(t, w).Reference
	r, err := w.Client().RefusedThere(ctx, reference, "The Audience of this assertion is not me")
	require.NoError(t, err)
	assert.Equal(t, w.Rota.EntityID(), line(r, "Audience").Sent)
	assert.Equal(t, w.Rota.EntityID(), line(r, "Audience").Registered)
	assert.Equal(t, w.Rota.ACS(), line(r, "Recipient").Sent)
	assert.Equal(t, "mvoss", line(r, "NameID").Sent)
	assert.Contains(t, line(r, "Signature").Sent, "the assertion, with RSA-SHA256")
	assert.Len(t, line(r, "Signing certificate").Sent, 95)
	assert.Contains(t, line(r, "Attributes").Sent, "mail")
	assert.True(t, r.Messages[0].Fits)
	assert.Equal(t, []string{"Audience"}, r.Messages[0].Compare)

	viewer := client.New(w.URL, token(t, w, "viewer"))
	masked, err := viewer.RefusedThere(ctx, reference, "")
	require.NoError(t, err)
	assert.NotContains(t, line(masked, "NameID").Sent, "mvoss")
	assert.False(t, masked.Messages[0].Fits)

	b = w.Walker()
	b.Provider = "saltmere-staff"
	require.NoError(t, b.SignIn(ctx, w.LedgerURL+"/sign-in", "mvoss"))
	r, err = w.Client().RefusedThere(ctx, newest(t, w).Reference, "invalid_token: issuer does not match")
	require.NoError(t, err)
	assert.Equal(t, w.URL, line(r, "iss").Sent)
	assert.Equal(t, "cargo-ledger", line(r, "aud").Sent)
	assert.Equal(t, "ES256", line(r, "alg").Sent)
	assert.Equal(t, []string{"iss"}, r.Messages[0].Compare)

	w.Staff.SetMistake("audience")
	b = w.Walker()
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	_, err = w.Client().RefusedThere(ctx, newest(t, w).Reference, "")
	assert.ErrorContains(t, err, "nothing was sent")
}
