package configuration_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/testbed"
)

// TestReachForAWhile opens an application for some time; then what was before comes back by itself.
func TestReachForAWhile(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	reach := func() string {
		a, err := l.Checkups.Application(ctx, "rota")
		require.NoError(t, err)
		return string(a.Reach)
	}
	_, err := l.Configuration.ChangeReach(ctx, testbed.Owner, "application", "rota", api.ReachChange{Reach: access.Closed, Minutes: 30})
	require.NoError(t, err)
	assert.Equal(t, "closed", reach())
	l.Turn(29 * time.Minute)
	require.NoError(t, l.Configuration.RevertDue(ctx))
	assert.Equal(t, "closed", reach())
	l.Turn(2 * time.Minute)
	require.NoError(t, l.Configuration.RevertDue(ctx))
	assert.Equal(t, "everyone", reach())
	_, err = l.Configuration.ChangeReach(ctx, testbed.Owner, "application", "rota", api.ReachChange{Reach: access.Draft})
	require.NoError(t, err)
	require.NoError(t, l.Configuration.UndoReach(ctx, testbed.Owner, "application", "rota"))
	assert.Equal(t, "everyone", reach(), "taken back by hand")
	steps, err := l.Configuration.ReachHistory(ctx, "application", "rota")
	require.NoError(t, err)
	assert.Len(t, steps.Items, 2, "the two changes by hand, each with what became of it")
}

// TestExplainAccess answers for somebody by the same decision as a sign-in makes, for a draft too.
func TestExplainAccess(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	p := l.Person(t, "mvoss", "Mira Voss")
	l.Link(t, p, "mvoss")
	answer, err := l.Configuration.ExplainAccess(ctx, "rota", api.AccessQuestion{Person: p.ID})
	require.NoError(t, err)
	assert.Equal(t, access.Allow, answer.Decision.Result, "%+v", answer)
	draft := access.Policy{To: access.Assigned}
	answer, err = l.Configuration.ExplainAccess(ctx, "rota", api.AccessQuestion{Person: p.ID, Access: &draft})
	require.NoError(t, err)
	assert.Equal(t, access.Refuse, answer.Decision.Result, "a draft is asked about, and not set")
	require.NoError(t, l.Persons.Assign(ctx, testbed.Owner, "rota", api.Assignment{Kind: "person", Who: p.ID}))
	answer, err = l.Configuration.ExplainAccess(ctx, "rota", api.AccessQuestion{Person: p.ID, Access: &draft})
	require.NoError(t, err)
	assert.Equal(t, access.Allow, answer.Decision.Result)
}

// TestWhatIsUsedStays refuses to delete what others stand on, and routes to what is not there.
func TestWhatIsUsedStays(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	assert.Equal(t, 409, testbed.Status(l.Configuration.DeleteProvider(ctx, testbed.Owner, "staff")))
	_, err := l.Configuration.SetRoutes(ctx, testbed.Owner, access.Routes{Rules: []access.Route{{To: []string{"nobody"}}}})
	assert.ErrorContains(t, err, "nobody")
	_, err = l.Configuration.SaveApplication(ctx, testbed.Owner, "rota",
		config.Application{Slug: "other", Name: "x", Kind: config.KindLink}, 0)
	assert.Error(t, err, "a short name stands in addresses that others hold")
	for _, slug := range []string{"rota", "ledger", "notes"} {
		require.NoError(t, l.Configuration.DeleteApplication(ctx, testbed.Owner, slug))
	}
	require.NoError(t, l.Configuration.DeleteProvider(ctx, testbed.Owner, "staff"), "now nobody uses it")
	var n int64
	for _, table := range []string{"trusted_certificates", "partner_watches", "secrets"} {
		require.NoError(t, l.Store.Read(ctx).Table(table).Count(&n).Error)
		assert.Zero(t, n, table)
	}
}
