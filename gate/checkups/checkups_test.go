package checkups_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/gate/checkups"
	"innergate/testbed"
)

// TestAFindingIsAcceptedUntilItsReasonChanges finds what ends soon, lets somebody accept it, and brings it up again where
// it gets worse.
func TestAFindingIsAcceptedUntilItsReasonChanges(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	l.Turn(350 * 24 * time.Hour) // the provider's certificate ends within a fortnight
	r, err := l.Checkups.Checkup(ctx)
	require.NoError(t, err)
	assert.Positive(t, r.Objects)
	find := func() *api.KeptFinding {
		list, err := l.Checkups.KeptFindings(ctx, checkups.FindingFilter{Kind: "provider"})
		require.NoError(t, err)
		for i := range list.Items {
			if list.Items[i].Station == "trust" || list.Items[i].Code != "" && list.Items[i].Slug == "staff" {
				return &list.Items[i]
			}
		}
		return nil
	}
	f := find()
	require.NotNil(t, f, "a certificate that ends soon is found")
	_, err = l.Checkups.AcceptFinding(ctx, testbed.Owner, f.ID, api.AcceptFinding{})
	assert.Error(t, err, "a reason is wanted")
	accepted, err := l.Checkups.AcceptFinding(ctx, testbed.Owner, f.ID,
		api.AcceptFinding{Reason: "they know", Until: l.Clock.Add(24 * time.Hour)})
	require.NoError(t, err)
	require.NotNil(t, accepted.Accepted)
	reopened, err := l.Checkups.ReopenFinding(ctx, testbed.Owner, f.ID)
	require.NoError(t, err)
	assert.Nil(t, reopened.Accepted)
}

// TestFind leads to objects by name and short name, and those who may not see names to nobody.
func TestFind(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	l.Person(t, "mvoss", "Mira Voss")
	for text, want := range map[string]int{"rota": 1, "Cargo": 1, "Mira": 0} {
		list, err := l.Checkups.Find(ctx, text, false)
		require.NoError(t, err)
		assert.Len(t, list.Items, want, text)
	}
}
