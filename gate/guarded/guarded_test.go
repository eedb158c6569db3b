package guarded_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/gate/signin"
	"innergate/testbed"
)

func berths(t *testing.T) *testbed.Lab {
	t.Helper()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	_, err := l.Configuration.SaveApplication(ctx, testbed.Owner, "", config.Application{
		Slug: "berths", Name: "Berth Board", Kind: config.KindGuarded, Reach: access.Everyone, Providers: []string{"staff"},
		Access: access.Policy{To: access.Everybody}, Subject: config.Subject{Source: "profile", From: "preferred_username"},
		Guarded: &config.GuardedApplication{
			PublicURL: "https://berths.example", Upstreams: []string{"http://10.0.0.7:8080"}, Pass: "none",
			Paths: []config.PathRule{{Path: "/health", Then: config.PathOpen}, {Path: "/master", Then: config.PathRefuse}},
		},
	}, 0)
	require.NoError(t, err)
	return l
}

// TestAVisitBeginsAtTheApplicationsOwnPlace sends nobody on to another host.
func TestAVisitBeginsAtTheApplicationsOwnPlace(t *testing.T) {
	t.Parallel()
	l, ctx := berths(t), context.Background()
	bind := make([]byte, 32)
	enter := func(slug, to string, bind []byte) signin.Goal {
		return l.Guarded.EnterGuarded(ctx, signin.Browser{Address: "192.0.2.1"}, slug, to, bind).To
	}
	assert.IsType(t, signin.Redirect(""), enter("berths", "https://berths.example/boats", bind))
	for name, goal := range map[string]signin.Goal{
		"another host":       enter("berths", "https://evil.example/", bind),
		"a name before it":   enter("berths", "https://berths.example@evil.example/", bind),
		"without a binding":  enter("berths", "https://berths.example/", nil),
		"no application":     enter("nobody", "https://berths.example/", bind),
		"one not guarded":    enter("rota", "https://rota.example/", bind),
		"with a line's end":  enter("berths", "https://berths.example/\r\nX: y", bind),
		"another port of it": enter("berths", "https://berths.example:444/", bind),
	} {
		page, ok := goal.(*signin.FailurePage)
		require.True(t, ok, name)
		assert.Contains(t, []explain.Code{explain.RelayRefused, explain.SAMLApplicationUnknown}, page.Explanation.Code, name)
	}
}

// TestTryPath tells which rule decides, as the guard does.
func TestTryPath(t *testing.T) {
	t.Parallel()
	l, ctx := berths(t), context.Background()
	words := map[string]string{}
	for _, path := range []string{"/health", "/master/plan", "/boats", "/a/../master"} {
		tried, err := l.Guarded.TryPath(ctx, "berths", api.TryPath{Path: path})
		require.NoError(t, err)
		words[path] = tried.Words
	}
	assert.Contains(t, words["/health"], "Everybody")
	assert.Contains(t, words["/master/plan"], "Nobody")
	assert.NotEqual(t, words["/boats"], words["/a/../master"], "what could be read in two ways is refused")
	_, err := l.Guarded.TryPath(ctx, "rota", api.TryPath{Path: "/"})
	assert.Equal(t, 409, testbed.Status(err))
}
