package accounts_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/claims"
	"innergate/testbed"
)

// TestWhatAnAccountWouldBe previews drafts of a mapping with a person, with somebody who has no account, and with typed values.
func TestWhatAnAccountWouldBe(t *testing.T) {
	t.Parallel()
	l, ctx := keeping(t, nil), context.Background()
	mira, ivo := l.person("mira", true), l.person("ivo", false)
	app, err := l.Partners.Application(ctx, "cargo")
	require.NoError(t, err)
	draft, how := app.Application, *app.Accounts
	how.Mapping = append(claims.Mapping{}, how.Mapping...)
	how.Mapping = append(how.Mapping, claims.Rule{Set: "nickName", From: claims.Names{"given_name"}},
		claims.Rule{Set: `emails[type eq "work"].primary`, From: claims.Names{"name"}})
	draft.Accounts = &how

	got, err := l.Rehearsal.Preview(ctx, api.Preview{Application: "cargo", DraftApplication: &draft, Person: mira, Account: true})
	require.NoError(t, err)
	assert.Equal(t, []string{"mira"}, got.Out.Attributes["nickName"])
	require.Len(t, got.Out.Problems, 1, "a name is no truth value")
	assert.Equal(t, `emails[type eq "work"].primary`, got.Out.Problems[0].Rule)
	assert.Contains(t, got.Sent, `"nickName": "mira"`)
	assert.Contains(t, got.Sent, `"externalId": "`+mira+`"`)
	assert.Contains(t, decided(got), "account has one: assigned by name")
	var names []string
	for _, d := range got.Differences {
		names = append(names, d.Name)
	}
	assert.Contains(t, names, "nickName", "against what is live")

	got, err = l.Rehearsal.Preview(ctx, api.Preview{Application: "cargo", Person: ivo, Account: true})
	require.NoError(t, err)
	assert.Contains(t, decided(got), "account has none: not assigned, neither by name nor through a group")
	assert.Contains(t, got.Sent, `"userName": "ivo"`)

	got, err = l.Rehearsal.Preview(ctx, api.Preview{Application: "cargo", Account: true, AsProfile: true,
		Input: claims.Bag{"given_name": {"Ada"}}})
	require.NoError(t, err)
	assert.Contains(t, decided(got), "account has none: it is nobody who is known here")
	require.NotEmpty(t, got.Out.Problems)
	assert.Equal(t, "userName", got.Out.Problems[0].Rule)
	assert.Zero(t, l.there.Asked(), "nothing is asked there")

	v, err := l.Accounts.Accounts(ctx, testbed.Owner, "cargo")
	require.NoError(t, err)
	assert.Contains(t, v.Settable, "nickName")
	draft.Accounts = nil
	_, err = l.Rehearsal.Preview(ctx, api.Preview{DraftApplication: &draft, Person: mira, Account: true})
	assert.Equal(t, 409, testbed.Status(err))
}

// decided are a preview's decisions, a line each.
func decided(got *api.Previewed) []string {
	var out []string
	for _, d := range got.Decisions {
		out = append(out, d.About+" "+d.Result+": "+d.By)
	}
	return out
}
