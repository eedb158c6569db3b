package oidc_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/jose"
	"innergate/core/oidc"
)

func rules() oidc.IDTokenRules {
	return oidc.IDTokenRules{
		Partner:     partner,
		Issuers:     oidc.Issuers{Issuer: issuer},
		ClientID:    clientID,
		Nonce:       "n-1",
		Keys:        keySet(),
		Now:         now,
		Skew:        time.Minute,
		AccessToken: "at-1",
		Code:        "c-1",
	}
}

func tokenClaims() map[string]any {
	return map[string]any{
		"iss":   issuer,
		"sub":   "s-1",
		"aud":   clientID,
		"nonce": "n-1",
		"iat":   now.Unix(),
		"exp":   now.Add(5 * time.Minute).Unix(),
	}
}

func TestCheckIDTokenTakesWhatTheStandardAllows(t *testing.T) {
	for name, change := range map[string]func(map[string]any){
		"the least":              func(map[string]any) {},
		"audience as a list":     func(c map[string]any) { c["aud"] = []string{clientID} },
		"azp that is ours":       func(c map[string]any) { c["azp"] = clientID },
		"two audiences with azp": func(c map[string]any) { c["aud"] = []string{"other", clientID}; c["azp"] = clientID },
		"at_hash and c_hash": func(c map[string]any) {
			c["at_hash"], c["c_hash"] = oidc.HalfHash("ES256", "at-1"), oidc.HalfHash("ES256", "c-1")
		},
		"over, within the tolerance":      func(c map[string]any) { c["exp"] = now.Add(-59 * time.Second).Unix() },
		"ahead, within the tolerance":     func(c map[string]any) { c["iat"] = now.Add(time.Minute).Unix() },
		"times with a fraction":           func(c map[string]any) { c["iat"], c["exp"] = 1763888400.5+31536000, 4102444800.25 },
		"subject of 255 octets":           func(c map[string]any) { c["sub"] = strings.Repeat("s", 255) },
		"auth_time that nobody asked for": func(c map[string]any) { c["auth_time"] = now.Add(-100 * time.Hour).Unix() },
	} {
		t.Run(name, func(t *testing.T) {
			c := tokenClaims()
			change(c)
			for _, typ := range []string{"", "JWT"} {
				rec := record()
				got, err := oidc.CheckIDToken(token(t, typ, c), rules(), rec)
				require.NoError(t, err)
				assert.Equal(t, c["sub"], got.Subject)
				for _, e := range rec.Entries() {
					assert.True(t, e.Check.OK, e.Check.Name)
				}
				assert.GreaterOrEqual(t, len(rec.Entries()), 7, "every check is recorded")
			}
		})
	}
}

func TestCheckIDTokenTellsWhatItHolds(t *testing.T) {
	c := tokenClaims()
	c["auth_time"], c["acr"], c["amr"], c["sid"] = now.Add(-time.Minute).Unix(), "urn:northquay:two", []string{"pwd", "otp"}, "sess-1"
	r := rules()
	age := 2 * time.Minute
	r.MaxAge, r.ACR = &age, []string{"urn:northquay:one", "urn:northquay:two"}
	got, err := oidc.CheckIDToken(token(t, "", c), r, nil)
	require.NoError(t, err)
	assert.Equal(
		t,
		[]any{issuer, "s-1", "urn:northquay:two", "sess-1", "nq-1"},
		[]any{got.Issuer, got.Subject, got.ACR, got.SessionID, got.Key.ID},
	)
	assert.Equal(t, []string{"pwd", "otp"}, got.AMR)
	assert.True(t, got.AuthTime.Equal(now.Add(-time.Minute)))
}

