package server_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/client"
	"innergate/core/config"
)

// TestPlainProviderThatNamesItsIssuer connects an OAuth 2.0 provider whose answers carry iss (RFC 9207): with its issuer, and with
// another, with none though one was promised, and without knowing of it. The people stay who they are.
func TestPlainProviderThatNamesItsIssuer(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	signs := func() string {
		b := w.Walker()
		b.Provider = "lantern-pass"
		require.NoError(t, b.SignIn(ctx, w.LedgerURL+"/sign-in", "70047"))
		list, err := w.Client().Traces(ctx, client.Page{Limit: 1})
		require.NoError(t, err)
		if list.Items[0].Code == "" {
			assert.Equal(t, "henk.mole@post.example", b.Inner("claim-email"))
		}
		return list.Items[0].Code
	}
	set := func(f func(*config.OIDCProvider)) error {
		p, err := w.Client().Provider(ctx, "lantern-pass")
		require.NoError(t, err)
		c := p.Provider
		f(c.OIDC)
		_, err = w.Client().PutProvider(ctx, c, p.Revision)
		return err
	}
	require.Empty(t, signs())
	people, err := w.Client().People(ctx, client.Page{Search: "henk"})
	require.NoError(t, err)

	w.Lantern.NameIssuer(true)
	require.NoError(t, set(func(o *config.OIDCProvider) { o.Issuer, o.IssuerInAnswer = w.LanternURL, true }))
	assert.Empty(t, signs())
	again, err := w.Client().People(ctx, client.Page{Search: "henk"})
	require.NoError(t, err)
	assert.Len(t, again.Items, len(people.Items), "the issuer makes nobody somebody else")

	w.Lantern.SetMistake("answer-issuer")
	assert.Equal(t, "oidc.answer-issuer", signs())
	w.Lantern.SetMistake("")
	w.Lantern.NameIssuer(false)
	assert.Equal(t, "oidc.answer-issuer-missing", signs())
	require.NoError(t, set(func(o *config.OIDCProvider) { o.IssuerInAnswer = false }))
	assert.Empty(t, signs())
	assert.ErrorContains(t, set(func(o *config.OIDCProvider) { o.Issuer, o.IssuerInAnswer = "", true }), "none is entered")
	assert.ErrorContains(t, set(func(o *config.OIDCProvider) { o.KeysURL = w.LanternURL + "/keys" }), "knows no key set")
}

// TestEncryptedNameIDPolicy asks for the format that says no more than that the identifier is encrypted (SAML Core, section
// 8.3.5): it is met where it is, and refused where it is not.
func TestEncryptedNameIDPolicy(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	w.Rota.Format = "urn:oasis:names:tc:SAML:2.0:nameid-format:encrypted"
	b := w.Walker()
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	assert.Equal(t, "saml.nameid-policy", newest(t, w).Code)
	change(t, w, func(a *config.Application) { a.SAML.Encrypt = "nameid" })
	b = w.Walker()
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	assert.Equal(t, "mvoss", b.Inner("nameid"))
	doc, err := w.Client().OurMetadata(ctx, "idp", "crew-rota", false)
	require.NoError(t, err)
	assert.Contains(t, string(doc), "nameid-format:encrypted")
}
