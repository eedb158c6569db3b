package oidc_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/jose"
	"innergate/core/oidc"
)

func TestLogoutToken(t *testing.T) {
	r := oidc.LogoutRules{
		Partner:  partner,
		Issuers:  oidc.Issuers{Issuer: issuer},
		ClientID: clientID,
		Keys:     keySet(),
		Now:      now,
		Skew:     time.Minute,
	}
	for _, typ := range []string{"", "JWT", jose.TypeLogout} {
		said := oidc.LogoutClaims(issuer, clientID, "s-1", "sess-1", now)
		got, err := oidc.CheckLogoutToken(token(t, typ, said), r, record())
		require.NoError(t, err)
		assert.Equal(t, []any{issuer, "s-1", "sess-1", said["jti"]}, []any{got.Issuer, got.Subject, got.SessionID, got.Used.ID})
		assert.True(t, got.Used.Until.Equal(now.Add(3*time.Minute)), "it must be remembered for as long as it could be used")
	}
	_, err := oidc.CheckLogoutToken(token(t, "", oidc.LogoutClaims(issuer, clientID, "", "sess-1", now)), r, nil)
	assert.NoError(t, err, "a session alone is enough")

	for name, c := range map[string]struct {
		change    func(map[string]any)
		typ, code string
	}{
		"an ID token":         {func(c map[string]any) { delete(c, "events"); c["nonce"] = "n-1" }, "", "oidc.logout-token"},
		"with a nonce":        {func(c map[string]any) { c["nonce"] = "n-1" }, "", "oidc.logout-token"},
		"with an empty nonce": {func(c map[string]any) { c["nonce"] = nil }, "", "oidc.logout-token"},
		"another event": {func(c map[string]any) {
			c["events"] = map[string]any{"urn:other": map[string]any{}}
		}, "", "oidc.logout-token"},
		"an event that is text": {func(c map[string]any) {
			c["events"] = "http://schemas.openid.net/event/backchannel-logout"
		}, "", "oidc.logout-token"},
		"nobody named":    {func(c map[string]any) { delete(c, "sub"); delete(c, "sid") }, "", "oidc.logout-token"},
		"without jti":     {func(c map[string]any) { delete(c, "jti") }, "", "oidc.logout-token"},
		"without iat":     {func(c map[string]any) { delete(c, "iat") }, "", "oidc.logout-token"},
		"from the future": {func(c map[string]any) { c["iat"] = now.Add(time.Hour).Unix() }, "", "oidc.logout-token"},
		"over":            {func(c map[string]any) { c["exp"] = now.Add(-time.Hour).Unix() }, "", "oidc.logout-token"},
		"a year valid, made today": {func(c map[string]any) {
			c["iat"] = now.Add(-time.Hour).Unix()
			c["exp"] = now.Add(8760 * time.Hour).Unix()
		}, "", "oidc.logout-token"},
		"subject a list":     {func(c map[string]any) { c["sub"] = []string{"s-1"} }, "", "oidc.logout-token"},
		"for another client": {func(c map[string]any) { c["aud"] = "other" }, "", "oidc.audience"},
		"of another issuer":  {func(c map[string]any) { c["iss"] = "https://evil.example" }, "", "oidc.issuer"},
		"as an access token": {func(map[string]any) {}, jose.TypeAccess, "jwt.type"},
	} {
		t.Run(name, func(t *testing.T) {
			said := oidc.LogoutClaims(issuer, clientID, "s-1", "sess-1", now)
			c.change(said)
			got, err := oidc.CheckLogoutToken(token(t, c.typ, said), r, record())
			assert.Nil(t, got)
			refused(t, err, c.code)
		})
	}
	// And the other way round: a logout token is no ID token, whatever it holds besides.
	said := tokenClaims()
	said["events"] = map[string]any{"http://schemas.openid.net/event/backchannel-logout": map[string]any{}}
	for _, typ := range []string{"", jose.TypeLogout} {
		_, err := oidc.CheckIDToken(token(t, typ, said), rules(), nil)
		refused(t, err, "jwt.type")
	}
}
