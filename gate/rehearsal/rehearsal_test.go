package rehearsal_test

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/claims"
	"innergate/gate/signin"
	"innergate/testbed"
)

// TestARehearsalBelongsToTheBrowserThatBeganIt gives its link to the first one that begins.
func TestARehearsalBelongsToTheBrowserThatBeganIt(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	ordered, err := l.Rehearsal.NewRehearsal(ctx, testbed.Owner, api.NewRehearsal{Application: "rota", Flow: "idp"})
	require.NoError(t, err)
	token := ordered.Link[strings.LastIndexByte(ordered.Link, '/')+1:]
	next, cookie := l.Rehearsal.BeginRehearsal(ctx, signin.Browser{Address: "192.0.2.1"}, token)
	require.IsType(t, signin.Redirect(""), next.To)
	require.NotEmpty(t, cookie)
	next, _ = l.Rehearsal.BeginRehearsal(ctx, signin.Browser{Address: "192.0.2.2"}, token)
	assert.IsType(t, &signin.FailurePage{}, next.To, "another browser")
	next, again := l.Rehearsal.BeginRehearsal(ctx, signin.Browser{Address: "192.0.2.1", Rehearsal: cookie}, token)
	assert.IsType(t, signin.Redirect(""), next.To, "the same may begin again")
	assert.Equal(t, cookie, again)
	_, err = l.Rehearsal.NewRehearsal(ctx, testbed.Owner, api.NewRehearsal{Application: "rota", Flow: "idp", Hours: 100})
	assert.Equal(t, 400, testbed.Status(err))
}

// TestPreviewIsWhatASignInWouldSend maps a sample there and back, and makes nobody.
func TestPreviewIsWhatASignInWouldSend(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	out, err := l.Rehearsal.Preview(ctx, api.Preview{Application: "rota", Provider: "staff", Input: claims.Bag{
		"uid": {"mvoss"}, "mail": {"mira@saltmere.example"}, "displayName": {"Mira Voss"},
	}})
	require.NoError(t, err)
	assert.Contains(t, out.Sent+out.Subject, "mvoss")
	var n int64
	require.NoError(t, l.Store.Read(ctx).Table("people").Count(&n).Error)
	assert.Zero(t, n)
}
