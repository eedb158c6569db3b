package ldapdir

import (
	"context"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"innergate/core/address"
	"innergate/core/explain"
	"innergate/core/ldapdir"
	"innergate/core/trace"
	"innergate/gate/partners"
)

// wrongBorne is how many wrong old passwords are borne in a quarter of an hour, of one person and from one network.
const wrongBorne = 10

// OwnPassword changes the password of somebody who is known from a directory by a link's subject, by the old one. It says in words what
// the directory does not take; nothing where it is changed.
func (g *Room) OwnPassword(ctx context.Context, p *partners.Provider, subject, from, old, fresh, again string) (string, error) {
	id, ok := strings.CutPrefix(subject, "entry\x1f")
	switch {
	case p.LDAP == nil || p.LDAP.PasswordChange == "off" || !ok:
		return "The password can't be changed here.", nil
	case fresh != again:
		return "The two passwords differ.", nil
	case old == "" || fresh == "" || len(old) > mostEntered || len(fresh) > mostEntered:
		return "Enter both passwords.", nil
	}
	counted := "ldap-own:" + p.ID + ":" + id + " " + address.Network(from)
	if g.Guessing(ctx, counted, wrongBorne) != nil {
		return "There were too many wrong tries. Please wait a quarter of an hour.", nil
	}
	rec := trace.NewRecorder(g.Now(), g.Now)
	one, back, err := g.searching(ctx, p, rec)
	if err != nil {
		return "", err
	}
	entries, err := search(one.Conn, &p.Provider, p.LDAP.Base, ldap.ScopeWholeSubtree, ldapdir.Identified(p.LDAP.Identifier, id),
		[]string{p.LDAP.Identifier}, mostFound, rec)
	back(err == nil)
	if err != nil {
		return "", err
	}
	if len(entries) != 1 {
		return "", explain.New(explain.LDAPNoIdentifier, explain.Pair("entry", p.LDAP.Identifier, id)).Of(p.Name)
	}
	said, err := g.setPassword(ctx, p, entries[0].DN, old, fresh, rec)
	if err == nil && said != wrongOld {
		g.Guessed(ctx, counted)
	}
	return said, err
}
