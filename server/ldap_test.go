package server_test

import (
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/people"
	"innergate/demo"
	"innergate/testbed"
)

// quayRegister is a world whose Crew Rota is reached through a directory, the gate searching as its administrator.
func quayRegister(t *testing.T, change func(*config.LDAPProvider)) (*demo.World, *testbed.Slapd) {
	t.Helper()
	s := testbed.NewSlapd(t)
	w, ctx := world(t), t.Context()
	c := w.Client()
	p := config.Provider{
		Slug: "quay-register", Name: "Quay Register", Kind: config.KindLDAP, Admission: "create", Mapping: claims.OfDirectory(),
		Matching: &people.Matching{Domains: []string{"saltmere.example"}, Unscoped: true, Groups: []string{"*"}},
		LDAP: &config.LDAPProvider{
			Servers: []string{s.LDAPS}, Certificates: []config.Certificate{{PEM: s.CA}}, BindDN: testbed.SlapdAdmin,
			Base: testbed.SlapdBase, Groups: &config.LDAPGroups{By: "memberOf", Depth: 5},
		},
	}
	if change != nil {
		change(p.LDAP)
	}
	held, err := c.AddProvider(ctx, p)
	require.NoError(t, err)
	_, err = c.KeepSecret(ctx, "quay-register", api.TheirSecret{Value: testbed.SlapdSecret})
	require.NoError(t, err)
	open := held.Provider
	open.Reach = "everyone"
	_, err = c.PutProvider(ctx, open, held.Revision)
	require.NoError(t, err)
	a, err := c.Application(ctx, "crew-rota")
	require.NoError(t, err)
	a.Providers = []string{"quay-register"}
	_, err = c.PutApplication(ctx, a.Application, a.Revision)
	require.NoError(t, err)
	return w, s
}

// enters signs in at the page of the directory.
func enters(t *testing.T, w *demo.World, name, password string) *demo.Walker {
	t.Helper()
	b := w.Walker()
	require.NoError(t, b.Get(t.Context(), w.RotaURL+"/sign-in"))
	require.NoError(t, b.Onward(t.Context()))
	require.Contains(t, b.Text, "Quay Register", "the page of the directory")
	require.NoError(t, b.Submit(t.Context(), url.Values{"name": {name}, "password": {password}}))
	require.NoError(t, b.Onward(t.Context()))
	return b
}

// TestPeopleOfADirectorySignIn signs somebody in by search and bind, with groups in groups, and knows them again by what stays the
// same of the entry.
func TestPeopleOfADirectorySignIn(t *testing.T) {
	t.Parallel()
	w, s := quayRegister(t, nil)
	b := enters(t, w, "wfell", testbed.SlapdPassword)
	assert.Equal(t, "wfell", b.Inner("nameid"), b.Text)
	x := newest(t, w)
	decided := map[string]string{}
	for _, e := range x.Entries {
		if e.Decision != nil {
			decided[e.Decision.About] = e.Decision.Result
		}
	}
	assert.Equal(t, "everyone, harbour, quay-staff", decided["groups"])
	assert.Equal(t, "signed-in", x.Outcome)
	for _, e := range x.Entries {
		if e.Message != nil {
			assert.NotContains(t, e.Message.Raw, testbed.SlapdPassword)
			assert.NotContains(t, e.Message.Raw, "userPassword")
		}
	}
	// Another name and another place: the same person.
	s.Change(t, "ldapmodify", "dn: uid=wfell,ou=people,dc=saltmere,dc=example\nchangetype: modify\nreplace: sn\nsn: Fell-Brook\n")
	s.Change(t, "ldapmodify", "dn: uid=wfell,ou=people,dc=saltmere,dc=example\nchangetype: modrdn\nnewrdn: uid=wbrook\ndeleteoldrdn: 1\n")
	b = enters(t, w, "wbrook", testbed.SlapdPassword)
	assert.Equal(t, "wbrook", b.Inner("nameid"), b.Text)
	people, err := w.Client().People(t.Context(), client.Page{Search: "Wanda"})
	require.NoError(t, err)
	assert.Len(t, people.Items, 1)
}

