package grants_test

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/testbed"
)

// TestTheTokenEndpointGivesNothingForNothing answers each wrong request with the standard's error (RFC 6749, section 5.2).
func TestTheTokenEndpointGivesNothingForNothing(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	app, err := l.Partners.Application(ctx, "ledger")
	require.NoError(t, err)
	client := url.Values{"client_id": {app.OIDC.ClientID}, "client_secret": {"a guess"}}
	for _, c := range []struct {
		form   url.Values
		status int
		code   string
	}{
		{url.Values{}, http.StatusUnauthorized, "invalid_client"},
		{url.Values{"client_id": {"nobody"}, "grant_type": {"authorization_code"}}, http.StatusUnauthorized, "invalid_client"},
		{url.Values{"client_id": client["client_id"], "client_secret": client["client_secret"], "grant_type": {"authorization_code"},
			"code": {"x"}}, http.StatusUnauthorized, "invalid_client"},
	} {
		answer := l.Grants.Token(ctx, "", c.form.Encode(), "192.0.2.1")
		assert.Equal(t, c.status, answer.Status, c.form)
		said := fmt.Sprint(answer.Body)
		assert.Contains(t, said, c.code, c.form)
		assert.NotContains(t, said, "access_token")
	}
	twice := l.Grants.Token(ctx, "", "client_id=a&client_id=b", "192.0.2.1")
	assert.GreaterOrEqual(t, twice.Status, 400, "a parameter must not come twice (RFC 6749, section 3.2)")
}
