package moves_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/testbed"
)

// TestAMoveKnowsWhatStillUsesTheOldProvider plans a move, looks at who is left, and ends it.
func TestAMoveKnowsWhatStillUsesTheOldProvider(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	_, err := l.Configuration.SaveProvider(ctx, testbed.Owner, "", config.Provider{
		Slug: "new", Name: "New Staff", Kind: config.KindOIDC, Reach: access.Everyone, Admission: "refuse", Mapping: claims.Standard(),
		OIDC: &config.OIDCProvider{
			Issuer: "https://new.example", ClientID: "gate", AuthorizationEndpoint: "https://new.example/a",
			TokenEndpoint: "https://new.example/t", KeysURL: "https://new.example/k",
		},
	}, 0)
	require.NoError(t, err)
	uses, err := l.Moves.StillUses(ctx, "staff")
	require.NoError(t, err)
	assert.Len(t, uses.Apps, 3)
	_, err = l.Moves.NewMove(ctx, testbed.Owner, api.NewMove{Name: "To the new one", From: "staff", To: "staff"})
	assert.Error(t, err, "a move goes somewhere else")
	m, err := l.Moves.NewMove(ctx, testbed.Owner,
		api.NewMove{Name: "To the new one", From: "staff", To: "new", Applications: []string{"rota"}})
	require.NoError(t, err)
	require.Len(t, m.Waves, 1)
	_, err = l.Moves.NewMove(ctx, testbed.Owner, api.NewMove{Name: "Again", From: "staff", To: "new", Applications: []string{"rota"}})
	assert.Equal(t, 409, testbed.Status(err), "an application is in one move at a time")
	require.NoError(t, l.Moves.EndMove(ctx, testbed.Owner, m.Slug))
	list, err := l.Moves.Moves(ctx)
	require.NoError(t, err)
	assert.NotEqual(t, "open", list.Items[0].State)
}
