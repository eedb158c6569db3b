package ldapdir_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/gate/ground"
	"innergate/store"
	"innergate/testbed"
)

// TestThePasswordGoesWhereItWasGivenFor sends the bind password to the servers that somebody of ours has set, and to none that is only
// proposed.
func TestThePasswordGoesWhereItWasGivenFor(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), t.Context()
	p := config.Provider{Slug: "office", Name: "Office", Kind: config.KindLDAP, LDAP: &config.LDAPProvider{
		Servers: []string{"ldaps://office.harbour.example"}, BindDN: "cn=gate,dc=harbour,dc=example", Base: "dc=harbour,dc=example",
	}}
	held, err := l.Configuration.SaveProvider(ctx, testbed.Owner, "", p, 0)
	require.NoError(t, err)
	_, err = l.Partners.KeepSecret(ctx, testbed.Owner, "office", api.TheirSecret{Value: "quay-lantern-41"})
	require.NoError(t, err)
	for what, change := range map[string]func(*config.LDAPProvider){
		"another server":      func(c *config.LDAPProvider) { c.Servers = []string{"ldaps://elsewhere.example"} },
		"one more server":     func(c *config.LDAPProvider) { c.Servers = append(c.Servers, "ldaps://elsewhere.example") },
		"without TLS":         func(c *config.LDAPProvider) { c.Servers, c.Plain = []string{"ldap://localhost"}, true },
		"another entry":       func(c *config.LDAPProvider) { c.BindDN = "cn=other,dc=harbour,dc=example" },
		"another certificate": func(c *config.LDAPProvider) { c.Certificates = []config.Certificate{{PEM: "x"}} },
	} {
		other := held.Provider
		copied := *other.LDAP
		other.LDAP = &copied
		change(other.LDAP)
		proposed, err := l.Partners.ProposedProvider(ctx, &store.Object{ID: held.ID, Slug: "office", Body: ground.MustJSON(other)})
		require.NoError(t, err)
		err = l.LDAP.OwnBind(ctx, proposed)
		var f *explain.Failure
		require.ErrorAs(t, err, &f, what)
		assert.Equal(t, explain.LDAPBind, f.Code, what)
	}
}
