package server_test

import (
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/client"
	"innergate/core/config"
)

// TestWhatPartnersDoIsTold finds what was seen of partners, with the trace in which it stands, until they are set otherwise.
func TestWhatPartnersDoIsTold(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	found := func(code string) bool {
		_, err := w.Client().Checkup(ctx)
		require.NoError(t, err)
		list, err := w.Client().Findings(ctx, client.Page{Filters: map[string]string{"code": code}})
		require.NoError(t, err)
		return len(list.Items) > 0
	}
	assert.False(t, found("seen.value-dropped"))
	changeProvider(t, w, func(p *config.Provider) { p.Matching.Groups = []string{"office-*"} })
	b := w.Walker()
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	assert.True(t, found("seen.value-dropped"))
	changeProvider(t, w, func(p *config.Provider) { p.Matching.Groups = []string{"*"} })
	assert.False(t, found("seen.value-dropped"), "it was set otherwise")

	w.Ledger.Scopes = []string{"openid", "printers"}
	w.Ledger.Ask = url.Values{}
	b = w.Walker()
	b.Provider = "saltmere-staff"
	require.NoError(t, b.SignIn(ctx, w.LedgerURL+"/sign-in", "mvoss"))
	assert.True(t, found("seen.scope-unknown"))
}
