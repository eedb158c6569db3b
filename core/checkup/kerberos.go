package checkup

import (
	"slices"
	"strings"

	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/ldapdir"
)

// kerberosLines are what a realm's trust is about, in some lines.
func kerberosLines(k *config.KerberosProvider) []string {
	return []string{"Kerberos, AES", strings.Join(k.Realms, ", ")}
}

// kerberos finds what is set for a realm and is of no good.
func (c *collector) kerberos(p *config.Provider) {
	for _, r := range p.Kerberos.Realms {
		if r != strings.ToUpper(r) {
			c.add(Finding{
				Code: "kerberos.realm-case", Severity: Remark, Station: ProviderTrust, Title: "A realm is written in small letters",
				Detail: r + " is another realm than " + strings.ToUpper(r) + ", and most are written in capitals.",
			})
		}
	}
	if len(p.Mapping) > 0 && !slices.ContainsFunc(p.Mapping, fromDirectory) {
		c.add(Finding{
			Code: "kerberos.only-names", Severity: Remark, Station: MappingIn, Title: "People get nothing but their names",
			Detail: "A ticket says a name and a realm, and neither mail nor groups.",
			Remedy: "Take further values from a directory: a rule from directory:NAME.attribute.",
		})
	}
}

// fromDirectory says whether a rule takes something from a directory.
func fromDirectory(r claims.Rule) bool {
	return slices.ContainsFunc(r.From, func(name string) bool { return strings.HasPrefix(name, ldapdir.FromDirectory) })
}

// Realm finds what a realm needs beside its own values: a keytab, and a route that leads to it.
func Realm(p *config.Provider, keytabs int, routes *access.Routes) []Finding {
	if len(p.Kerberos.Realms) == 0 {
		return nil
	}
	var out []Finding
	if keytabs == 0 {
		out = append(out, Finding{
			Code: "kerberos.no-keytab", Severity: Attention, Station: ProviderTrust, Title: "No keytab is held",
			Detail: "No ticket can be opened without one.",
			Remedy: "Have it made as the exchange sheet says, and enter it.",
		})
	}
	if !slices.ContainsFunc(routes.Rules, func(r access.Route) bool { return slices.Contains(r.To, p.Slug) }) {
		out = append(out, Finding{
			Code: "kerberos.no-route", Severity: Attention, Station: ProviderTrust, Title: "No route leads to it",
			Detail: "Tickets are tried only where a route leads here, so that nobody outside sees a window that asks for a password.",
			Remedy: "Make a route from the network of its machines (Access, Routes), or from browsers that came this way the last time.",
		})
	}
	return out
}
