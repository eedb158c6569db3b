package config

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"innergate/core/oidc"
)

// OIDCProvider holds the values of a provider that speaks OpenID Connect, or plain OAuth 2.0, and the options of
// talking to it. Client secrets are no part of a configuration: they are kept sealed beside it.
type OIDCProvider struct {
	// Issuer is compared letter by letter; plain OAuth 2.0 has one where its answers name it (RFC 9207).
	Issuer string `json:"issuer,omitempty"`
	// AcceptedIssuers lists whose ID tokens are taken, for a provider whose issuer differs by directory.
	AcceptedIssuers       []string `json:"acceptedIssuers,omitempty"`
	AuthorizationEndpoint string   `json:"authorizationEndpoint,omitempty"`
	TokenEndpoint         string   `json:"tokenEndpoint,omitempty"`
	UserInfoEndpoint      string   `json:"userinfoEndpoint,omitempty"`
	KeysURL               string   `json:"jwksUri,omitempty"`
	EndSessionEndpoint    string   `json:"endSessionEndpoint,omitempty"`
	// More are further addresses that are asked with the access token, each under a name of its own.
	More []MoreClaims `json:"more,omitempty"`
	// IssuerInAnswer demands iss in every answer (RFC 9207).
	IssuerInAnswer bool `json:"issuerInAnswer,omitempty"`
	// AuthMethods are the client authentication methods that the provider lists.
	AuthMethods []string `json:"authMethods,omitempty"`

	ClientID string `json:"clientId,omitempty"`
	// Authentication is how we prove who we are at the token endpoint; empty for the first that the provider lists.
	Authentication string `json:"authentication,omitempty"`
	// Scopes are asked for; empty for openid, profile and email (OpenID Connect) or none (OAuth 2.0).
	Scopes []string `json:"scopes,omitempty"`
	// Algorithms that may sign ID tokens; empty for all that the gate takes.
	Algorithms []string `json:"algorithms,omitempty"`
	// SkipUserInfo leaves the UserInfo endpoint unasked where the ID token says enough.
	SkipUserInfo bool `json:"skipUserinfo,omitempty"`
	// AnswerByForm has the provider post its answer (response_mode=form_post).
	AnswerByForm bool `json:"answerByForm,omitempty"`
	// SubjectFrom names the field that identifies a person; empty for sub.
	SubjectFrom string   `json:"subjectFrom,omitempty"`
	ACRValues   []string `json:"acrValues,omitempty"`
	// Fresh has people sign in anew each time.
	Fresh bool `json:"fresh,omitempty"`
	// Parameters go with every authorization request.
	Parameters map[string]string `json:"parameters,omitempty"`
	// SignOutURL is a plain sign-out address, for a provider without an end session endpoint.
	SignOutURL       string `json:"signOutUrl,omitempty"`
	ClockSkewSeconds int    `json:"clockSkewSeconds,omitempty"`
}

// MoreClaims is a further answer about a person, such as the list of their mail addresses.
type MoreClaims struct {
	URL string `json:"url"`
	// As is the name before its members: with mail, its member address becomes mail.address.
	As string `json:"as"`
	// Where keeps only those entries of a list in which this member is true.
	Where []string `json:"where,omitempty"`
}

// The kinds of providers and applications.
const (
	KindSAML      = "saml"
	KindOIDC      = "oidc"
	KindOAuth2    = "oauth2"
	KindDirectory = "directory"
)

// OAuth says whether a provider speaks OpenID Connect or OAuth 2.0.
func (p *Provider) OAuth() bool { return p.Kind == KindOIDC || p.Kind == KindOAuth2 }

// Authority is the provider's own identifier: its entity ID or issuer, or for plain OAuth 2.0 its authorization
// endpoint.
func (p *Provider) Authority() string {
	switch {
	case p.SAML != nil:
		return p.SAML.EntityID
	case p.OIDC != nil && p.OIDC.Issuer != "":
		return p.OIDC.Issuer
	case p.OIDC != nil:
		return p.OIDC.AuthorizationEndpoint
	case p.LDAP != nil && len(p.LDAP.Servers) > 0:
		return p.LDAP.Servers[0]
	case p.Kerberos != nil && len(p.Kerberos.Realms) > 0:
		return p.Kerberos.Realms[0]
	}
	return ""
}

