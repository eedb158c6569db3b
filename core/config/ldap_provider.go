package config

import (
	"cmp"
	"fmt"
	"net"
	"net/url"
	"strings"

	"innergate/core/ldapdir"
)

// LDAPProvider holds the options of a directory on somebody's premises (RFC 4511). The password with which the gate searches is no
// part of it: it is kept sealed beside it, like other secrets.
type LDAPProvider struct {
	// Servers are asked in their order: ldaps://HOST, or ldap://HOST, where TLS is begun by StartTLS (RFC 4511, section 4.14).
	Servers []string `json:"servers,omitempty"`
	// Certificates are those of authorities, or of the servers themselves, that are believed in place of the system's.
	Certificates []Certificate `json:"certificates,omitempty"`
	// Plain leaves TLS out. It is for loopback addresses alone.
	Plain bool `json:"plain,omitempty"`
	// BindDN is as whom the gate searches; empty for nobody.
	BindDN string `json:"bindDn,omitempty"`
	// BindBy is how it proves that it may: by a password (the default), or by a certificate with its key (SASL EXTERNAL, RFC 4513,
	// section 5.2.3), which then is the secret that is kept.
	BindBy string `json:"bindBy,omitempty"`
	// Base is below which people are looked for, by Filter, in which {name} stands for what a person entered (RFC 4515).
	Base   string `json:"base,omitempty"`
	Filter string `json:"filter,omitempty"`
	// Pattern is a person's DN with {name} in it; where it is set, nothing is searched before the person's password is tried.
	Pattern string `json:"pattern,omitempty"`
	// Identifier is the attribute that stays the same for a person's life: entryUUID (the default), objectGUID or another one.
	Identifier string `json:"identifier,omitempty"`
	// Attributes are read besides the usual ones.
	Attributes []string `json:"attributes,omitempty"`
	// Groups says how a person's groups are found; without it none are.
	Groups *LDAPGroups `json:"groups,omitempty"`
	// LookUp says how values are taken from the directory for people who came another way; without it none are.
	LookUp *LDAPLookUp `json:"lookUp,omitempty"`
	// Reading says how people are read from the directory besides by signing in; without it none are.
	Reading *LDAPReading `json:"reading,omitempty"`
	// PasswordChange is must (who has to change the password does so at sign-in; the default) or off.
	PasswordChange string `json:"passwordChange,omitempty"`
	// Help tells people where to ask, on the page.
	Help           string `json:"help,omitempty"`
	TimeoutSeconds int    `json:"timeoutSeconds,omitempty"`
	// Connections is how many are open at most.
	Connections int `json:"connections,omitempty"`
}

// LDAPGroups says how groups are found.
type LDAPGroups struct {
	// By is memberOf (an attribute of the person), or the attribute by which a group names its members: member, uniqueMember (both
	// by DN) or memberUid (by the value of the person's uid).
	By string `json:"by"`
	// Base and Filter say where groups are looked for; empty for the person's base, and all that name a member.
	Base   string `json:"base,omitempty"`
	Filter string `json:"filter,omitempty"`
	// Name is the attribute that is a group's name; empty for cn.
	Name string `json:"name,omitempty"`
	// Depth is through how many groups in groups memberships are followed; 0 for none.
	Depth int `json:"depth,omitempty"`
}

// LDAPLookUp says how the entry of somebody who came another way is found.
type LDAPLookUp struct {
	// Filter has names of values that came in braces, such as (mail={email}).
	Filter string `json:"filter"`
	// KeepSeconds is how long what was found holds; 0 for not at all.
	KeepSeconds int `json:"keepSeconds,omitempty"`
	// Otherwise is what happens where the directory does not answer: refuse (the default) or without (the values are missing).
	Otherwise string `json:"otherwise,omitempty"`
}

// BindByCertificate has the gate's own entry proven by a certificate.
const BindByCertificate = "certificate"

// KindLDAP is a directory on somebody's premises.
const KindLDAP = "ldap"

// Defaults of an LDAP provider.
const (
	ldapFilter      = "(&(objectClass=inetOrgPerson)(uid={name}))"
	ldapIdentifier  = "entryUUID"
	ldapTimeout     = 5
	ldapConnections = 8
	mostDepth       = 10
)

// Server is one of the servers as it is dialled.
type Server struct {
	Host, Address string // a name for TLS, and host and port
	TLS           bool   // from the beginning
}

// ReadServer reads a server's address.
func ReadServer(text string) (Server, error) {
	u, err := url.Parse(text)
	if err != nil || u.Hostname() == "" || u.Scheme != "ldaps" && u.Scheme != "ldap" || u.User != nil || strings.Trim(u.Path, "/") != "" ||
		u.RawQuery != "" {
		return Server{}, fmt.Errorf("%q is no address of a directory; it is ldaps://HOST, or ldap://HOST with StartTLS, and a port if "+
			"it is another than usual", text)
	}
	usual := "389"
	if u.Scheme == "ldaps" {
		usual = "636"
	}
	return Server{u.Hostname(), net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), usual)), u.Scheme == "ldaps"}, nil
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

