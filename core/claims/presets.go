package claims

// Standard is the inbound mapping that a new SAML provider starts with: for each attribute of the profile, the names
// under which it is usually sent, standard ones first (eduPerson and inetOrgPerson OIDs, SAML basic names, WS-style
// URIs, OpenID Connect claims).
func Standard() Mapping {
	const ws, wsOlder = "http://schemas.xmlsoap.org/ws/2005/05/identity/claims/", "http://schemas.xmlsoap.org/claims/"
	return Mapping{
		{
			Set:  "preferred_username",
			From: Names{"urn:oid:0.9.2342.19200300.100.1.1", "uid", "preferred_username", "username", ws + "name"},
		},
		{
			Set:   "email",
			From:  Names{"urn:oid:0.9.2342.19200300.100.1.3", "mail", "email", ws + "emailaddress"},
			Steps: []Step{{Word: "trim"}, {Word: "first"}},
		},
		{Set: "given_name", From: Names{"urn:oid:2.5.4.42", "givenName", "given_name", ws + "givenname"}, Steps: []Step{{Word: "first"}}},
		{Set: "family_name", From: Names{"urn:oid:2.5.4.4", "sn", "family_name", ws + "surname"}, Steps: []Step{{Word: "first"}}},
		{
			Set:   "name",
			From:  Names{"urn:oid:2.16.840.1.113730.3.1.241", "displayName", "name", "urn:oid:2.5.4.3", "cn", wsOlder + "CommonName"},
			Steps: []Step{{Word: "first"}},
		},
		{Set: "groups", From: Names{"urn:oid:1.3.6.1.4.1.5923.1.5.1.1", "memberOf", "groups", "isMemberOf", wsOlder + "Group"}},
	}
}

// Outgoing is the outbound mapping that a new SAML application starts with: what most applications ask for, under names
// that they understand.
func Outgoing() Mapping {
	const uri = "urn:oasis:names:tc:SAML:2.0:attrname-format:uri"
	return Mapping{
		{Set: "urn:oid:0.9.2342.19200300.100.1.3", From: Names{"email"}, FriendlyName: "mail", NameFormat: uri},
		{Set: "urn:oid:2.16.840.1.113730.3.1.241", From: Names{"name"}, FriendlyName: "displayName", NameFormat: uri},
	}
}

// samples are made-up values, to show what an attribute looks like.
var samples = Bag{
	"preferred_username": {
		"mvoss",
	}, "email": {"mira.voss@saltmere.example"}, "given_name": {"Mira"}, "family_name": {"Voss"}, "name": {"Mira Voss"},
	"groups": {"ferry-deckhands"}, "sub": {"mvoss"},
	"phone_number": {"+44 1632 960001"}, "locale": {"en"},
}

// Sample is a made-up profile, to show what a mapping gives.
func Sample() Bag {
	out := Bag{}
	for name, values := range samples {
		out[name] = append([]string(nil), values...)
	}
	return out
}

// Sample is a value that an outbound rule would give, or nothing where that can't be told.
func (r Rule) Sample() string { return r.SampleOf(Sample()) }

// SampleOf is Sample for a made-up profile of one's own.
func (r Rule) SampleOf(profile Bag) string {
	c, err := Mapping{r}.Compile()
	if err != nil {
		return ""
	}
	out, err := c.Apply(profile, "out", nil)
	if err != nil || len(out) == 0 || len(out[0].Values) == 0 {
		return ""
	}
	return out[0].Values[0]
}

// OutgoingOIDC is the outbound mapping that a new OpenID Connect application starts with: the profile under the
// standard's own names. Which of them go out is up to the scopes.
func OutgoingOIDC() Mapping {
	var m Mapping
	for _, name := range []string{"name", "given_name", "family_name", "preferred_username", "email", "groups"} {
		m = append(m, Rule{Set: name, From: Names{name}})
	}
	return m
}

// IncomingOIDC is the inbound mapping that a new OpenID provider starts with.
func IncomingOIDC() Mapping {
	return Mapping{
		{
			Set:  "preferred_username",
			From: Names{"preferred_username", "email"},
		}, {Set: "email", From: Names{"email"}, Steps: []Step{{Word: "first"}}},
		{
			Set:  "given_name",
			From: Names{"given_name"},
		}, {Set: "family_name", From: Names{"family_name"}}, {Set: "name", From: Names{"name"}},
		{Set: "groups", From: Names{"groups", "roles"}},
	}
}

// OfRealm is the inbound mapping that a new Kerberos provider starts with: a ticket says no more than a name and its realm.
func OfRealm() Mapping {
	return Mapping{
		{Set: "preferred_username", From: Names{"name"}},
		{Set: "name", From: Names{"name"}},
	}
}

// OfDirectory is the inbound mapping that a new LDAP provider starts with: the usual attributes of people (RFC 4519, RFC 2798) and
// of a widespread directory.
func OfDirectory() Mapping {
	return Mapping{
		{Set: "preferred_username", From: Names{"uid", "sAMAccountName", "userPrincipalName"}, Steps: []Step{{Word: "first"}}},
		{Set: "email", From: Names{"mail"}, Steps: []Step{{Word: "trim"}, {Word: "first"}}},
		{Set: "given_name", From: Names{"givenName"}, Steps: []Step{{Word: "first"}}},
		{Set: "family_name", From: Names{"sn"}, Steps: []Step{{Word: "first"}}},
		{Set: "name", From: Names{"displayName", "cn"}, Steps: []Step{{Word: "first"}}},
		{Set: "groups", From: Names{"groups"}},
	}
}
