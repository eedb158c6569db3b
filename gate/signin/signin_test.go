package signin_test

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/explain"
	"innergate/gate/signin"
	"innergate/gate/traces"
	"innergate/store"
	"innergate/testbed"
)

// at is where a browser goes, or what it is shown.
func failure(t *testing.T, n *signin.Next) *signin.FailurePage {
	t.Helper()
	page, ok := n.To.(*signin.FailurePage)
	require.True(t, ok, "%T", n.To)
	return page
}

// TestWalkStopsWhereAPhaseAnswers follows phases in their order, until one has something for the browser.
func TestWalkStopsWhereAPhaseAnswers(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	var walked []string
	phase := func(name string, next *signin.Next, err error) signin.Phase {
		return func(context.Context, *signin.SignIn) (*signin.Next, error) {
			walked = append(walked, name)
			return next, err
		}
	}
	next := l.SignIn.Walk(ctx, l.SignIn.Begin(signin.Browser{}, "sp"), signin.Failing(nil), phase("one", nil, nil),
		phase("two", &signin.Next{To: signin.Done("there")}, nil), phase("three", nil, nil))
	assert.Equal(t, signin.Done("there"), next.To)
	assert.Equal(t, []string{"one", "two"}, walked)
}

// TestAFailureIsRecordedOnce ends a sign-in with its explanation, its trace and its count, wherever it fails.
func TestAFailureIsRecordedOnce(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	for _, c := range []struct {
		err    error
		code   explain.Code
		status int
	}{
		{explain.New(explain.RouteNone), explain.RouteNone, 400},
		{explain.New(explain.GateBusy), explain.GateBusy, 429},
		{errors.New("a disk is full"), explain.GateFailed, 500},
	} {
		before := l.Metrics.Refused.Load()
		page := failure(t, l.SignIn.Walk(ctx, l.SignIn.Begin(signin.Browser{Address: "192.0.2.1"}, "sp"), signin.Failing(c.err)))
		assert.Equal(t, c.code, page.Explanation.Code)
		assert.Equal(t, c.status, page.Status)
		assert.Equal(t, before+1, l.Metrics.Refused.Load())
		list, err := l.Traces.Traces(ctx, store.Page{Limit: 5, Search: page.Reference}, traces.Filter{})
		require.NoError(t, err)
		require.Len(t, list.Items, 1)
		assert.Equal(t, string(c.code), list.Items[0].Code)
		assert.NotContains(t, page.Explanation.Person, "disk", "nobody is told what broke inside")
	}
}

// TestASignInGoesOnInItsBrowserAlone keeps it bound to the browser that began it, for a quarter of an hour.
func TestASignInGoesOnInItsBrowserAlone(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	begun := l.SignIn.Start(ctx, signin.Browser{Address: "192.0.2.1"}, "rota", "")
	to, ok := begun.To.(signin.Redirect)
	require.True(t, ok, "%T", begun.To)
	assert.Contains(t, string(to), "https://id.example/sso?SAMLRequest=")
	mine := signin.Browser{SignIns: map[string]string{begun.SetSignIn: begun.Secret}}
	s, err := l.SignIn.Resume(ctx, mine, begun.SetSignIn)
	require.NoError(t, err)
	assert.Equal(t, "rota", s.App.Slug)
	assert.Equal(t, "staff", s.Provider.Slug)
	for name, b := range map[string]signin.Browser{
		"without a cookie": {}, "with a wrong one": {SignIns: map[string]string{begun.SetSignIn: "guess"}},
	} {
		stranger, err := l.SignIn.Resume(ctx, b, begun.SetSignIn)
		assert.ErrorContains(t, err, "browser.lost", name)
		require.NotNil(t, stranger)
		assert.NotEqual(t, s.ID, stranger.ID, "a stranger must not end it")
	}
	l.Turn(signin.Life + time.Second)
	_, err = l.SignIn.Resume(ctx, mine, begun.SetSignIn)
	assert.ErrorContains(t, err, "browser.expired")
}

// TestExplainRoute asks where somebody would go by the same decisions as a sign-in makes.
func TestExplainRoute(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	answer, err := l.SignIn.ExplainRoute(ctx, api.RouteQuestion{Application: "rota"})
	require.NoError(t, err)
	assert.Equal(t, "staff", answer.Goes)
	assert.Contains(t, answer.By, "only provider")
	_, err = l.Configuration.ChangeReach(ctx, testbed.Owner, "provider", "staff", api.ReachChange{Reach: access.Closed})
	require.NoError(t, err)
	answer, err = l.SignIn.ExplainRoute(ctx, api.RouteQuestion{Application: "rota"})
	require.NoError(t, err)
	require.NotNil(t, answer.Refused)
	assert.Equal(t, explain.ReachProviderClosed, answer.Refused.Code)
}
