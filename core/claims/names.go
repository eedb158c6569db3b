package claims

import (
	"slices"
	"strings"
	"unicode"
)

// Attribute is one thing with its standard names. The table is what presets, suggestions and explanations speak from.
type Attribute struct {
	// Claim is the name inside the gate: the OpenID Connect standard claim where there is one (OpenID Connect Core 1.0,
	// section 5.1).
	Claim string `json:"claim"`
	// Words say what it is.
	Words string `json:"words"`
	// OID is the object identifier that SAML's X.500/LDAP profile sends as the name, without urn:oid:.
	OID string `json:"oid,omitempty"`
	// Basic is the LDAP name that goes with it (inetOrgPerson, eduPerson, SCHAC).
	Basic string `json:"basic,omitempty"`
	// URI is the WS-style name.
	URI string `json:"uri,omitempty"`
	// Also are other names under which it is met.
	Also []string `json:"also,omitempty"`
	// Many is set where several values are usual.
	Many bool `json:"many,omitempty"`
}

const identityClaims = "http://schemas.xmlsoap.org/ws/2005/05/identity/claims/"

// attributes is the one table of names, the most useful things first.
var attributes = []Attribute{
	{
		Claim: "preferred_username",
		Words: "user name",
		OID:   "0.9.2342.19200300.100.1.1",
		Basic: "uid",
		URI:   identityClaims + "name",
		Also:  []string{"username", "user", "login", "account", "userid", "user_name"},
	},
	{
		Claim: "email",
		Words: "mail address",
		OID:   "0.9.2342.19200300.100.1.3",
		Basic: "mail",
		URI:   identityClaims + "emailaddress",
		Also:  []string{"e-mail", "emailAddress", "mailAddress", "rfc822Mailbox", "user_email"},
	},
	{
		Claim: "given_name",
		Words: "given name",
		OID:   "2.5.4.42",
		Basic: "givenName",
		URI:   identityClaims + "givenname",
		Also:  []string{"first_name", "firstName", "forename", "gn"},
	},
	{
		Claim: "family_name",
		Words: "family name",
		OID:   "2.5.4.4",
		Basic: "sn",
		URI:   identityClaims + "surname",
		Also:  []string{"last_name", "lastName", "familyName"},
	},
	{
		Claim: "name",
		Words: "full name",
		OID:   "2.16.840.1.113730.3.1.241",
		Basic: "displayName",
		Also: []string{
			"display_name", "fullName", "full_name", "common_name", "cn", "urn:oid:2.5.4.3",
			"http://schemas.xmlsoap.org/claims/CommonName",
		},
	},
	{
		Claim: "groups",
		Words: "groups",
		OID:   "1.3.6.1.4.1.5923.1.5.1.1",
		Basic: "isMemberOf",
		Also:  []string{"memberOf", "group", "roles", "role", "member_of", "groupMembership", "http://schemas.xmlsoap.org/claims/Group"},
		Many:  true,
	},
	{
		Claim: "employee_number",
		Words: "employee number",
		OID:   "2.16.840.1.113730.3.1.3",
		Basic: "employeeNumber",
		Also:  []string{"employee_id", "personnelNumber", "staff_id", "staffNumber"},
	},
	{Claim: "title", Words: "job title", OID: "2.5.4.12", Basic: "title", Also: []string{"job_title", "position"}},
	{
		Claim: "department",
		Words: "department",
		OID:   "2.16.840.1.113730.3.1.2",
		Basic: "departmentNumber",
		Also:  []string{"department", "ou", "urn:oid:2.5.4.11", "unit"},
	},
	{
		Claim: "organization",
		Words: "organisation",
		OID:   "2.5.4.10",
		Basic: "o",
		Also:  []string{"organization", "organisation", "organizationName", "company"},
	},
	{
		Claim: "phone_number",
		Words: "telephone number",
		OID:   "2.5.4.20",
		Basic: "telephoneNumber",
		URI:   identityClaims + "homephone",
		Also:  []string{"phone", "telephone"},
	},
	{
		Claim: "mobile_number",
		Words: "mobile number",
		OID:   "0.9.2342.19200300.100.1.41",
		Basic: "mobile",
		URI:   identityClaims + "mobilephone",
		Also:  []string{"mobile_phone", "cell"},
	},
	{Claim: "locale", Words: "language", OID: "2.16.840.1.113730.3.1.39", Basic: "preferredLanguage", Also: []string{"language", "lang"}},
	{
		Claim: "affiliation",
		Words: "affiliation",
		OID:   "1.3.6.1.4.1.5923.1.1.1.1",
		Basic: "eduPersonAffiliation",
		Also:  []string{"person_type", "userType", "employeeType"},
		Many:  true,
	},
	{
		Claim: "scoped_affiliation",
		Words: "affiliation with its scope",
		OID:   "1.3.6.1.4.1.5923.1.1.1.9",
		Basic: "eduPersonScopedAffiliation",
		Many:  true,
	},
	{
		Claim: "principal_name",
		Words: "principal name, user name with its scope",
		OID:   "1.3.6.1.4.1.5923.1.1.1.6",
		Basic: "eduPersonPrincipalName",
		URI:   identityClaims + "upn",
		Also:  []string{"eppn", "upn"},
	},
	{
		Claim: "entitlements",
		Words: "entitlements",
		OID:   "1.3.6.1.4.1.5923.1.1.1.7",
		Basic: "eduPersonEntitlement",
		Also:  []string{"entitlement", "entitlements"},
		Many:  true,
	},
	{Claim: "assurance", Words: "assurance", OID: "1.3.6.1.4.1.5923.1.1.1.11", Basic: "eduPersonAssurance", Many: true},
	{Claim: "subject_id", Words: "lasting identifier", Basic: "subject-id", Also: []string{"urn:oasis:names:tc:SAML:attribute:subject-id"}},
	{
		Claim: "pairwise_id",
		Words: "lasting identifier for one application",
		Basic: "pairwise-id",
		Also: []string{
			"urn:oasis:names:tc:SAML:attribute:pairwise-id",
			"eduPersonTargetedID",
			"urn:oid:1.3.6.1.4.1.5923.1.1.1.10",
			identityClaims + "privatepersonalidentifier",
		},
	},
	{Claim: "email_verified", Words: "whether the mail address is proven", Also: []string{"mail_verified"}},
	{Claim: "middle_name", Words: "middle name", Basic: "middleName", Also: []string{"initials", "urn:oid:2.5.4.43"}},
	{Claim: "nickname", Words: "nickname", Basic: "eduPersonNickname", OID: "1.3.6.1.4.1.5923.1.1.1.2"},
	{
		Claim: "birthdate",
		Words: "date of birth",
		OID:   "1.3.6.1.4.1.25178.1.2.3",
		Basic: "schacDateOfBirth",
		URI:   identityClaims + "dateofbirth",
		Also:  []string{"date_of_birth", "dob"},
	},
	{Claim: "gender", Words: "gender", URI: identityClaims + "gender", Basic: "schacGender"},
	{Claim: "website", Words: "web page", URI: identityClaims + "webpage", Basic: "labeledURI", OID: "1.3.6.1.4.1.250.1.57"},
	{Claim: "picture", Words: "picture", Basic: "jpegPhoto", OID: "0.9.2342.19200300.100.1.60", Also: []string{"photo", "avatar"}},
	{Claim: "zoneinfo", Words: "time zone", Also: []string{"timezone", "time_zone"}},
	{Claim: "street_address", Words: "street", OID: "2.5.4.9", Basic: "street", URI: identityClaims + "streetaddress"},
	{Claim: "locality", Words: "town", OID: "2.5.4.7", Basic: "l", URI: identityClaims + "locality", Also: []string{"city", "town"}},
	{
		Claim: "postal_code",
		Words: "postal code",
		OID:   "2.5.4.17",
		Basic: "postalCode",
		URI:   identityClaims + "postalcode",
		Also:  []string{"zip"},
	},
	{Claim: "country", Words: "country", OID: "2.5.4.6", Basic: "c", URI: identityClaims + "country", Also: []string{"countryName", "co"}},
}