// TestADirectorySaysWhatIsWrong explains what a directory says of an account, and says the same of unknown names as of wrong
// passwords.
func TestADirectorySaysWhatIsWrong(t *testing.T) {
	t.Parallel()
	w, s := quayRegister(t, nil)
	for _, c := range [][2]string{{"wfell", "wrong"}, {"nobody", "wrong"}, {"*", testbed.SlapdPassword}, {"wfel*", testbed.SlapdPassword},
		{"wfell)(uid=*", testbed.SlapdPassword}} {
		b := enters(t, w, c[0], c[1])
		assert.Contains(t, b.Text, "Name or password is wrong.", c[0])
	}
	b := enters(t, w, `odd*(x)\y`, testbed.SlapdPassword)
	assert.Equal(t, `odd*(x)\y`, b.Inner("nameid"), "the same characters in a name: %s", b.Text)

	for range 3 {
		enters(t, w, "hbrook", "wrong")
	}
	enters(t, w, "hbrook", testbed.SlapdPassword)
	assert.Equal(t, "ldap.locked", newest(t, w).Code)

	s.Change(t, "ldapmodify", "dn: uid=ilark,ou=people,dc=saltmere,dc=example\nchangetype: modify\nreplace: pwdPolicySubentry\n"+
		"pwdPolicySubentry: cn=short,ou=policies,dc=saltmere,dc=example\n-\nreplace: userPassword\nuserPassword: Fresh-Kelp-123\n")
	require.Eventually(t, func() bool { // it is good for a second
		enters(t, w, "ilark", "Fresh-Kelp-123")
		return newest(t, w).Code == "ldap.expired"
	}, testbed.Patience, 500*time.Millisecond)

	s.Stop()
	b = enters(t, w, "wfell", testbed.SlapdPassword)
	assert.Contains(t, b.Text, "does not answer")
	assert.Equal(t, "ldap.unreachable", newest(t, w).Code)
	s.Start(t)
	b = enters(t, w, "wfell", testbed.SlapdPassword)
	assert.Equal(t, "wfell", b.Inner("nameid"), b.Text)
}

// TestAPasswordIsChangedWhereItMustBe has somebody whose password was reset choose another one, and goes on with it.
func TestAPasswordIsChangedWhereItMustBe(t *testing.T) {
	t.Parallel()
	w, s := quayRegister(t, nil)
	s.Change(t, "ldapmodify", "dn: uid=ntide,ou=people,dc=saltmere,dc=example\nchangetype: modify\nreplace: userPassword\n"+
		"userPassword: Given-Kelp-123\n-\nreplace: pwdReset\npwdReset: TRUE\n")
	b := enters(t, w, "ntide", "Given-Kelp-123")
	require.Contains(t, b.Text, "You have to change your password")
	for _, c := range []struct{ old, fresh, again, says string }{
		{"Given-Kelp-123", "Newer-Kelp-456", "Other-Kelp-456", "The two passwords differ."},
		{"wrong", "Newer-Kelp-456", "Newer-Kelp-456", "Your old password is wrong."},
		{"Given-Kelp-123", "short", "short", "too short or too simple"},
	} {
		require.NoError(t, b.Submit(t.Context(), url.Values{"old": {c.old}, "password": {c.fresh}, "again": {c.again}}))
		assert.Contains(t, b.Inner("wrong"), c.says)
	}
	require.NoError(t, b.Submit(t.Context(), url.Values{"old": {"Given-Kelp-123"}, "password": {"Newer-Kelp-456"},
		"again": {"Newer-Kelp-456"}}))
	require.NoError(t, b.Onward(t.Context()))
	assert.Equal(t, "ntide", b.Inner("nameid"), b.Text)
	b = enters(t, w, "ntide", "Newer-Kelp-456")
	assert.Equal(t, "ntide", b.Inner("nameid"), b.Text)
}

// TestGroupsOfADirectory finds groups by each attribute.
func TestGroupsOfADirectory(t *testing.T) {
	t.Parallel()
	s := testbed.NewSlapd(t)
	l := testbed.NewLab(t)
	for _, c := range []struct {
		groups *config.LDAPGroups
		want   []string
	}{
		{nil, nil},
		{&config.LDAPGroups{By: "memberOf"}, []string{"quay-staff"}},
		{&config.LDAPGroups{By: "memberOf", Depth: 1}, []string{"harbour", "quay-staff"}},
		{&config.LDAPGroups{By: "member", Base: "ou=groups," + testbed.SlapdBase}, []string{"quay-staff"}},
		{&config.LDAPGroups{By: "member", Depth: 10}, []string{"everyone", "harbour", "quay-staff"}},
		{&config.LDAPGroups{By: "member", Depth: 10, Filter: "(!(cn=harbour))"}, []string{"quay-staff"}},
		{&config.LDAPGroups{By: "uniqueMember"}, []string{"cranes"}},
		{&config.LDAPGroups{By: "memberUid"}, []string{"ropes"}},
	} {
		p := config.Provider{
			Slug: "quay-register", Name: "Quay Register", Kind: config.KindLDAP, LDAP: &config.LDAPProvider{
				Servers: []string{s.LDAP}, Certificates: []config.Certificate{{PEM: s.CA}}, Base: testbed.SlapdBase, Groups: c.groups,
			},
		}
		_, err := l.Configuration.SaveProvider(t.Context(), testbed.Owner, "", p, 0)
		require.NoError(t, err)
		got, err := l.LDAP.Try(t.Context(), testbed.Owner, "quay-register", "wfell")
		require.NoError(t, err)
		assert.True(t, got.Works, "%+v", got)
		assert.Equal(t, c.want, got.Values["groups"], "%+v", c.groups)
		require.NoError(t, l.Configuration.DeleteProvider(t.Context(), testbed.Owner, "quay-register"))
	}
}

