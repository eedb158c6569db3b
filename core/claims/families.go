package claims

// Family is a usual family of attribute names, with the outbound mapping that sends the profile under them.
type Family struct {
	Name    string  `json:"name"`
	Words   string  `json:"words"`
	Mapping Mapping `json:"mapping"`
}

const (
	formatURI   = "urn:oasis:names:tc:SAML:2.0:attrname-format:uri"
	formatBasic = "urn:oasis:names:tc:SAML:2.0:attrname-format:basic"
)

// sentUsually are the attributes that most applications ask for.
var sentUsually = []string{"preferred_username", "email", "given_name", "family_name", "name", "groups"}

// Families are the usual families of names for a SAML application's attributes.
func Families() []Family {
	return []Family{
		{"oid", "object identifiers, as the X.500/LDAP profile of SAML has them (urn:oid:…)", family(func(a *Attribute) Rule {
			return Rule{Set: "urn:oid:" + a.OID, FriendlyName: a.Basic, NameFormat: formatURI}
		})},
		{"basic", "plain names, as directories have them (uid, mail, givenName, sn)", family(func(a *Attribute) Rule {
			return Rule{Set: a.Basic, NameFormat: formatBasic}
		})},
		{"uri", "claim names of schemas.xmlsoap.org", family(func(a *Attribute) Rule {
			switch {
			case a.URI != "":
				return Rule{Set: a.URI, NameFormat: formatURI}
			case a.Claim == "name":
				return Rule{Set: "http://schemas.xmlsoap.org/claims/CommonName", NameFormat: formatURI}
			}
			return Rule{Set: "http://schemas.xmlsoap.org/claims/Group", NameFormat: formatURI}
		})},
		{"claims", "the names of OpenID Connect's claims (email, given_name)", family(func(a *Attribute) Rule {
			return Rule{Set: a.Claim, NameFormat: formatBasic}
		})},
	}
}

func family(named func(*Attribute) Rule) Mapping {
	var m Mapping
	for _, claim := range sentUsually {
		a, _ := Known(claim)
		r := named(a)
		r.From = Names{claim}
		m = append(m, r)
	}
	return m
}
