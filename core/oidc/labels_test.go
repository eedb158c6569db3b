package oidc_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"innergate/core/oidc"
)

func TestLabels(t *testing.T) {
	for label, field := range map[string]string{
		"Issuer": "issuer", "Authority": "issuer", "Client ID": "client-id", "client_id": "client-id", "App ID": "client-id",
		"Application ID": "client-id", "Redirect URI": "redirect", "Valid callback URLs": "redirect", "Return address": "redirect",
		"Where replies go":         "redirect",
		"Post-logout redirect URI": "post-logout", "Post logout": "post-logout", "Token endpoint": "token", "Access Token URL": "token",
		"Authorization URL": "authorization", "User Info URL": "userinfo", "JWKS URI": "jwks", "Well-known URL": "discovery",
		"Scopes": "scopes", "Colour": "",
	} {
		assert.Equal(t, field, oidc.Meaning(label), label)
	}
}