// Method is how we prove who we are at the token endpoint.
func (s *OIDCProvider) Method() string {
	if s.Authentication != "" {
		return s.Authentication
	}
	if m, err := (&oidc.Discovery{AuthMethods: s.AuthMethods}).Method(""); err == nil {
		return m
	}
	return oidc.AuthBasic
}

// Issuers is whose tokens are taken.
func (s *OIDCProvider) Issuers() oidc.Issuers {
	return oidc.Issuers{Issuer: s.Issuer, Accepted: s.AcceptedIssuers}
}

// AskedScopes are the scopes that are asked for.
func (p *Provider) AskedScopes() []string {
	if len(p.OIDC.Scopes) > 0 || p.Kind == KindOAuth2 {
		return p.OIDC.Scopes
	}
	return []string{oidc.ScopeOpenID, "profile", "email"}
}

func (p *Provider) validateOIDC(v *validator) {
	if p.OIDC == nil {
		p.OIDC = &OIDCProvider{}
	}
	s := p.OIDC
	for field, value := range map[string]string{"authorizationEndpoint": s.AuthorizationEndpoint, "tokenEndpoint": s.TokenEndpoint,
		"userinfoEndpoint": s.UserInfoEndpoint, "jwksUri": s.KeysURL, "endSessionEndpoint": s.EndSessionEndpoint,
		"signOutUrl": s.SignOutURL} {
		v.url("oidc."+field, value)
	}
	if p.Kind == KindOAuth2 && (s.KeysURL != "" || len(s.AcceptedIssuers) > 0) {
		v.add("oidc.jwksUri", "plain OAuth 2.0 knows no key set; choose OpenID Connect if the provider has one")
	}
	if p.Kind == KindOAuth2 && s.IssuerInAnswer && s.Issuer == "" {
		v.add("oidc.issuer", "its answers are to name the issuer (RFC 9207), and none is entered")
	}
	if issuer, ok := strings.CutSuffix(s.Issuer, "/.well-known/openid-configuration"); ok {
		v.offer("oidc.issuer", "oidc.issuer", issuer, "%q is the discovery URL; the issuer is %s", s.Issuer, issuer)
	} else if s.Issuer != "" && !strings.ContainsAny(s.Issuer, "{}") {
		v.url("oidc.issuer", s.Issuer)
	}
	if u, err := url.Parse(s.AuthorizationEndpoint); err == nil && (u.Query().Has("client_id") || u.Query().Has("response_type")) {
		bare := *u
		bare.RawQuery = ""
		v.offer(
			"oidc.authorizationEndpoint", "oidc.authorizationEndpoint", bare.String(),
			"%q holds parameters of its own; it is a whole request, of which the address alone belongs here",
			s.AuthorizationEndpoint,
		)
	}
	for i, issuer := range s.AcceptedIssuers {
		v.url(fmt.Sprintf("oidc.acceptedIssuers[%d]", i), issuer)
	}
	if len(s.AcceptedIssuers) > 500 {
		v.add("oidc.acceptedIssuers", "500 are the most")
	}
	v.clientID("oidc.clientId", s.ClientID)
	if id := s.ClientID; id != "" &&
		(slices.Contains([]string{s.Issuer, s.AuthorizationEndpoint, s.TokenEndpoint, s.KeysURL}, id) ||
			strings.Contains(id, "/.well-known/")) {
		right := "oidc.issuer"
		if strings.Contains(id, "/.well-known/") {
			id, _, _ = strings.Cut(id, "/.well-known/")
		} else if s.Issuer != "" && id != s.Issuer {
			right = "" // it stands where it belongs as well
		}
		says := "%q is the provider's own address, not a client ID; the client ID is what the provider gave for us"
		if right != "" && s.Issuer == "" {
			v.offer("oidc.clientId", right, id, says, s.ClientID)
		} else {
			v.add("oidc.clientId", says, s.ClientID)
		}
	}
	v.allowed("oidc.authentication", s.Authentication, "OIDCProvider.authentication")
	v.scopes("oidc.scopes", s.Scopes)
	if p.Kind == KindOIDC && len(s.Scopes) > 0 && !slices.Contains(s.Scopes, oidc.ScopeOpenID) {
		v.add("oidc.scopes", "openid is missing; without it no ID token comes")
	}
	for _, a := range s.Algorithms {
		v.oneOf("oidc.algorithms", a, Allowed["OIDCProvider.algorithms"]...)
	}
	if len(s.More) > 5 {
		v.add("oidc.more", "five further addresses are the most")
	}
	for i, m := range s.More {
		v.url(fmt.Sprintf("oidc.more[%d].url", i), m.URL)
		if m.URL == "" {
			v.add(fmt.Sprintf("oidc.more[%d].url", i), "the address is missing")
		}
		if !slugForm.MatchString(m.As) {
			v.add(fmt.Sprintf("oidc.more[%d].as", i), "a name of small letters, digits and dashes is needed")
		}
	}
	if len(s.Parameters) > 20 {
		v.add("oidc.parameters", "20 further parameters are the most")
	}
	for name, value := range s.Parameters {
		if name == "" || len(name) > 100 || len(value) > 1000 ||
			slices.Contains([]string{"client_secret", "code", "state", "nonce", "redirect_uri"}, name) {
			v.add("oidc.parameters", "%q can't be sent along, or is too long", name)
		}
	}
	if p.Kind == KindOAuth2 && len(s.ACRValues) > 0 {
		v.add("oidc.acrValues", "plain OAuth 2.0 can't say how somebody signed in")
	}
	v.skew("oidc.clockSkewSeconds", s.ClockSkewSeconds)
}

