package exchange

import (
	"context"
	"fmt"
	"strings"

	"innergate/api"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/gate/partners"
)

// ldapSheet is what the administrator of a directory sets up for the gate, with the commands.
func (g *Room) ldapSheet(ctx context.Context, p *partners.Provider) (*api.ExchangeSheet, error) {
	l := p.LDAP
	entry, base := cmpText(l.BindDN, "cn=inner-gate,ou=services,"+l.Base), cmpText(l.Base, "the base of your people")
	s := &api.ExchangeSheet{
		Title:      "For the administrator of " + p.Name,
		Role:       "We ask the directory by LDAP; " + p.Name + " answers who somebody is.",
		Metadata:   g.PublicURL,
		Attributes: []api.SheetAttribute{},
		Downloads:  []api.Download{},
	}
	s.Values = []api.Value{
		text("Entry of ours", "as whom we bind and search; it needs no other rights", entry, "entry"),
		text("Below which we search", "also called base, search root", base, "base"),
		text("Filter", "{name} stands for what a person enters; exactly one entry must be found", l.Filter, "filter"),
		text("Identifier", "must stay the same for a person's life, and be readable to our entry", l.Identifier, "identifier"),
		note("What we do", "", "search as our entry, then bind as the person with the password that was entered; "+
			"nothing is written, except "+
			"that a person who must change the password does so, as that person"),
		note("TLS", "", "LDAPS, or StartTLS before anything else is said; TLS 1.2 at least"),
		note("Passwords", "", "are neither kept nor written down by us"),
		text("How many connections", "at one time", fmt.Sprint(l.Connections), "connections"),
	}
	if l.BindBy == config.BindByCertificate {
		s.Values = append(s.Values, note("How we prove it", "", "by a certificate (SASL EXTERNAL); map its name to our "+
			"entry, in OpenLDAP by "+
			"authz-regexp, and let the server ask clients for one (TLSVerifyClient)"))
	}
	if how := l.Groups; how != nil {
		s.Values = append(s.Values, text("Groups", "found by this attribute; it must be readable to our entry", how.By, "groups"))
	}
	for _, r := range p.Whole {
		if len(r.From) == 0 || r.From[0] == "groups" {
			continue
		}
		meaning := claims.InWords(r.Set)
		if len(r.From) > 1 {
			meaning += ", or as " + strings.Join(r.From[1:], ", ")
		}
		s.Attributes = append(s.Attributes, api.SheetAttribute{Name: r.From[0], Required: r.Required, Meaning: meaning,
			Sample: claims.Sample().First(r.Set)})
	}
	s.Steps = stepsFor(s, append(ldapSteps(entry, base), p.Steps...))
	s.Markdown = sheetText(s, "We want")
	var err error
	s.HandedOut, err = g.handOuts(ctx, "provider", p.ID, factsOf(s))
	return s, err
}

// ldapSteps are the commands with which an administrator lets us in.
func ldapSteps(entry, base string) []string {
	return []string{
		"Make an entry for us with a long password that does not expire by itself, and give us the password by another way than this " +
			"sheet. With LDIF: dn: " + entry + " / objectClass: simpleSecurityObject / objectClass: organizationalRole / userPassword: …",
		"Let it read people and groups, and nothing else. In OpenLDAP: access to dn.subtree=\"" + base + "\" by dn.exact=\"" + entry +
			"\" read; with userPassword: by anonymous auth, by self write. In a Windows domain an ordinary user " +
			"account may read by default: " +
			"New-ADUser inner-gate -AccountPassword (Read-Host -AsSecureString) -Enabled $true",
		"Send us the certificate of the authority that signed the server's. It shows itself: openssl s_client -showcerts -connect HOST:636",
		"Tell us the limits of searches and of connections for this entry, if there are some.",
	}
}
