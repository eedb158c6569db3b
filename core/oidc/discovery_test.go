package oidc_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/oidc"
)

func document(change map[string]any) []byte {
	d := map[string]any{
		"issuer":                 issuer,
		"authorization_endpoint": issuer + "/authorize",
		"token_endpoint":         issuer + "/token",
		"jwks_uri":               issuer + "/keys",
		"userinfo_endpoint":      issuer + "/me",
		"response_types_supported": []string{
			"code",
		},
		"id_token_signing_alg_values_supported": []string{"RS256", "ES256"},
		"code_challenge_methods_supported":      []string{"S256"},
		"token_endpoint_auth_methods_supported": []string{
			"client_secret_post",
			"client_secret_basic",
		},
		"authorization_response_iss_parameter_supported": true,
	}
	for name, value := range change {
		if value == nil {
			delete(d, name)
			continue
		}
		d[name] = value
	}
	data, _ := json.Marshal(d)
	return data
}

func TestReadDiscovery(t *testing.T) {
	d, remarks, err := oidc.ReadDiscovery(document(nil), issuer)
	require.NoError(t, err)
	assert.Empty(t, remarks)
	assert.Equal(t, issuer+"/me", d.UserInfo)
	assert.True(t, d.IssuerInAnswer)
	method, err := d.Method("")
	require.NoError(t, err)
	assert.Equal(t, oidc.AuthBasic, method)
	_, err = d.Method(oidc.AuthPrivateKey)
	assert.ErrorContains(t, err, "client_secret_post")

	for name, c := range map[string]struct {
		data   []byte
		issuer string
		code   string
	}{
		"another issuer":    {document(nil), "https://id.lantern.example", "oidc.discovery-issuer"},
		"a slash more":      {document(nil), issuer + "/", "oidc.discovery-issuer"},
		"http for https":    {document(map[string]any{"issuer": "http://id.northquay.example"}), issuer, "oidc.discovery-issuer"},
		"no issuer":         {document(map[string]any{"issuer": nil}), issuer, "oidc.discovery-unreadable"},
		"no token endpoint": {document(map[string]any{"token_endpoint": nil}), issuer, "oidc.discovery-unreadable"},
		"no key set":        {document(map[string]any{"jwks_uri": nil}), issuer, "oidc.discovery-unreadable"},
		"endpoint that is script": {document(map[string]any{"authorization_endpoint": "javascript:alert(1)"}), issuer,
			"oidc.discovery-unreadable"},
		"endpoint with a fragment": {document(map[string]any{"authorization_endpoint": issuer + "/#/authorize"}), issuer,
			"oidc.discovery-unreadable"},
		"endpoint with a password": {document(map[string]any{"token_endpoint": "https://u:p@x.example/token"}), issuer,
			"oidc.discovery-unreadable"},
		"endpoint that is a list":  {document(map[string]any{"token_endpoint": []string{"x"}}), issuer, "oidc.discovery-unreadable"},
		"scopes that are a number": {document(map[string]any{"scopes_supported": 7}), issuer, "oidc.discovery-unreadable"},
		"HTML":                     {[]byte("<!doctype html><title>Sign in</title>"), issuer, "oidc.discovery-unreadable"},
		"XML":                      {[]byte("<EntityDescriptor/>"), issuer, "oidc.discovery-unreadable"},
		"empty":                    {nil, issuer, "oidc.discovery-unreadable"},
		"issuer twice":             {[]byte(`{"issuer":"a","issuer":"b"}`), "", "oidc.discovery-unreadable"},
		"too large":                {make([]byte, oidc.MaxDocument+1), issuer, "oidc.discovery-unreadable"},
	} {
		t.Run(name, func(t *testing.T) {
			_, _, err := oidc.ReadDiscovery(c.data, c.issuer)
			refused(t, err, c.code)
			assert.NotContains(t, err.Error(), "u:p@")
		})
	}
}

func TestReadDiscoveryRemarks(t *testing.T) {
	for code, change := range map[string]map[string]any{
		"endpoint.http":       {"token_endpoint": "http://id.northquay.example/token"},
		"oidc.issuer-pattern": {"issuer": "https://id.northquay.example/{directory}"},
		"oidc.no-code-flow":   {"response_types_supported": []string{"id_token"}},
		"oidc.no-pkce":        {"code_challenge_methods_supported": []string{"plain"}},
		"oidc.no-algorithm":   {"id_token_signing_alg_values_supported": []string{"HS256"}},
		"oidc.no-auth-method": {"token_endpoint_auth_methods_supported": []string{"tls_client_auth"}},
	} {
		_, remarks, err := oidc.ReadDiscovery(document(change), "")
		require.NoError(t, err, code)
		require.Len(t, remarks, 1, code)
		assert.Equal(t, code, remarks[0].Code)
		assert.NotEmpty(t, remarks[0].Detail)
	}
	_, remarks, err := oidc.ReadDiscovery(document(map[string]any{"token_endpoint": "http://127.0.0.1:8080/token"}), "")
	require.NoError(t, err)
	assert.Empty(t, remarks, "loopback needs no TLS")
}

func TestDiscoveryURL(t *testing.T) {
	for issuer, want := range map[string]string{"https://a.example": "https://a.example/.well-known/openid-configuration",
		"https://a.example/":    "https://a.example/.well-known/openid-configuration",
		"https://a.example/t/1": "https://a.example/t/1/.well-known/openid-configuration"} {
		assert.Equal(t, want, oidc.DiscoveryURL(issuer))
	}
}
