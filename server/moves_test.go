package server_test

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/core/moves"
	"innergate/demo"
	"innergate/standin"
)

// fleet is a world with ten small applications that are to move from Saltmere Staff to Northquay Stevedores.
func fleet(t *testing.T) (*demo.World, []*standin.Client) {
	t.Helper()
	w := world(t)
	clients, err := w.Fleet(t.Context())
	require.NoError(t, err)
	require.Len(t, clients, 10)
	return w, clients
}

// entersAt signs somebody in to an application in a browser of their own, and tells whether that came out well.
func entersAt(t *testing.T, w *demo.World, c *standin.Client, user string) bool {
	t.Helper()
	b := w.Walker()
	require.NoError(t, b.SignIn(t.Context(), c.Base+"/sign-in", user))
	return strings.HasPrefix(b.Address.String(), c.Base) && b.Inner("subject") != ""
}

func slugs(list []*standin.Client) []string {
	var out []string
	for _, c := range list {
		out = append(out, c.ID)
	}
	return out
}

func providersOf(t *testing.T, w *demo.World, slug string) []string {
	t.Helper()
	a, err := w.Client().Application(context.Background(), slug)
	require.NoError(t, err)
	return a.Providers
}

// TestTenApplicationsMoveInTwoWaves moves them; the second wave goes back by itself because a claim differs.
func TestTenApplicationsMoveInTwoWaves(t *testing.T) {
	t.Parallel()
	w, clients := fleet(t)
	ctx, c := t.Context(), w.Client()
	m, err := c.NewMove(
		ctx,
		api.NewMove{
			Name:         "To the north quay",
			From:         "saltmere-staff",
			To:           "northquay-stevedores",
			Applications: slugs(clients),
			Remark:       "the staff's provider is given up",
			Circle:       &access.Circle{People: []string{"mvoss", "zoberg"}},
		},
	)
	require.NoError(t, err)
	assert.Equal(t, []int{10, 0}, []int{m.Applications, m.Moved})
	_, err = c.NewMove(ctx, api.NewMove{Name: "Another", From: "saltmere-staff", To: "lantern-pass", Applications: slugs(clients[:1])})
	assert.ErrorContains(t, err, `in the move "To the north quay" already`)
	_, err = c.PlanWave(ctx, m.Slug, 1, api.PlanWave{Applications: slugs(clients[:5]), Limits: &moves.Limits{Failures: 1}})
	require.NoError(t, err)
	m, err = c.PlanWave(ctx, m.Slug, 2, api.PlanWave{Applications: slugs(clients[5:]), Limits: &moves.Limits{Failures: 1}})
	require.NoError(t, err)
	require.Len(t, m.Waves, 2)

	// While they still sign in with the old provider, what they get is kept for comparing.
	for _, one := range clients {
		for _, user := range []string{"mvoss", "zoberg"} {
			require.True(t, entersAt(t, w, one, user), one.Name)
		}
	}
	m, err = c.Move(ctx, m.Slug)
	require.NoError(t, err)
	for _, a := range m.Apps {
		assert.EqualValues(t, 2, a.Users, a.Slug)
		assert.Equal(t, 2, a.People.Found, "%s: %+v", a.Slug, a.People)
		assert.NotEqual(t, moves.Blocked, a.Verdict.State, "%v", a.Verdict.Why)
	}

	// Side by side, before anything moves: somebody of the circle, and somebody who is not in it.
	trial, err := c.NewTrial(ctx, m.Slug, api.NewTrial{Application: clients[7].ID, People: 2})
	require.NoError(t, err)
	for _, user := range []string{"zoberg", "cdunn"} {
		b := w.Walker()
		require.NoError(t, b.Get(ctx, trial.Link))
		assert.Contains(t, b.Text, "First with <strong>Saltmere Staff")
		require.NoError(t, b.Submit(ctx, nil))
		require.NoError(t, b.Choose(ctx, user))
		assert.Contains(t, b.Text, "Go on to Northquay Stevedores")
		require.NoError(t, b.Submit(ctx, nil))
		require.NoError(t, b.Choose(ctx, user))
		assert.Contains(t, b.Text, "both sign-ins came through")
	}
	b := w.Walker()
	require.NoError(t, b.Get(ctx, trial.Link))
	assert.Contains(t, b.Text, "This link is over", "it was for two")
	list, err := c.MoveComparisons(ctx, m.Slug, clients[7].ID)
	require.NoError(t, err)
	require.Len(t, list.Items, 2)
	assert.Equal(t, []string{"differs", "outside"}, []string{list.Items[0].Result, list.Items[1].Result})
	require.Len(t, list.Items[0].Differences, 1)
	assert.Equal(
		t,
		moves.Difference{Name: "groups", Was: []string{"staff", "ferry-crew"}, Is: []string{"quay-guest"}},
		list.Items[0].Differences[0],
	)
	assert.Equal(t, []string{"saltmere-staff"}, providersOf(t, w, clients[7].ID), "trying moves nothing")

	// The first wave opens, and all is well.
	m, err = c.OpenWave(ctx, m.Slug, 1, api.OpenWave{})
	require.NoError(t, err)
	assert.Equal(t, "open", m.Waves[0].State)
	for _, one := range clients[:5] {
		assert.Equal(t, []string{"northquay-stevedores"}, providersOf(t, w, one.ID))
		for _, user := range []string{"mvoss", "zoberg"} {
			require.True(t, entersAt(t, w, one, user), one.Name)
		}
	}
	m, err = c.Move(ctx, m.Slug)
	require.NoError(t, err)
	assert.Equal(t, "open", m.Waves[0].State, m.Waves[0].Note)
	assert.Equal(t, moves.Count{SignedIn: 10}, m.Waves[0].Count)
	for _, a := range m.Apps[:5] {
		assert.Equal(t, map[string]int{"same": 2}, a.Compared, a.Slug)
	}

	// The second goes back by itself at the first sign-in: the groups are called otherwise there.
	_, err = c.OpenWave(ctx, m.Slug, 2, api.OpenWave{Minutes: 30})
	require.NoError(t, err)
	assert.Equal(t, []string{"northquay-stevedores"}, providersOf(t, w, clients[9].ID))
	require.True(t, entersAt(t, w, clients[5], "mvoss"), "this sign-in itself comes out well")
	m, err = c.Move(ctx, m.Slug)
	require.NoError(t, err)
	assert.Equal(t, []string{"open", "back"}, []string{m.Waves[0].State, m.Waves[1].State})
	assert.Contains(t, m.Waves[1].Note, "something differs for 1 person")
	for _, one := range clients[5:] {
		assert.Equal(t, []string{"saltmere-staff"}, providersOf(t, w, one.ID))
		require.True(t, entersAt(t, w, one, "zoberg"), "with the old provider again")
	}
	assert.Equal(t, []string{"northquay-stevedores"}, providersOf(t, w, clients[0].ID), "the first wave stays")
	history, err := c.History(ctx, "application", clients[5].ID, client.Page{})
	require.NoError(t, err)
	assert.Contains(t, history.Items[0].Remark, "wave 2 goes back: something differs")
	assert.Contains(t, history.Items[1].Remark, "wave 2: from Saltmere Staff to Northquay Stevedores")

	// What still uses the old provider is known; a wave can be planned anew, and bear more.
	uses, err := c.StillUses(ctx, "saltmere-staff")
	require.NoError(t, err)
	assert.False(t, uses.Closable)
	left := []string{}
	for _, a := range uses.Apps {
		left = append(left, a.Slug)
	}
	assert.Subset(t, left, slugs(clients[5:]))
	assert.NotContains(t, left, clients[0].ID)
	_, err = c.OpenWave(ctx, m.Slug, 2, api.OpenWave{})
	assert.ErrorContains(t, err, "Wave 2 is back already")
	_, err = c.PlanWave(ctx, m.Slug, 2, api.PlanWave{Applications: slugs(clients[5:]), Limits: &moves.Limits{Failures: 1, Differences: 2}})
	require.NoError(t, err)
	_, err = c.OpenWave(ctx, m.Slug, 2, api.OpenWave{})
	require.NoError(t, err)
	for range 3 {
		require.True(t, entersAt(t, w, clients[5], "mvoss"))
	}
	m, err = c.Move(ctx, m.Slug)
	require.NoError(t, err)
	assert.Equal(t, "open", m.Waves[1].State)
	assert.Equal(t, moves.Count{SignedIn: 3, Differed: 1}, m.Waves[1].Count, "somebody counts once")
	assert.Equal(t, 10, m.Moved)
	m, err = c.BackWave(ctx, m.Slug, 1, "the harbour master wants to wait")
	require.NoError(t, err)
	assert.Equal(t, []string{"saltmere-staff"}, providersOf(t, w, clients[0].ID))
	assert.Equal(t, "the harbour master wants to wait", m.Waves[0].Note)
	assert.ErrorContains(t, c.EndMove(ctx, m.Slug), "wave of the move is open")
}

