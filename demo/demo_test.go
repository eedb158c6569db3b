package demo_test

import (
	"context"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/core/files"
	"innergate/demo"
	"innergate/testbed"
)

func start(t testing.TB, o demo.Options) *demo.World {
	t.Helper()
	o.Folder = t.TempDir()
	w := testbed.World(t, o)
	return w
}

func TestSignInBegunAtTheApplication(t *testing.T) {
	t.Parallel()
	w, ctx := start(t, demo.Options{}), context.Background()
	b := demo.NewWalker(nil)
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in?to=week-47", "zoberg"))
	require.Equal(t, http.StatusOK, b.Status, b.Text)
	assert.Equal(t, "zoberg", b.Inner("nameid"))
	assert.Equal(t, "the application", b.Inner("begun"))
	assert.Contains(t, b.Text, "Zoë Öberg")
	assert.Contains(t, b.Text, "week-47")
	assert.NotContains(t, b.Text, "ferry-crew")

	traces, err := w.Client().Traces(ctx, client.Page{})
	require.NoError(t, err)
	require.Len(t, traces.Items, 1)
	assert.Equal(t, "signed-in", traces.Items[0].Outcome)
	x, err := w.Client().Trace(ctx, traces.Items[0].Reference)
	require.NoError(t, err)
	messages, checks := 0, 0
	steps := map[string]bool{}
	for _, e := range x.Entries {
		steps[string(e.Step)] = true
		if e.Message != nil {
			messages++
			assert.NotEmpty(t, e.Decoded)
		}
		if e.Check != nil {
			checks++
			assert.True(t, e.Check.OK, e.Check.Name)
		}
	}
	assert.Equal(t, 4, messages)
	assert.Greater(t, checks, 20)
	assert.Len(t, steps, 7)
}

func TestSignInBegunAtTheGateAndAtTheProvider(t *testing.T) {
	t.Parallel()
	w, ctx := start(t, demo.Options{}), context.Background()
	b := demo.NewWalker(nil)
	require.NoError(t, b.SignIn(ctx, w.URL+"/start/crew-rota", "mvoss"))
	assert.Equal(t, "mvoss", b.Inner("nameid"), b.Text)
	assert.Equal(t, "the identity provider", b.Inner("begun"))

	b = demo.NewWalker(nil)
	require.NoError(t, b.Get(ctx, w.StaffURL))
	require.NoError(
		t,
		b.Post(ctx, w.StaffURL+"/start", map[string][]string{"person": {"jhale"}, "application": {w.URL + "/start/crew-rota"}}),
	)
	require.NoError(t, b.Onward(ctx))
	assert.Equal(t, "jhale", b.Inner("nameid"), b.Text)
}

func TestRehearsal(t *testing.T) {
	t.Parallel()
	w, ctx := start(t, demo.Options{}), context.Background()
	for _, flow := range []string{"sp", "idp"} {
		r, err := w.Client().NewRehearsal(ctx, api.NewRehearsal{Application: "crew-rota", Flow: flow})
		require.NoError(t, err)
		b := demo.NewWalker(nil)
		require.NoError(t, b.Rehearse(ctx, r.Link, "mvoss"))
		assert.Equal(t, "mvoss", b.Inner("nameid"), b.Text)
		r, err = w.Client().Rehearsal(ctx, r.ID)
		require.NoError(t, err)
		require.Len(t, r.Traces, 1)
		assert.True(t, r.Traces[0].Rehearsal)
		assert.Equal(t, "signed-in", r.Traces[0].Outcome)
	}
}

func TestConfigurationIsLoadedTwice(t *testing.T) {
	t.Parallel()
	w, ctx := start(t, demo.Options{}), context.Background()
	text, err := w.Client().ExportConfig(ctx)
	require.NoError(t, err)
	r, err := w.Client().LoadConfig(ctx, text, false)
	require.NoError(t, err)
	assert.Equal(t, 18, r.Unchanged)
	assert.Empty(t, r.Steps)
	again, err := w.Client().ExportConfig(ctx)
	require.NoError(t, err)
	assert.Equal(t, text, again)

	changed := strings.Replace(text, "name: Crew Rota", "name: Crew Rota North", 1)
	r, err = w.Client().LoadConfig(ctx, changed, true)
	require.NoError(t, err)
	assert.Equal(t, []string{"application crew-rota"}, r.Named(files.Update))
	a, err := w.Client().Application(ctx, "crew-rota")
	require.NoError(t, err)
	assert.Equal(t, "Crew Rota", a.Name, "a preview changes nothing")
	_, err = w.Client().LoadConfig(ctx, changed, false)
	require.NoError(t, err)
	a, err = w.Client().Application(ctx, "crew-rota")
	require.NoError(t, err)
	assert.Equal(t, "Crew Rota North", a.Name)
	assert.Equal(t, 2, a.Revision)
}

func TestBadConfigurationChangesNothing(t *testing.T) {
	t.Parallel()
	w, ctx := start(t, demo.Options{}), context.Background()
	text, err := w.Client().ExportConfig(ctx)
	require.NoError(t, err)
	for change, reason := range map[[2]string]string{
		{"startUrl:", "startUlr:"}:                   `"startUlr" is not known here; "startUrl" is`,
		{"reach: everyone", "reach: all"}:            "no reach",
		{"slug: crew-rota", "slug: Crew Rota"}:       "small letters",
		{"- saltmere-staff\n", "- saltmere-stuff\n"}: `neither here nor in the files; did you mean "saltmere-staff"?`,
		{"applications:", "aplications:"}:            `"aplications" is not known here; "applications" is`,
		{"required: true", "required: perhaps"}:      "true or false",
		{"providers:\n", "providers: [\n"}:           "not YAML",
	} {
		bad := strings.Replace(text, change[0], change[1], 1)
		require.NotEqual(t, text, bad, change[0])
		_, err := w.Client().LoadConfig(ctx, bad, false)
		assert.ErrorContains(t, err, reason)
		now, err := w.Client().ExportConfig(ctx)
		require.NoError(t, err)
		assert.Equal(t, text, now)
	}
}
