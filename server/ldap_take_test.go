package server_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/config"
)

// TestADirectorysAddressIsEnoughToBegin takes an address, asks the directory for its base where it may, and takes a certificate.
func TestADirectorysAddressIsEnoughToBegin(t *testing.T) {
	t.Parallel()
	w, ctx := world(t), t.Context()
	c := w.Client()
	understand := func(slug, text string) *api.Understood {
		u, err := c.Understand(ctx, "provider", slug, api.TakeIn{Text: text})
		require.NoError(t, err)
		return u
	}
	said := func(u *api.Understood) string {
		var all []string
		for _, p := range u.Problems {
			all = append(all, p.Message)
		}
		return strings.Join(all, " ")
	}
	// Its certificate is not believed yet, so it is not asked.
	u := understand("", w.OfficeURL)
	require.NotNil(t, u.Provider)
	assert.Equal(t, config.KindLDAP, u.Provider.Kind)
	assert.Equal(t, []string{w.OfficeURL}, u.Provider.LDAP.Servers)
	assert.Empty(t, u.Provider.LDAP.Base)
	assert.Contains(t, said(u), "did not answer")
	assert.NotEmpty(t, u.Provider.Mapping)
	// With a base in the address nothing is asked (RFC 4516).
	u = understand("", w.OfficeURL+"/ou=people,dc=harbour,dc=example")
	assert.Equal(t, "ou=people,dc=harbour,dc=example", u.Provider.LDAP.Base)

	made, err := c.AddProvider(ctx, config.Provider{Slug: "office", Name: "Office", Kind: config.KindLDAP})
	require.NoError(t, err)
	assert.NotEmpty(t, made.Slug)
	u = understand("office", w.Office.Certificate)
	require.Len(t, u.Provider.LDAP.Certificates, 1)
	assert.Contains(t, said(u), "certificate")
	_, err = c.TakeProvider(ctx, "office", api.TakeIn{Text: w.Office.Certificate})
	require.NoError(t, err)
	u = understand("office", w.OfficeURL)
	assert.Equal(t, "dc=harbour,dc=example", u.Provider.LDAP.Base, "it says itself: %s", said(u))
	_, err = c.Understand(ctx, "provider", "office", api.TakeIn{Text: "<EntityDescriptor/>"})
	assert.Error(t, err)

	sheet, err := c.Exchange(ctx, "providers", "harbour-office")
	require.NoError(t, err)
	assert.Contains(t, sheet.Markdown, "cn=gate,ou=services,dc=harbour,dc=example")
	assert.NotContains(t, sheet.Markdown, w.Office.Secret)
	assert.NotEmpty(t, sheet.Steps)
}