// TestAWaveGoesBackWhenSignInsFail has the new provider refuse.
func TestAWaveGoesBackWhenSignInsFail(t *testing.T) {
	t.Parallel()
	w, clients := fleet(t)
	ctx, c := t.Context(), w.Client()
	m, err := c.NewMove(
		ctx,
		api.NewMove{Name: "Haste", From: "saltmere-staff", To: "northquay-stevedores", Applications: slugs(clients[:2])},
	)
	require.NoError(t, err)
	_, err = c.PlanWave(ctx, m.Slug, 1, api.PlanWave{Limits: &moves.Limits{Failures: 1}})
	require.NoError(t, err)
	_, err = c.OpenWave(ctx, m.Slug, 1, api.OpenWave{})
	require.NoError(t, err)
	w.Northquay.SetMistake("audience")
	assert.False(t, entersAt(t, w, clients[0], "mvoss"))
	assert.Equal(t, []string{"northquay-stevedores"}, providersOf(t, w, clients[0].ID), "one may be borne")
	assert.False(t, entersAt(t, w, clients[1], "zoberg"))
	assert.Equal(t, []string{"saltmere-staff"}, providersOf(t, w, clients[0].ID))
	require.True(t, entersAt(t, w, clients[0], "mvoss"))
	m, err = c.Move(ctx, m.Slug)
	require.NoError(t, err)
	assert.Equal(t, "2 sign-ins failed, against 0 that came out well; 1 at most were to be borne", m.Waves[0].Note)
	list, err := c.MoveComparisons(ctx, m.Slug, "")
	require.NoError(t, err)
	assert.Equal(t, "failed", list.Items[0].Result)
	assert.NotEmpty(t, list.Items[0].Code)

	// A wave whose applications can't work with the new provider does not open.
	closed, err := c.Provider(ctx, "northquay-stevedores")
	require.NoError(t, err)
	closed.Provider.Reach = access.Draft
	_, err = c.PutProvider(ctx, closed.Provider, 0)
	require.NoError(t, err)
	_, err = c.PlanWave(ctx, m.Slug, 1, api.PlanWave{Applications: slugs(clients[:2])})
	require.NoError(t, err)
	_, err = c.OpenWave(ctx, m.Slug, 1, api.OpenWave{})
	assert.ErrorContains(t, err, "Northquay Stevedores does not serve people yet")
	require.NoError(t, c.EndMove(ctx, m.Slug))
	_, err = c.PlanWave(ctx, m.Slug, 1, api.PlanWave{})
	assert.ErrorContains(t, err, "is given up")

	// What nothing uses can be closed.
	uses, err := c.StillUses(ctx, "lantern-pass")
	require.NoError(t, err)
	assert.False(t, uses.Closable)
	a, err := c.Application(ctx, "cargo-ledger")
	require.NoError(t, err)
	a.Application.Providers = []string{"saltmere-staff"}
	_, err = c.PutApplication(ctx, a.Application, 0)
	require.NoError(t, err)
	uses, err = c.StillUses(ctx, "lantern-pass")
	require.NoError(t, err)
	assert.True(t, uses.Closable, "%v", uses.Words)
}

// TestAWaveNeedsASecondPerson where the operator wants that.
func TestAWaveNeedsASecondPerson(t *testing.T) {
	t.Parallel()
	w, clients := fleet(t)
	ctx, c := t.Context(), w.Client()
	m, err := c.NewMove(
		ctx,
		api.NewMove{Name: "By two", From: "saltmere-staff", To: "northquay-stevedores", Applications: slugs(clients[:1])},
	)
	require.NoError(t, err)
	_, err = c.SetReview(ctx, config.Review{Second: true})
	require.NoError(t, err)
	_, err = c.OpenWave(ctx, m.Slug, 1, api.OpenWave{})
	assert.ErrorContains(t, err, "Nobody has approved wave 1 yet")
	_, err = c.ApproveWave(ctx, m.Slug, 1)
	assert.ErrorContains(t, err, "You planned this wave yourself")
	other := w.Client()
	other.Token = token(t, w, "engineer")
	_, err = other.ApproveWave(ctx, m.Slug, 1)
	require.NoError(t, err)
	m, err = c.OpenWave(ctx, m.Slug, 1, api.OpenWave{})
	require.NoError(t, err)
	assert.Equal(t, 1, m.Moved)
}
