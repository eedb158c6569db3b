package watch

import (
	"bytes"
	"encoding/base64"
	"regexp"
	"slices"
	"strings"

	"innergate/api"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/difference"
	"innergate/core/kerberos"
	"innergate/core/saml"
	"innergate/gate/ground"
	"innergate/gate/partners"
)

// realmText is a realm alone, as it is said.
var realmText = regexp.MustCompile(`^[A-Z0-9][A-Z0-9-]*(\.[A-Z0-9][A-Z0-9-]*)+$`)

// defaultRealm is where the configuration of a realm's machines names it.
var defaultRealm = regexp.MustCompile(`(?m)^\s*default_realm\s*=\s*(\S+)\s*$`)

// looksKerberos says whether a text is about a realm: its name, the configuration of its machines, or a keytab.
func looksKerberos(text []byte) bool {
	return realmText.Match(bytes.TrimSpace(text)) || defaultRealm.Match(text) || keytabIn(text) != nil
}

// keytabIn is a keytab that came as it is or in base64, or nil.
func keytabIn(text []byte) []byte {
	if bytes.HasPrefix(text, []byte{5, 2}) || bytes.HasPrefix(text, []byte{5, 1}) {
		return text
	}
	data, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(string(text)), ""))
	if err != nil || !bytes.HasPrefix(data, []byte{5, 2}) {
		return nil
	}
	return data
}

// understandKerberos takes a realm into a provider: its name, from the configuration of its machines, or as a keytab says it. A
// keytab itself is a secret, and is entered apart.
func (g *Room) understandKerberos(p config.Provider, text []byte) (*api.Understood, error) {
	before := difference.Flat(p)
	u := &api.Understood{Entities: []api.EntityChoice{}, Proposed: map[string]string{}, Problems: []saml.Problem{}}
	if p.Kerberos == nil {
		p = config.Provider{Kind: config.KindKerberos, Slug: p.Slug, Name: p.Name, Kerberos: &config.KerberosProvider{}}
	}
	add := func(realm string) {
		if !slices.Contains(p.Kerberos.Realms, realm) {
			p.Kerberos.Realms = append(p.Kerberos.Realms, realm)
		}
	}
	name := strings.TrimSpace(string(text))
	switch data := keytabIn(text); {
	case data != nil:
		tab, err := kerberos.ReadKeytab(data, g.partners.Hosts(&partners.Provider{Provider: p}))
		if err != nil {
			return nil, ground.BadRequest("keytab-unfit", "This keytab is of no use: "+err.Error()+".",
				"Have it made as the exchange sheet says.")
		}
		for _, k := range tab.Keys() {
			if k.Unfit == "" {
				add(k.Realm)
			}
		}
		u.Problems = append(u.Problems, saml.Problem{Code: "kerberos.keytab", Message: "This is a keytab, " + tab.Summary() +
			". Its realm is taken; the keytab itself is a secret, and is entered on the provider's page once this is taken."})
	case realmText.MatchString(name):
		add(name)
	default:
		found := defaultRealm.FindStringSubmatch(string(text))
		if found == nil {
			return nil, ground.BadRequest("not-kerberos", "This is neither a realm, nor the configuration of its machines, nor a keytab.",
				"Enter the realm, such as SALTMERE.EXAMPLE.")
		}
		add(found[1])
	}
	if p.Name == "" {
		p.Name = p.Kerberos.Realms[0]
	}
	if p.Slug == "" {
		p.Slug = config.Slug(p.Name)
	}
	if len(p.Mapping) == 0 {
		p.Mapping = claims.OfRealm()
	}
	if err := p.Validate(); err != nil {
		return nil, ground.Invalid(err)
	}
	u.Provider, u.Changes = &p, ground.Changes(before, difference.Flat(p))
	return u, nil
}