// TestTheGateProvesWhoItIsByACertificate searches as an entry that is proven by a certificate (SASL EXTERNAL), refuses what is none when it
// is entered, and explains where none is held.
func TestTheGateProvesWhoItIsByACertificate(t *testing.T) {
	t.Parallel()
	w, s := quayRegister(t, nil)
	c, ctx := w.Client(), t.Context()
	p, err := c.Provider(ctx, "quay-register")
	require.NoError(t, err)
	p.LDAP.BindBy, p.LDAP.BindDN = config.BindByCertificate, ""
	_, err = c.PutProvider(ctx, p.Provider, p.Revision)
	require.NoError(t, err)
	got, err := c.TryDirectory(ctx, "quay-register", api.TryDirectory{Name: "wfell"})
	require.NoError(t, err)
	assert.False(t, got.Works)
	assert.Equal(t, "ldap.bind", got.Code, "%+v", got.Steps)
	for _, bad := range []string{"a password", s.CA, strings.ReplaceAll(s.Client, "PRIVATE", "PUBLIC")} {
		_, err = c.KeepSecret(ctx, "quay-register", api.TheirSecret{Value: bad})
		require.ErrorContains(t, err, "no certificate with its private key")
	}
	_, err = c.KeepSecret(ctx, "quay-register", api.TheirSecret{Value: s.Client})
	require.NoError(t, err)
	require.NoError(t, c.SwitchSecret(ctx, "quay-register"))
	got, err = c.TryDirectory(ctx, "quay-register", api.TryDirectory{Name: "wfell"})
	require.NoError(t, err)
	assert.True(t, got.Works, "%+v", got.Steps)
	b := enters(t, w, "wfell", testbed.SlapdPassword)
	assert.Equal(t, "wfell", b.Inner("nameid"), b.Text)
	held, err := c.Secrets(ctx, "providers", "quay-register")
	require.NoError(t, err)
	for _, one := range held.Items {
		assert.Empty(t, one.Hint)
	}
}

// TestPeopleChangeTheirPasswordOnTheirOwnPage changes a password in a directory from the page that people have of themselves, by the old
// one alone; wrong old ones are counted, and other sites get nothing done.
func TestPeopleChangeTheirPasswordOnTheirOwnPage(t *testing.T) {
	t.Parallel()
	w, _ := quayRegister(t, nil)
	b := enters(t, w, "wfell", testbed.SlapdPassword)
	require.Equal(t, "wfell", b.Inner("nameid"), b.Text)
	change := func(old, fresh, again string) string {
		require.NoError(t, b.Get(t.Context(), w.URL+"/account"))
		assert.Contains(t, b.Text, "Your password at Quay Register")
		require.NoError(t, b.Post(t.Context(), w.URL+"/account/password",
			url.Values{"directory": {"quay-register"}, "old": {old}, "password": {fresh}, "again": {again}}))
		return b.Text
	}
	const fresh = "Kelp-Harbour-8-new"
	assert.Contains(t, change("wrong", fresh, fresh), "Your old password is wrong.")
	assert.Contains(t, change(testbed.SlapdPassword, fresh, fresh+"x"), "The two passwords differ.")
	assert.Contains(t, change(testbed.SlapdPassword, "", ""), "Enter both passwords.")
	assert.Contains(t, change(testbed.SlapdPassword, "short", "short"), "Your password was not changed")
	assert.Contains(t, change(testbed.SlapdPassword, fresh, fresh), "Your password is changed")
	b = enters(t, w, "wfell", fresh)
	assert.Equal(t, "wfell", b.Inner("nameid"), b.Text)
	require.NoError(t, b.Post(t.Context(), w.URL+"/account/password", url.Values{"directory": {"quay-register"}, "old": {fresh}}))
	assert.Equal(t, http.StatusForbidden, b.Status, "sent by the page of an application")
	require.NoError(t, b.Get(t.Context(), w.URL+"/account"))
	require.NoError(t, b.Post(t.Context(), w.URL+"/account/password",
		url.Values{"directory": {"harbour-office"}, "old": {fresh}, "password": {"x"}, "again": {"x"}}))
	assert.Contains(t, b.Text, "The password can&#39;t be changed here.", "somebody is not known from there")
	outside := w.Walker()
	require.NoError(t, outside.Get(t.Context(), w.URL+"/sign-out"))
	require.NoError(t, outside.Post(t.Context(), w.URL+"/account/password", url.Values{"directory": {"quay-register"}, "old": {fresh}}))
	assert.Contains(t, outside.Text, "You are not signed in.")
	list, err := w.Client().Journal(t.Context(), client.Page{Limit: 20})
	require.NoError(t, err)
	said := false
	for _, e := range list.Items {
		said = said || e.Action == "changed" && e.Kind == "password"
		assert.NotContains(t, e.After+e.Before, fresh)
	}
	assert.True(t, said)
}
