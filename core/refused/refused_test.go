package refused_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"innergate/core/config"
	"innergate/core/refused"
	"innergate/core/trace"
)

// TestMessages sorts what applications say to what it means: the first that fits is the one to look at.
func TestMessages(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		openid  bool
		said    string
		compare string
	}{
		{false, "Signature validation failed. SAML Response rejected", "Signing certificate"},
		{false, "https://rota.example is not a valid audience for this Response", "Audience"},
		{false, "The response was received at https://a instead of https://b (Destination)", "Recipient"},
		{false, "Invalid issuer in the Assertion/Response", "Issuer"},
		{false, "The InResponseTo of the Response does not match the ID of the AuthnRequest", "InResponseTo"},
		{false, "Timing issues (please check your clock settings)", "Time"},
		{false, "User mvoss does not exist", "NameID"},
		{true, "id_token issuer did not match", "iss"},
		{true, "nonce mismatch", "nonce"},
		{true, "no matching kid in jwks", "alg"},
		{true, "the id_token is expired", "exp"},
	} {
		first := refused.Messages(c.openid, c.said)[0]
		assert.True(t, first.Fits, c.said)
		assert.Equal(t, c.compare, first.Compare[0], c.said)
	}
	for _, m := range refused.Messages(false, "") {
		assert.False(t, m.Fits)
	}
}

// TestNothingToCompare has no answer, one that is none, and an ID token that is cut off.
func TestNothingToCompare(t *testing.T) {
	t.Parallel()
	saml := config.Application{SAML: &config.SAMLApplication{}}
	openid := config.Application{OIDC: &config.OIDCApplication{}}
	sent := func(m trace.Message) []trace.Entry {
		m.From, m.To = trace.Gate, trace.Application
		return []trace.Entry{{Message: &m}}
	}
	assert.Empty(t, refused.Compare(nil, &saml))
	assert.Empty(t, refused.Compare(sent(trace.Message{Name: "Response", Raw: "<x"}), &saml))
	assert.Empty(t, refused.Compare(sent(trace.Message{Name: "Response", Raw: "<x/>"}), &saml))
	assert.Empty(t, refused.Compare(sent(trace.Message{Name: "token response", Opened: `{"alg":"RS256"}`}), &openid))
	assert.NotEmpty(t, refused.Compare(sent(trace.Message{Name: "token response", Opened: `{"alg":"RS256"} {"iss":"x"}`}), &openid))
}
