package server_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/demo"
)

// TestListsAreNarrowedAndSorted asks for applications and providers by what they speak, and for traces by how they were
// begun, page by page.
func TestListsAreNarrowedAndSorted(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx, c := t.Context(), w.Client()
	guarded, err := c.Applications(ctx, client.Page{Filters: map[string]string{"kind": "guarded"}})
	require.NoError(t, err)
	require.Len(t, guarded.Items, 1)
	assert.Equal(t, "berth-board", guarded.Items[0].Slug)
	directories, err := c.Providers(ctx, client.Page{Filters: map[string]string{"kind": "directory", "reach": "everyone"}})
	require.NoError(t, err)
	require.Len(t, directories.Items, 1)
	assert.Equal(t, "harbour-register", directories.Items[0].Slug)

	// One row a page, by kind downwards: every page goes on where the one before ended.
	var kinds []string
	page := client.Page{Sort: "-kind", Limit: 1}
	for {
		list, err := c.Applications(ctx, page)
		require.NoError(t, err)
		for _, a := range list.Items {
			kinds = append(kinds, string(a.Kind))
		}
		if page.After = list.Next; page.After == "" {
			break
		}
	}
	assert.IsNonIncreasing(t, kinds)
	all, err := c.Applications(ctx, client.Page{})
	require.NoError(t, err)
	assert.Len(t, kinds, len(all.Items))

	require.NoError(t, demo.NewWalker(nil).SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	require.NoError(t, demo.NewWalker(nil).SignIn(ctx, w.URL+"/start/crew-rota", "mvoss"))
	for _, flow := range []string{"sp", "idp"} {
		list, err := c.Traces(ctx, client.Page{Filters: map[string]string{"flow": flow}})
		require.NoError(t, err)
		require.NotEmpty(t, list.Items, flow)
		for _, s := range list.Items {
			assert.Equal(t, flow, s.Flow)
		}
	}
	_, err = c.Applications(ctx, client.Page{Sort: "body"})
	var problem *api.Problem
	require.ErrorAs(t, err, &problem)
	assert.Equal(t, "bad-page", problem.Code)
}
