package checkup

import (
	"strings"

	"innergate/core/config"
)

// ldapLines are what a directory's trust is about, in some lines.
func ldapLines(l *config.LDAPProvider) []string {
	lines := []string{"LDAP by TLS"}
	if l.Plain {
		lines[0] = "LDAP without TLS"
	}
	if len(l.Servers) > 0 {
		lines = append(lines, count(len(l.Servers), "server"))
	}
	switch {
	case l.Groups == nil:
		lines = append(lines, "no groups")
	case l.Groups.Depth > 0:
		lines = append(lines, "groups in groups")
	default:
		lines = append(lines, "groups")
	}
	return lines
}

// ldap finds what is set for a directory and is of no good.
func (c *collector) ldap(p *config.Provider) {
	l := p.LDAP
	if l.Plain {
		c.add(Finding{
			Code: "ldap.plain", Severity: Attention, Station: ProviderTrust, Title: "Passwords go to the directory without TLS",
			Detail: "That is set for a server on this machine.", Remedy: "Let the server have a certificate, and switch TLS on.",
		})
	}
	if l.BindDN == "" && l.Pattern == "" && len(l.Servers) > 0 {
		c.add(Finding{
			Code: "ldap.anonymous", Severity: Remark, Station: ProviderTrust, Title: "The gate asks the directory as nobody",
			Detail: "Everybody may read it then, or less is found than there is.",
			Remedy: "Have the directory's administrator make an entry for the gate that may search, and enter it here.",
		})
	}
	if l.Identifier != "" && changes[strings.ToLower(l.Identifier)] {
		c.add(Finding{
			Code: "ldap.identifier-changes", Severity: Attention, Station: Matching,
			Title:  "People are known by a value that may be given to somebody else",
			Detail: l.Identifier + " changes with a name, and may be used again for another person.",
			Remedy: "Take entryUUID, objectGUID or another value that stays the same.",
		})
	}
	if g := l.Groups; g != nil && strings.EqualFold(g.By, "memberUid") && l.Pattern == "" && !strings.Contains(
		strings.ToLower(l.Filter), "uid=") {
		c.add(Finding{
			Code: "ldap.member-uid", Severity: Remark, Station: MappingIn, Title: "Groups are looked for by uid, people by something else",
			Detail: "Groups name their members by uid; whoever has none is in no group.",
		})
	}
}

// changes are attributes that do not last as long as a person.
var changes = map[string]bool{"uid": true, "cn": true, "sn": true, "mail": true, "displayname": true, "samaccountname": true,
	"userprincipalname": true, "telephonenumber": true}
