package oidc

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"innergate/core/claims"
	"innergate/core/keys"
)

// scopeClaims is OpenID Connect Core 1.0, section 5.4; "groups" is our own.
var scopeClaims = map[string][]string{
	"profile": {
		"name",
		"family_name",
		"given_name",
		"middle_name",
		"nickname",
		"preferred_username",
		"profile",
		"picture",
		"website",
		"gender",
		"birthdate",
		"zoneinfo",
		"locale",
		"updated_at",
	},
	"email": {"email", "email_verified"},
	"address": {
		"address.formatted",
		"address.street_address",
		"address.locality",
		"address.region",
		"address.postal_code",
		"address.country",
	},
	"phone":  {"phone_number", "phone_number_verified"},
	"groups": {"groups"},
}

// ClaimsOf lists the claims that scopes ask for.
func ClaimsOf(scopes []string) []string {
	var out []string
	for _, s := range scopes {
		out = append(out, scopeClaims[s]...)
	}
	return out
}

// ScopeOf is the standard scope that asks for a claim, empty for a claim that is the application's own.
func ScopeOf(claim string) string {
	for scope, list := range scopeClaims {
		if slices.Contains(list, claim) {
			return scope
		}
	}
	return ""
}

// InScopes says whether a claim belongs to any of the standard scopes; one that does not is the application's own.
func InScopes(claim string) bool {
	return ScopeOf(claim) != ""
}

// reserved are the claims that the protocol sets. No mapping sets them.
var reserved = []string{
	"iss",
	"sub",
	"aud",
	"exp",
	"nbf",
	"iat",
	"jti",
	"azp",
	"nonce",
	"auth_time",
	"acr",
	"amr",
	"sid",
	"at_hash",
	"c_hash",
	"s_hash",
	"events",
	"client_id",
	"scope",
	"cnf",
	"act",
	"may_act",
}

// Reserved says whether a claim is the protocol's own.
func Reserved(name string) bool { return slices.Contains(reserved, name) }

var (
	flags   = []string{"email_verified", "phone_number_verified"}
	numbers = []string{"updated_at"}
	lists   = []string{"groups", "roles", "entitlements"} // RFC 9068, section 7.2.1, for the last two
)

// Object writes mapped values as claims: the standard's own in their types (OpenID Connect Core 1.0, section 5.1),
// groups and roles always as a list, another as a string where there is one value and as a list where there are more,
// and address.locality inside address. What is reserved, or not of its type, is left out and named.
func Object(values claims.Bag) (object map[string]any, left []string) {
	object = map[string]any{}
	for _, name := range values.Names() {
		v := values[name]
		inner, isAddress := strings.CutPrefix(name, "address.")
		number, notNumber := strconv.ParseInt(v[0], 10, 64)
		switch {
		case Reserved(name),
			slices.Contains(flags, name) && v[0] != "true" && v[0] != "false",
			slices.Contains(numbers, name) && notNumber != nil:
			left = append(left, name)
		case slices.Contains(flags, name):
			object[name] = v[0] == "true"
		case slices.Contains(numbers, name):
			object[name] = number
		case slices.Contains(lists, name):
			object[name] = v
		case isAddress:
			address, ok := object["address"].(map[string]any)
			if !ok {
				address = map[string]any{}
				object["address"] = address
			}
			address[inner] = v[0]
		case len(v) == 1:
			object[name] = v[0]
		default:
			object[name] = v
		}
	}
	return object, left
}

// Issued is what an ID token of ours says (OpenID Connect Core 1.0, section 2).
type Issued struct {
	Issuer, Subject, ClientID string
	Nonce                     string
	Now                       time.Time
	Life                      time.Duration
	AuthTime                  time.Time // zero to leave it out
	ACR                       string
	AMR                       []string
	SessionID                 string
	// AccessToken, if set, is bound to the ID token by at_hash; Algorithm is the one that signs.
	AccessToken, Algorithm string
	// Values are the person's claims; they never replace one of the above.
	Values map[string]any
}

// Claims makes the token's content.
func (i Issued) Claims() map[string]any {
	out := map[string]any{}
	for name, value := range i.Values {
		if !Reserved(name) {
			out[name] = value
		}
	}
	out["iss"], out["sub"], out["aud"] = i.Issuer, i.Subject, i.ClientID
	out["iat"], out["exp"] = i.Now.Unix(), i.Now.Add(i.Life).Unix()
	out["jti"] = keys.RandomID()
	for name, value := range map[string]string{"nonce": i.Nonce, "acr": i.ACR, "sid": i.SessionID} {
		if value != "" {
			out[name] = value
		}
	}
	if !i.AuthTime.IsZero() {
		out["auth_time"] = i.AuthTime.Unix()
	}
	if len(i.AMR) > 0 {
		out["amr"] = i.AMR
	}
	if i.AccessToken != "" {
		out["at_hash"] = HalfHash(i.Algorithm, i.AccessToken)
	}
	return out
}

// Reply is what goes back to an application by way of the browser: a code, or an error.
type Reply struct {
	Code               string
	Error, Description string
	Issuer             string // always sent (RFC 9207)
}

// Fields are the reply's parameters for a request, in a fixed order.
func (r Reply) Fields(q *Request) [][2]string {
	var out [][2]string
	for _, f := range [][2]string{{"code", r.Code}, {"error", r.Error}, {"error_description", Printable(r.Description)},
		{"state", q.State}, {"iss", r.Issuer}} {
		if f[1] != "" {
			out = append(out, f)
		}
	}
	return out
}

// Location is the address with the reply in its query; what the redirect URI's own query holds is kept (RFC 6749,
// section 4.1.2).
func (r Reply) Location(q *Request) (string, error) {
	u, err := url.Parse(q.RedirectURI)
	if err != nil {
		return "", fmt.Errorf("the redirect URI can't be read as an address")
	}
	var parts []string
	if u.RawQuery != "" {
		parts = append(parts, u.RawQuery)
	}
	for _, f := range r.Fields(q) {
		parts = append(parts, url.QueryEscape(f[0])+"="+url.QueryEscape(f[1]))
	}
	u.RawQuery = strings.Join(parts, "&")
	return u.String(), nil
}

// Printable keeps what an error description may hold: ASCII without quotation marks and backslashes (RFC 6749, section
// 4.1.2.1).
func Printable(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '"':
			return '\''
		case r < ' ' || r > '~' || r == '\\':
			return -1
		}
		return r
	}, s)
}
