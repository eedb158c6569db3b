package server_test

import (
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/client"
	"innergate/core/config"
	"innergate/core/saml"
	"innergate/standin"
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
	require.NoError(t, w.Walker().Get(ctx, w.LedgerURL+"/sign-in"))
	assert.False(t, found("seen.scope-unknown"), "anybody can ask in a client's name")
	b = w.Walker()
	b.Provider = "saltmere-staff"
	require.NoError(t, b.SignIn(ctx, w.LedgerURL+"/sign-in", "mvoss"))
	assert.True(t, found("seen.scope-unknown"))

	w.Rota.Behave(standin.ApplicationHabits{UnsignedLogout: true})
	b = w.Walker()
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	_, doc, err := saml.Logout{Issuer: saml.EntityID(w.Rota.EntityID()), Destination: w.URL + "/saml/idp/slo", Now: time.Now()}.
		Request(saml.NameID{Value: "mvoss"}, nil)
	require.NoError(t, err)
	message := url.Values{"SAMLRequest": {saml.EncodePost(doc)}}
	require.NoError(t, w.Walker().Post(ctx, w.URL+"/saml/idp/slo", message))
	assert.False(t, found("seen.logout-unsigned"), "anybody can write a message in its name")
	opens(t, b, w.RotaURL+"/sign-out")
	assert.True(t, found("seen.logout-unsigned"))
}