// Attributes is the table of standard names.
func Attributes() []Attribute { return slices.Clone(attributes) }

// Names lists every name of the attribute, the standards' own first.
func (a Attribute) Names() []string {
	var out []string
	if a.OID != "" {
		out = append(out, "urn:oid:"+a.OID)
	}
	for _, n := range append([]string{a.Basic, a.Claim, a.URI}, a.Also...) {
		if n != "" && !slices.Contains(out, n) {
			out = append(out, n)
		}
	}
	return out
}

// byName and byFolded find the attribute that a name stands for: exactly, or but for case, punctuation and what stands
// before the last part of a URI.
var byName, byFolded = func() (exact, folded map[string]*Attribute) {
	exact, folded = map[string]*Attribute{}, map[string]*Attribute{}
	for i := range attributes {
		a := &attributes[i]
		for n, name := range a.Names() {
			if exact[name] == nil {
				exact[name] = a
			}
			if f := fold(name); folded[f] == nil && (n < 4 || len(f) > 1) {
				folded[f] = a
			}
		}
	}
	return exact, folded
}()

// fold takes a name down to what people mean by it: the last part of a URI, in small letters and digits. OIDs stay
// whole.
func fold(name string) string {
	if strings.HasPrefix(name, "urn:oid:") || name != "" && strings.Trim(name, "0123456789.") == "" {
		return "urn:oid:" + strings.TrimPrefix(name, "urn:oid:")
	}
	if strings.Contains(name, "://") || strings.HasPrefix(name, "urn:") {
		name = name[strings.LastIndexAny(strings.TrimRight(name, "/:#"), "/:#")+1:]
	}
	return strings.Map(func(r rune) rune {
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			return -1
		}
		return unicode.ToLower(r)
	}, name)
}

// Known finds what a name stands for, and whether it is exactly a name of the table.
func Known(name string) (a *Attribute, exactly bool) {
	if a := byName[name]; a != nil {
		return a, true
	}
	return byFolded[fold(name)], false
}

// InWords is what an attribute is called in plain words.
func InWords(name string) string {
	if a, _ := Known(name); a != nil {
		return a.Words
	}
	return name
}
