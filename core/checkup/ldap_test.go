package checkup_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"innergate/core/checkup"
	"innergate/core/config"
)

// TestFindingsOfADirectory finds what is set for a directory and is of no good, and nothing where all is well.
func TestFindingsOfADirectory(t *testing.T) {
	t.Parallel()
	for what, c := range map[string]struct {
		change func(*config.LDAPProvider)
		want   []string
	}{
		"all is well": {func(*config.LDAPProvider) {}, nil},
		"without TLS": {func(l *config.LDAPProvider) { l.Plain, l.Servers = true, []string{"ldap://localhost"} }, []string{"ldap.plain"}},
		"as nobody":   {func(l *config.LDAPProvider) { l.BindDN = "" }, []string{"ldap.anonymous"}},
		"as nobody, by a pattern": {func(l *config.LDAPProvider) {
			l.BindDN, l.Pattern = "", "uid={name},dc=harbour,dc=example"
		}, nil},
		"known by a name": {func(l *config.LDAPProvider) { l.Identifier = "sAMAccountName" }, []string{"ldap.identifier-changes"}},
		"groups by uid": {func(l *config.LDAPProvider) {
			l.Filter, l.Groups = "(mail={name})", &config.LDAPGroups{By: "memberUid"}
		}, []string{"ldap.member-uid"}},
		"nothing entered": {func(l *config.LDAPProvider) { *l = config.LDAPProvider{} }, []string{"provider.incomplete"}},
	} {
		p := config.Provider{Slug: "office", Name: "Office", Kind: config.KindLDAP, Admission: "refuse", LDAP: &config.LDAPProvider{
			Servers: []string{"ldaps://office.harbour.example"}, Base: "dc=harbour,dc=example", BindDN: "cn=gate,dc=harbour,dc=example",
		}}
		assert.NoError(t, p.Validate())
		c.change(p.LDAP)
		stations, findings := checkup.Provider(&p, "", time.Now())
		var codes []string
		for _, f := range findings {
			codes = append(codes, f.Code)
		}
		assert.Equal(t, c.want, codes, what)
		assert.Equal(t, what == "nothing entered", stations[0].State == "empty", what)
	}
}