func TestCheckIDTokenRefuses(t *testing.T) {
	age := time.Minute
	for name, c := range map[string]struct {
		change func(map[string]any)
		rules  func(*oidc.IDTokenRules)
		code   string
	}{
		// The rules of section 3.1.3.7, in their order.
		"another issuer":           {func(c map[string]any) { c["iss"] = "https://id.lantern.example" }, nil, "oidc.issuer"},
		"issuer with a slash more": {func(c map[string]any) { c["iss"] = issuer + "/" }, nil, "oidc.issuer"},
		"issuer in other case":     {func(c map[string]any) { c["iss"] = strings.ToUpper(issuer) }, nil, "oidc.issuer"},
		"issuer under another name's case": {func(c map[string]any) {
			c["ISS"] = c["iss"]
			c["iss"] = "https://evil.example"
		}, nil, "oidc.issuer"},
		"no audience of ours":            {func(c map[string]any) { c["aud"] = "other" }, nil, "oidc.audience"},
		"audience that begins like ours": {func(c map[string]any) { c["aud"] = []string{clientID + "2"} }, nil, "oidc.audience"},
		"audience of a wrong form":       {func(c map[string]any) { c["aud"] = []any{clientID, 7} }, nil, "oidc.id-token-claim"},
		"two audiences without azp": {func(c map[string]any) {
			c["aud"] = []string{clientID, "other"}
		}, nil, "oidc.authorized-party-missing"},
		"azp of another client": {func(c map[string]any) { c["azp"] = "other" }, nil, "oidc.authorized-party"},
		"over":                  {func(c map[string]any) { c["exp"] = now.Add(-time.Minute).Unix() }, nil, "oidc.expired"},
		"without end":           {func(c map[string]any) { delete(c, "exp") }, nil, "oidc.id-token-claim"},
		"end that is text":      {func(c map[string]any) { c["exp"] = "never" }, nil, "oidc.id-token-claim"},
		"end before 1970":       {func(c map[string]any) { c["exp"] = -1 }, nil, "oidc.id-token-claim"},
		"without beginning":     {func(c map[string]any) { delete(c, "iat") }, nil, "oidc.id-token-claim"},
		"from the future": {func(c map[string]any) {
			c["iat"] = now.Add(2 * time.Minute).Unix()
		}, nil, "oidc.not-yet-valid"},
		"not valid yet": {func(c map[string]any) {
			c["nbf"] = now.Add(2 * time.Minute).Unix()
		}, nil, "oidc.not-yet-valid"},
		"made yesterday": {func(c map[string]any) {
			c["iat"] = now.Add(-24 * time.Hour).Unix()
		}, nil, "oidc.issued-long-ago"},
		"another nonce": {func(c map[string]any) { c["nonce"] = "n-2" }, nil, "oidc.nonce"},
		"no nonce":      {func(c map[string]any) { delete(c, "nonce") }, nil, "oidc.nonce"},
		"no nonce, and none kept": {func(c map[string]any) {
			delete(c, "nonce")
		}, func(r *oidc.IDTokenRules) { r.Nonce = "" }, "oidc.nonce"},
		"weaker than demanded": {func(c map[string]any) {
			c["acr"] = "0"
		}, func(r *oidc.IDTokenRules) { r.ACR = []string{"urn:two"} }, "oidc.context-unmet"},
		"max_age without auth_time": {nil, func(r *oidc.IDTokenRules) { r.MaxAge = &age }, "oidc.auth-time-missing"},
		"signed in too long ago": {func(c map[string]any) {
			c["auth_time"] = now.Add(-3 * time.Minute).Unix()
		}, func(r *oidc.IDTokenRules) { r.MaxAge = &age }, "oidc.auth-time-old"},
		"not asked anew": {func(c map[string]any) {
			c["auth_time"] = now.Add(-3 * time.Minute).Unix()
		}, func(r *oidc.IDTokenRules) { r.FreshSince = now.Add(-10 * time.Second) }, "oidc.auth-time-old"},
		"at_hash of another access token": {func(c map[string]any) { c["at_hash"] = oidc.HalfHash("ES256", "at-2") }, nil, "oidc.at-hash"},
		"at_hash of a longer hash":        {func(c map[string]any) { c["at_hash"] = oidc.HalfHash("ES512", "at-1") }, nil, "oidc.at-hash"},
		"c_hash of another code":          {func(c map[string]any) { c["c_hash"] = oidc.HalfHash("ES256", "c-2") }, nil, "oidc.c-hash"},
		"no subject":                      {func(c map[string]any) { delete(c, "sub") }, nil, "oidc.subject-missing"},
		"subject of 256 octets":           {func(c map[string]any) { c["sub"] = strings.Repeat("s", 256) }, nil, "oidc.subject-missing"},
		"subject that is a number":        {func(c map[string]any) { c["sub"] = 7 }, nil, "oidc.id-token-claim"},
		"a logout token": {func(c map[string]any) {
			c["events"] = map[string]any{"http://schemas.openid.net/event/backchannel-logout": map[string]any{}}
		}, nil, "jwt.type"},
		"an algorithm that was not agreed on": {nil, func(r *oidc.IDTokenRules) { r.Algorithms = []string{"RS256"} }, "jwt.algorithm"},
		"no keys at all":                      {nil, func(r *oidc.IDTokenRules) { r.Keys = jose.KeySet{} }, "jwt.key-unknown"},
		"a directory that is not accepted": {nil, func(r *oidc.IDTokenRules) {
			r.Issuers.Accepted = []string{issuer + "/1"}
		}, "oidc.issuer"},
		"a directory, and none is accepted": {func(c map[string]any) {
			c["iss"] = "https://x.example/1"
		}, func(r *oidc.IDTokenRules) { r.Issuers.Issuer = "https://x.example/{tenant}" }, "oidc.issuer"},
	} {
		t.Run(name, func(t *testing.T) {
			said, r, rec := tokenClaims(), rules(), record()
			if c.change != nil {
				c.change(said)
			}
			if c.rules != nil {
				c.rules(&r)
			}
			got, err := oidc.CheckIDToken(token(t, "", said), r, rec)
			assert.Nil(t, got)
			f := refused(t, err, c.code)
			assert.Equal(t, partner, f.Partner)
			if c.code != "oidc.id-token-claim" {
				failedCheck(t, rec)
			}
			for _, e := range rec.Entries() {
				assert.NotContains(t, e.Check.Expected+e.Check.Got, "n-1", "a trace is no way to learn a nonce")
			}
		})
	}
}

