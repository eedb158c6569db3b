package oidc

import (
	"fmt"
	"slices"
	"strings"

	"innergate/core/address"
	"innergate/core/explain"
	"innergate/core/jose"
)

// Issuers is whose tokens are taken: the provider's own issuer, or, for a provider whose issuer differs by directory, a
// list. There is no "any".
type Issuers struct {
	// Issuer is what stands in the discovery document, which may hold a mark in braces for the directory.
	Issuer string
	// Accepted, if not empty, lists the issuers that ID tokens and answers may name instead.
	Accepted []string
}

// Accepts compares exactly (OpenID Connect Core 1.0, section 3.1.3.7, rule 2).
func (i Issuers) Accepts(issuer string) bool {
	if len(i.Accepted) > 0 {
		return slices.Contains(i.Accepted, issuer)
	}
	return issuer != "" && issuer == i.Issuer && !strings.ContainsAny(issuer, "{}")
}

// Names lists the issuers for people.
func (i Issuers) Names() string {
	if len(i.Accepted) > 0 {
		return strings.Join(i.Accepted, " or ")
	}
	if strings.ContainsAny(i.Issuer, "{}") {
		return "one of the accepted issuers (none is entered)"
	}
	return i.Issuer
}

// Discovery is what an OpenID provider says of itself (OpenID Connect Discovery 1.0, section 3; RFC 8414, section 2).
type Discovery struct {
	Issuer             string   `json:"issuer"`
	Authorization      string   `json:"authorizationEndpoint,omitempty"`
	Token              string   `json:"tokenEndpoint,omitempty"`
	UserInfo           string   `json:"userinfoEndpoint,omitempty"`
	Keys               string   `json:"jwksUri,omitempty"`
	EndSession         string   `json:"endSessionEndpoint,omitempty"`
	Revocation         string   `json:"revocationEndpoint,omitempty"`
	Introspection      string   `json:"introspectionEndpoint,omitempty"`
	Scopes             []string `json:"scopes,omitempty"`
	ResponseTypes      []string `json:"responseTypes,omitempty"`
	ResponseModes      []string `json:"responseModes,omitempty"`
	GrantTypes         []string `json:"grantTypes,omitempty"`
	ACRValues          []string `json:"acrValues,omitempty"`
	SubjectTypes       []string `json:"subjectTypes,omitempty"`
	IDTokenAlgorithms  []string `json:"idTokenAlgorithms,omitempty"`
	UserInfoAlgorithms []string `json:"userinfoAlgorithms,omitempty"`
	AuthMethods        []string `json:"authMethods,omitempty"`
	AuthAlgorithms     []string `json:"authAlgorithms,omitempty"`
	ChallengeMethods   []string `json:"challengeMethods,omitempty"`
	Claims             []string `json:"claims,omitempty"`
	// IssuerInAnswer promises "iss" in every answer (RFC 9207, section 3).
	IssuerInAnswer    bool `json:"issuerInAnswer,omitempty"`
	BackChannelLogout bool `json:"backChannelLogout,omitempty"`
}

// Remark is what is unusual about a document, in words.
type Remark struct {
	Code   string `json:"code"`
	Detail string `json:"detail"`
}

// DiscoveryURL is where an issuer's document lies (OpenID Connect Discovery 1.0, section 4).
func DiscoveryURL(issuer string) string {
	return strings.TrimSuffix(issuer, "/") + "/.well-known/openid-configuration"
}

// ReadDiscovery reads a discovery document. Issuer, if not empty, is what it must name, to the last character (section
// 4.3). Failures carry a code; what is unusual and does not prevent signing in is a remark.
func ReadDiscovery(data []byte, issuer string) (*Discovery, []Remark, error) {
	bad := func(why string) (*Discovery, []Remark, error) {
		return nil, nil, explain.New(explain.OIDCDiscoveryUnreadable, explain.Fact("document", why))
	}
	if len(data) > MaxDocument {
		return bad(fmt.Sprintf("it has %d octets; %d are read", len(data), MaxDocument))
	}
	if kind := Looks(data); kind != "" {
		return bad("it is " + kind)
	}
	o, err := jose.ReadObject(data)
	if err != nil {
		return bad(err.Error())
	}
	d := &Discovery{}
	for name, to := range map[string]*string{"issuer": &d.Issuer, "authorization_endpoint": &d.Authorization, "token_endpoint": &d.Token,
		"userinfo_endpoint": &d.UserInfo,
		"jwks_uri":          &d.Keys, "end_session_endpoint": &d.EndSession, "revocation_endpoint": &d.Revocation,
		"introspection_endpoint": &d.Introspection} {
		value, ok := o.Text(name)
		if !ok {
			return bad(name + " is not a string")
		}
		*to = value
	}
	for name, to := range map[string]*[]string{"scopes_supported": &d.Scopes, "response_types_supported": &d.ResponseTypes,
		"response_modes_supported": &d.ResponseModes,
		"grant_types_supported":    &d.GrantTypes, "acr_values_supported": &d.ACRValues, "subject_types_supported": &d.SubjectTypes,
		"id_token_signing_alg_values_supported": &d.IDTokenAlgorithms, "userinfo_signing_alg_values_supported": &d.UserInfoAlgorithms,
		"token_endpoint_auth_methods_supported": &d.AuthMethods, "token_endpoint_auth_signing_alg_values_supported": &d.AuthAlgorithms,
		"code_challenge_methods_supported": &d.ChallengeMethods, "claims_supported": &d.Claims} {
		value, ok := o.Texts(name)
		if !ok {
			return bad(name + " is not a list of strings")
		}
		*to = value
	}
	for name, to := range map[string]*bool{"authorization_response_iss_parameter_supported": &d.IssuerInAnswer,
		"backchannel_logout_supported": &d.BackChannelLogout} {
		value, ok := o.Flag(name)
		if !ok {
			return bad(name + " is neither true nor false")
		}
		*to = value
	}
	if d.Issuer == "" {
		return bad("it names no issuer")
	}
	if issuer != "" && d.Issuer != issuer {
		return nil, nil, explain.New(explain.OIDCDiscoveryIssuer, explain.Pair("issuer", issuer, shown(d.Issuer)))
	}
	for _, e := range [][2]string{{"authorization_endpoint", d.Authorization}, {"token_endpoint", d.Token}, {"jwks_uri", d.Keys}} {
		if e[1] == "" {
			return bad("it names no " + e[0])
		}
	}
	remarks, err := d.remarks()
	if err != nil {
		return bad(err.Error())
	}
	return d, remarks, nil
}

