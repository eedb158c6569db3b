package oidc_test

import (
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/claims"
	"innergate/core/jose"
	"innergate/core/oidc"
)

func TestObjectWritesClaimsInTheirTypes(t *testing.T) {
	got, left := oidc.Object(claims.Bag{
		"email":                 {"ida@saltmere.example"},
		"email_verified":        {"true"},
		"phone_number_verified": {"yes"},
		"updated_at":            {"1763888400"},
		"groups":                {"crew"},
		"department":            {"deck", "bridge"},
		"address.locality": {
			"Saltmere",
		},
		"address.country": {"SM"},
		"iss":             {"https://evil.example"},
		"sub":             {"somebody-else"},
		"events":          {"x"},
		"name":            {},
	})
	assert.Equal(
		t,
		map[string]any{
			"email":          "ida@saltmere.example",
			"email_verified": true,
			"updated_at":     int64(1763888400),
			"groups":         []string{"crew"},
			"department":     []string{"deck", "bridge"},
			"address":        map[string]any{"locality": "Saltmere", "country": "SM"},
		},
		got,
	)
	assert.Equal(t, []string{"events", "iss", "phone_number_verified", "sub"}, left)
	assert.Equal(
		t,
		[]string{"email", "email_verified", "groups"},
		oidc.ClaimsOf([]string{"openid", "email", "groups", "offline_access", "rocket"}),
	)
}

// TestOurIDTokenIsTaken holds what the provider's half issues against what the relying party's half checks.
func TestOurIDTokenIsTaken(t *testing.T) {
	issued := oidc.Issued{
		Issuer:      issuer,
		Subject:     "s-1",
		ClientID:    clientID,
		Nonce:       "n-1",
		Now:         now,
		Life:        5 * time.Minute,
		AuthTime:    now.Add(-time.Minute),
		ACR:         "two",
		AMR:         []string{"pwd"},
		SessionID:   "sess-1",
		AccessToken: "at-1",
		Algorithm:   jose.ES256,
		Values:      map[string]any{"email": "ida@saltmere.example", "sub": "somebody-else", "aud": "other", "nonce": "n-2"},
	}
	age, r := 2*time.Minute, rules()
	r.MaxAge, r.ACR = &age, []string{"two"}
	got, err := oidc.CheckIDToken(token(t, jose.TypeID, issued.Claims()), r, nil)
	require.NoError(t, err)
	assert.Equal(t, []any{"s-1", "sess-1", "ida@saltmere.example"}, []any{got.Subject, got.SessionID, got.Claims["email"]})
	r.AccessToken = "at-2"
	_, err = oidc.CheckIDToken(token(t, jose.TypeID, issued.Claims()), r, nil)
	refused(t, err, "oidc.at-hash")
	bare := oidc.Issued{Issuer: issuer, Subject: "s-1", ClientID: clientID, Now: now, Life: time.Minute}.Claims()
	for _, name := range []string{"nonce", "acr", "sid", "auth_time", "amr", "at_hash"} {
		assert.NotContains(t, bare, name)
	}
	assert.NotEqual(t, bare["jti"], oidc.Issued{}.Claims()["jti"])
}

func TestReply(t *testing.T) {
	q := &oidc.Request{RedirectURI: "https://ledger.example/second?x=1%2F2", State: "st 1&code=evil"}
	got, err := oidc.Reply{Code: "c-1", Issuer: "https://gate.example"}.Location(q)
	require.NoError(t, err)
	u, err := url.Parse(got)
	require.NoError(t, err)
	assert.Equal(t, url.Values{"x": {"1/2"}, "code": {"c-1"}, "state": {q.State}, "iss": {"https://gate.example"}}, u.Query())
	assert.Contains(t, got, "https://ledger.example/second?x=1%2F2&code=c-1", "the address stays as it was registered")
	failed := oidc.Reply{Error: oidc.ErrAccessDenied, Description: "Nobody \"here\"\n is \\ known – sorry.", Issuer: "https://gate.example"}
	assert.Equal(
		t,
		[][2]string{
			{"error", "access_denied"},
			{"error_description", "Nobody 'here' is  known  sorry."},
			{"state", q.State},
			{"iss", "https://gate.example"},
		},
		failed.Fields(q),
	)
	// The relying party's half reads it again.
	location, err := failed.Location(&oidc.Request{RedirectURI: "https://ledger.example/callback", State: "st-1"})
	require.NoError(t, err)
	u, err = url.Parse(location)
	require.NoError(t, err)
	p, err := oidc.ReadParameters(u.RawQuery)
	require.NoError(t, err)
	_, err = oidc.ReadAnswer(
		p,
		oidc.AnswerRules{Partner: partner, Issuers: oidc.Issuers{Issuer: "https://gate.example"}, IssuerPromised: true, State: "st-1"},
		nil,
	)
	refused(t, err, "oidc.denied")
}