func TestCheckIDTokenSignedByOthers(t *testing.T) {
	stranger, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	s, err := jose.NewSigner("nq-1", jose.ES256, stranger)
	require.NoError(t, err)
	forged, err := s.Sign("", tokenClaims())
	require.NoError(t, err)
	_, err = oidc.CheckIDToken(forged, rules(), record())
	refused(t, err, "jwt.signature")
	_, err = oidc.CheckIDToken(token(t, jose.TypeAccess, tokenClaims()), rules(), record())
	refused(t, err, "jwt.type")
	_, err = oidc.CheckIDToken(token(t, "JWT", tokenClaims())+"A", rules(), record())
	assert.Error(t, err)
}

func TestIssuersByDirectory(t *testing.T) {
	i := oidc.Issuers{
		Issuer:   "https://login.example/{directory}/v2",
		Accepted: []string{"https://login.example/1/v2", "https://login.example/2/v2"},
	}
	assert.True(t, i.Accepts("https://login.example/2/v2"))
	for _, no := range []string{"https://login.example/3/v2", "https://login.example/{directory}/v2", "", "https://login.example/1/v2/"} {
		assert.False(t, i.Accepts(no), no)
	}
	assert.False(t, oidc.Issuers{Issuer: i.Issuer}.Accepts(i.Issuer), "a pattern is no issuer")
	assert.False(t, oidc.Issuers{}.Accepts(""), "nothing configured accepts nothing")
}

// TestHalfHash is the example of OpenID Connect Core 1.0, appendix A.3.
func TestHalfHash(t *testing.T) {
	assert.Equal(t, "77QmUPtjPfzWtF2AnpK9RQ", oidc.HalfHash("RS256", "jHkWEdUXMU1BwAsC4vtUsZwnNvTIxEl0z9K3vx5KF0Y"))
	assert.Len(t, oidc.HalfHash("RS384", "x"), 32)
	assert.Len(t, oidc.HalfHash("EdDSA", "x"), 43)
}