func (p *Provider) validateLDAP(v *validator) {
	if p.LDAP == nil {
		p.LDAP = &LDAPProvider{}
	}
	l := p.LDAP
	l.Filter, l.Identifier = cmp.Or(l.Filter, ldapFilter), cmp.Or(l.Identifier, ldapIdentifier)
	l.PasswordChange = cmp.Or(l.PasswordChange, "must")
	l.TimeoutSeconds, l.Connections = cmp.Or(l.TimeoutSeconds, ldapTimeout), cmp.Or(l.Connections, ldapConnections)
	v.allowed("ldap.bindBy", l.BindBy, "LDAPProvider.bindBy")
	if l.BindBy == BindByCertificate && l.Plain {
		v.add("ldap.bindBy", "without TLS no certificate can be shown")
	}
	v.ldapServers(l)
	v.certificates("ldap.certificates", l.Certificates)
	for field, dn := range map[string]string{"bindDn": l.BindDN, "base": l.Base} {
		if _, err := ldapdir.ParseDN(dn); err != nil {
			v.add("ldap."+field, "%s", err)
		}
	}
	if _, err := ldapdir.Filter(l.Filter, "x"); err != nil {
		v.add("ldap.filter", "%s", err)
	}
	if l.Pattern != "" {
		if _, err := ldapdir.Named(l.Pattern, "x"); err != nil {
			v.add("ldap.pattern", "%s", err)
		}
	}
	for _, name := range append([]string{l.Identifier}, l.Attributes...) {
		if !ldapdir.NameFits(name) {
			v.add("ldap.attributes", "%q is no name of an attribute", name)
		}
	}
	if len(l.Attributes) > 100 {
		v.add("ldap.attributes", "100 are the most")
	}
	v.allowed("ldap.passwordChange", l.PasswordChange, "LDAPProvider.passwordChange")
	if l.TimeoutSeconds < 1 || l.TimeoutSeconds > 30 {
		v.add("ldap.timeoutSeconds", "it must be between 1 and 30")
	}
	if l.Connections < 2 || l.Connections > 200 {
		v.add("ldap.connections", "it must be between 2 and 200: one searches while a password is tried on another")
	}
	if len(l.Help) > 500 {
		v.add("ldap.help", "it has more than 500 characters")
	}
	v.ldapGroups(l.Groups)
	v.ldapReading(l.Reading)
	if u := l.LookUp; u != nil {
		u.Otherwise = cmp.Or(u.Otherwise, "refuse")
		v.oneOf("ldap.lookUp.otherwise", u.Otherwise, Allowed["LDAPLookUp.otherwise"]...)
		if _, _, err := ldapdir.FilterOf(u.Filter, nil); err != nil {
			v.add("ldap.lookUp.filter", "%s", err)
		}
		if u.KeepSeconds < 0 || u.KeepSeconds > 24*60*60 {
			v.add("ldap.lookUp.keepSeconds", "it must be between 0 and a day")
		}
	}
}

func (v *validator) ldapServers(l *LDAPProvider) {
	if len(l.Servers) > 10 {
		v.add("ldap.servers", "ten are the most")
	}
	for i, text := range l.Servers {
		field := fmt.Sprintf("ldap.servers[%d]", i)
		s, err := ReadServer(text)
		if err != nil {
			v.add(field, "%s", err)
			continue
		}
		if l.Plain && (s.TLS || !loopback(s.Host)) {
			v.add(field, "without TLS passwords travel in clear; that is for ldap:// and loopback addresses alone")
		}
	}
}

func (v *validator) ldapGroups(g *LDAPGroups) {
	if g == nil {
		return
	}
	g.Name = cmp.Or(g.Name, "cn")
	v.oneOf("ldap.groups.by", g.By, Allowed["LDAPGroups.by"]...)
	if _, err := ldapdir.ParseDN(g.Base); err != nil {
		v.add("ldap.groups.base", "%s", err)
	}
	if g.Filter != "" {
		if err := ldapdir.CheckFilter(g.Filter); err != nil {
			v.add("ldap.groups.filter", "%s", err)
		}
	}
	if !ldapdir.NameFits(g.Name) {
		v.add("ldap.groups.name", "%q is no name of an attribute", g.Name)
	}
	if g.Depth < 0 || g.Depth > mostDepth {
		v.add("ldap.groups.depth", "it must be between 0 and %d", mostDepth)
	}
}

func (p *Provider) missingLDAP() []string {
	var out []string
	if p.LDAP == nil || len(p.LDAP.Servers) == 0 {
		return append(out, "the address of a server is missing")
	}
	if p.LDAP.Base == "" && p.LDAP.Pattern == "" {
		out = append(out, "the base below which people are looked for is missing")
	}
	return out
}
