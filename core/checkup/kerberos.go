package checkup

import (
	"slices"
	"strings"

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

// Keytabs finds that a realm has no keytab.
func Keytabs(p *config.Provider, held int) []Finding {
	if held > 0 || len(p.Kerberos.Realms) == 0 {
		return nil
	}
	return []Finding{{
		Code: "kerberos.no-keytab", Severity: Attention, Station: ProviderTrust, Title: "No keytab is held",
		Detail: "No ticket can be opened without one.",
		Remedy: "Have it made as the exchange sheet says, and enter it.",
	}}
}
