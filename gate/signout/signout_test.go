package signout_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/explain"
	"innergate/core/saml"
	"innergate/gate/signin"
	"innergate/testbed"
)

// TestNobodyIsSignedOutUnasked asks whoever comes without a hint of ours, and forgets what a browser without a session held.
func TestNobodyIsSignedOutUnasked(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	b := signin.Browser{Address: "192.0.2.1", SignIns: map[string]string{"one": "secret"}}
	for _, raw := range []string{"", "client_id=" + clientOf(t, l)} {
		page, ok := l.SignOut.EndSession(ctx, b, raw, false).To.(*signin.SignOut)
		require.True(t, ok, raw)
		assert.True(t, page.Ask, raw)
	}
	next := l.SignOut.SignOutHere(ctx, b, false)
	page, ok := next.To.(*signin.SignOut)
	require.True(t, ok)
	assert.False(t, page.Ask, "there is nothing to agree to")
	assert.Equal(t, []string{"one"}, next.DropSignIns)
}

// TestWhatIsNotSignedEndsNothing refuses a logout request that anybody could have written.
func TestWhatIsNotSignedEndsNothing(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Furnish(t)
	doc := `<samlp:LogoutRequest xmlns:samlp="urn:oasis:names:tc:SAML:2.0:protocol" xmlns:saml="urn:oasis:names:tc:SAML:2.0:assertion" ` +
		`ID="_1" Version="2.0" IssueInstant="2026-11-23T09:00:00Z"><saml:Issuer>https://rota.example/saml</saml:Issuer>` +
		`<saml:NameID>mvoss</saml:NameID></samlp:LogoutRequest>`
	location := l.PublicURL + "/saml/idp/slo"
	received := &saml.Received{Binding: saml.BindingPost, Param: saml.ParamRequest, XML: []byte(doc), Location: location}
	page, ok := l.SignOut.LogoutSAML(ctx, signin.Browser{Address: "192.0.2.1"}, received).To.(*signin.FailurePage)
	require.True(t, ok)
	assert.Equal(t, explain.SAMLLogoutUnsigned, page.Explanation.Code)
	assert.True(t, page.SigningOut)
	_, err := l.SignOut.LogoutSOAP(ctx, "192.0.2.1", []byte(doc), location)
	assert.Error(t, err)
	_, err = l.SignOut.LogoutSOAP(ctx, "192.0.2.1", []byte("<rubbish/>"), location)
	assert.Error(t, err)
}

func clientOf(t *testing.T, l *testbed.Lab) string {
	t.Helper()
	a, err := l.Partners.Application(context.Background(), "ledger")
	require.NoError(t, err)
	return a.OIDC.ClientID
}