// clientID names a value of another kind that was entered for a client ID, and the field for it.
func (v *validator) clientID(field, value string) {
	switch {
	case value == "":
	case len(value) > 1000 || strings.ContainsFunc(value, func(r rune) bool { return r < ' ' || r > '~' }):
		v.add(field, "a client ID has 1 to 1000 printable ASCII characters")
	case strings.TrimSpace(value) != value:
		v.offer(field, field, strings.TrimSpace(value), "%q begins or ends with white space", value)
	case strings.HasPrefix(value, "igs_"):
		v.add(field, "this is a client secret, not a client ID; a secret has a place of its own, where it is sealed")
	case strings.HasPrefix(value, "eyJ"):
		v.add(field, "this looks like a token, not a client ID")
	case strings.Contains(value, "@") && strings.Contains(value, " "):
		v.add(field, "this looks like a mail address, not a client ID")
	}
}

func (v *validator) scopes(field string, list []string) {
	if len(list) > 100 {
		v.add(field, "100 scopes are the most")
	}
	for i, s := range list {
		// RFC 6749, section 3.3
		if s == "" || len(s) > 200 || strings.ContainsFunc(s, func(r rune) bool { return r <= ' ' || r > '~' || r == '"' || r == '\\' }) {
			v.add(fmt.Sprintf("%s[%d]", field, i), "%q is no scope: printable ASCII without blanks, quotation marks and backslashes", s)
		}
	}
}

func (p *Provider) missingOIDC() []string {
	var out []string
	s := p.OIDC
	if s == nil {
		s = &OIDCProvider{}
	}
	if p.Kind == KindOIDC {
		switch {
		case s.Issuer == "":
			out = append(out, "the provider's issuer is missing")
		case strings.ContainsAny(s.Issuer, "{}") && len(s.AcceptedIssuers) == 0:
			out = append(out, "the provider's issuer differs by directory, and no accepted issuer is entered")
		}
		if s.KeysURL == "" {
			out = append(out, "the address of the provider's key set is missing")
		}
	}
	if s.AuthorizationEndpoint == "" {
		out = append(out, "the provider's authorization endpoint is missing")
	}
	if s.TokenEndpoint == "" {
		out = append(out, "the provider's token endpoint is missing")
	}
	if s.ClientID == "" {
		out = append(out, "our client ID at the provider is missing")
	}
	if p.Kind == KindOAuth2 {
		if s.UserInfoEndpoint == "" && len(s.More) == 0 {
			out = append(out, "without ID tokens, the address that tells who signed in is missing")
		}
		if s.SubjectFrom == "" {
			out = append(out, "without ID tokens, the field that identifies a person has to be named")
		}
	}
	return out
}