func (d *Discovery) remarks() ([]Remark, error) {
	var out []Remark
	for _, e := range []struct{ name, address string }{{"authorization_endpoint", d.Authorization}, {"token_endpoint", d.Token},
		{"userinfo_endpoint", d.UserInfo}, {"jwks_uri", d.Keys},
		{"end_session_endpoint", d.EndSession}, {"revocation_endpoint", d.Revocation}, {"introspection_endpoint", d.Introspection}} {
		if e.address == "" {
			continue
		}
		if err := address.Check(e.address); err != nil {
			return nil, fmt.Errorf("its %s: %s", e.name, shown(err.Error()))
		}
		if address.Plain(e.address) {
			out = append(
				out,
				Remark{
					"endpoint.http",
					fmt.Sprintf("%s is %s, and what is sent there can be read and changed on its way.", e.name, e.address),
				},
			)
		}
	}
	if strings.ContainsAny(d.Issuer, "{}") {
		out = append(out, Remark{"oidc.issuer-pattern", "The issuer differs by directory: enter the issuers whose people may sign in."})
	}
	if len(d.ResponseTypes) > 0 && !slices.Contains(d.ResponseTypes, "code") {
		out = append(out, Remark{"oidc.no-code-flow", "It does not list the authorization code flow, the only one that the gate uses."})
	}
	if len(d.ChallengeMethods) > 0 && !slices.Contains(d.ChallengeMethods, "S256") {
		out = append(
			out,
			Remark{
				"oidc.no-pkce",
				"It lists PKCE without S256. The gate sends S256 all the same; a provider ignores what it does not know.",
			},
		)
	}
	if len(d.IDTokenAlgorithms) > 0 &&
		!slices.ContainsFunc(d.IDTokenAlgorithms, func(a string) bool { return slices.Contains(jose.Algorithms, a) }) {
		out = append(
			out,
			Remark{
				"oidc.no-algorithm",
				"It signs ID tokens with " + shown(strings.Join(d.IDTokenAlgorithms, ", ")) + ", none of which is taken.",
			},
		)
	}
	if _, err := d.Method(""); err != nil {
		out = append(out, Remark{"oidc.no-auth-method", err.Error()})
	}
	return out, nil
}

// Method chooses how to authenticate at the token endpoint: the wanted method if the provider lists it, else the first
// that it lists and the gate knows. A provider that lists none means client_secret_basic (OpenID Connect Discovery 1.0,
// section 3).
func (d *Discovery) Method(wanted string) (string, error) {
	listed := d.AuthMethods
	if len(listed) == 0 {
		listed = []string{AuthBasic}
	}
	if wanted != "" {
		if slices.Contains(listed, wanted) {
			return wanted, nil
		}
		return "", fmt.Errorf(
			"the provider lists the client authentication methods %s, and not %s", shown(strings.Join(listed, ", ")),
			wanted,
		)
	}
	for _, m := range AuthMethods {
		if m != AuthNone && slices.Contains(listed, m) {
			return m, nil
		}
	}
	return "", fmt.Errorf(
		"the provider lists the client authentication methods %s, none of which the gate can use",
		shown(strings.Join(listed, ", ")),
	)
}

// Looks names what came in the place of JSON, where that can be told, for people.
func Looks(data []byte) string {
	head := strings.ToLower(strings.TrimSpace(string(data[:min(len(data), 512)])))
	switch {
	case head == "":
		return "empty"
	case strings.HasPrefix(head, "<!doctype html"), strings.HasPrefix(head, "<html"), strings.Contains(head, "<head"):
		return "an HTML page"
	case strings.HasPrefix(head, "<?xml"), strings.HasPrefix(head, "<"):
		return "XML"
	}
	return ""
}
