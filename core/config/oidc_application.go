package config

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"innergate/core/jose"
	"innergate/core/oidc"
)

// OIDCApplication holds the values of an application that speaks OpenID Connect, and the options of talking to it. Its
// client secrets are no part of a configuration: their hashes are kept beside it.
type OIDCApplication struct {
	// ClientID is ours to give; empty for the application's short name.
	ClientID     string   `json:"clientId,omitempty"`
	RedirectURIs []string `json:"redirectUris,omitempty"`
	// PostLogoutURIs are where people may be sent when they have signed out.
	PostLogoutURIs []string `json:"postLogoutUris,omitempty"`
	// Native is set for a program on people's own machines, which receives its answer on a loopback address.
	Native bool `json:"native,omitempty"`
	// Origins are those of pages that call our endpoints by script.
	Origins []string `json:"origins,omitempty"`
	// Authentication is how the client proves who it is: client_secret_basic (the default), client_secret_post,
	// private_key_jwt or none.
	Authentication string `json:"authentication,omitempty"`
	// Keys is the client's key set, KeysURL where it publishes one; for private_key_jwt and signed requests.
	Keys    string `json:"jwks,omitempty"`
	KeysURL string `json:"jwksUri,omitempty"`
	// TokenEndpointAudience takes client assertions that are made for the token endpoint in place of our issuer, as older
	// clients make them. Such an assertion could be used by any server that the client takes for ours (RFC 7523bis).
	TokenEndpointAudience bool `json:"tokenEndpointAudience,omitempty"`
	// WithoutPKCE takes requests without a code challenge from a client that has a secret or a key.
	WithoutPKCE bool `json:"withoutPkce,omitempty"`
	// Scopes that the client may have besides openid; empty for profile and email.
	Scopes []string `json:"scopes,omitempty"`
	// Algorithm signs its ID tokens: RS256 (the default), PS256, ES256 or EdDSA.
	Algorithm string `json:"algorithm,omitempty"`
	// SignedUserInfo answers UserInfo as a signed token.
	SignedUserInfo bool `json:"signedUserinfo,omitempty"`
	// ClaimsInIDToken puts the person's claims into the ID token as well, for clients that never ask UserInfo.
	ClaimsInIDToken bool `json:"claimsInIdToken,omitempty"`
	// SectorIdentifier is the address that lists the redirect URIs of those who share a pairwise subject.
	SectorIdentifier string `json:"sectorIdentifierUri,omitempty"`
	// Audience makes access tokens signed ones (at+jwt) for this resource; empty for opaque ones, which only the gate
	// can read.
	Audience string `json:"audience,omitempty"`
	// Refresh gives refresh tokens also where offline_access was not asked for; they end with the sign-in.
	Refresh bool `json:"refresh,omitempty"`
	// DeviceGrant lets the client sign people in on another device (RFC 8628).
	DeviceGrant bool `json:"deviceGrant,omitempty"`
	// Introspection lets the client ask about access tokens that name it as their audience, and about its own.
	Introspection bool `json:"introspection,omitempty"`
	// Consent asks the person before anything is handed on: for an application that is not the company's own.
	Consent  bool   `json:"consent,omitempty"`
	HomePage string `json:"homePage,omitempty"`
	Privacy  string `json:"privacy,omitempty"`
	Terms    string `json:"terms,omitempty"`
	// InitiateLogin is where the application begins a sign-in that the gate asks for (OpenID Connect Core 1.0, section
	// 4).
	InitiateLogin string `json:"initiateLoginUri,omitempty"`
	// BackChannelLogout and FrontChannelLogout are told when a sign-in ends.
	BackChannelLogout  string `json:"backChannelLogoutUri,omitempty"`
	FrontChannelLogout string `json:"frontChannelLogoutUri,omitempty"`
	AccessMinutes      int    `json:"accessMinutes,omitempty"`
	SessionHours       int    `json:"sessionHours,omitempty"`
	OfflineDays        int    `json:"offlineDays,omitempty"`
	ClockSkewSeconds   int    `json:"clockSkewSeconds,omitempty"`
}

// ConsoleClient is the client ID of the gate itself, for its console and command line.
const ConsoleClient = "innergate"

// Scopes that a client can be given.
var Scopes = []string{"openid", "profile", "email", "address", "phone", "groups", "offline_access"}

// SigningAlgorithms can be chosen for ID tokens.
var SigningAlgorithms = []string{jose.RS256, jose.PS256, jose.ES256, jose.EdDSA}

// Identifier is the application's own identifier: its entity ID, or the client ID that we gave it.
func (a *Application) Identifier() string {
	switch {
	case a.SAML != nil:
		return a.SAML.EntityID
	case a.Guarded != nil:
		return a.Guarded.PublicURL
	case a.OIDC != nil:
		return a.OIDC.ClientID
	}
	return ""
}

// Public says whether the client has nothing to prove who it is with.
func (s *OIDCApplication) Public() bool { return s.Authentication == oidc.AuthNone }

// HasSecret says whether the client proves who it is with a secret.
func (s *OIDCApplication) HasSecret() bool {
	return s.Authentication == oidc.AuthBasic || s.Authentication == oidc.AuthPost
}

func (a *Application) validateOIDC(v *validator) {
	if a.OIDC == nil {
		a.OIDC = &OIDCApplication{}
	}
	s := a.OIDC
	if s.ClientID == "" {
		s.ClientID = a.Slug
	}
	if s.Authentication == "" {
		if s.Authentication = oidc.AuthBasic; s.Native {
			s.Authentication = oidc.AuthNone
		}
	}
	if len(s.Scopes) == 0 {
		s.Scopes = []string{"openid", "profile", "email"}
	}
	if s.Algorithm == "" {
		s.Algorithm = jose.RS256
	}
	v.clientID("oidc.clientId", s.ClientID)
	if s.ClientID == ConsoleClient {
		v.add("oidc.clientId", "%q is the gate's own; choose another", s.ClientID)
	}
	v.oneOf("oidc.authentication", s.Authentication, Allowed["OIDCApplication.authentication"]...)
	v.oneOf("oidc.algorithm", s.Algorithm, Allowed["OIDCApplication.algorithm"]...)
	for i, scope := range s.Scopes {
		v.oneOf(fmt.Sprintf("oidc.scopes[%d]", i), scope, Allowed["OIDCApplication.scopes"]...)
	}
	for field, list := range map[string][]string{"redirectUris": s.RedirectURIs, "postLogoutUris": s.PostLogoutURIs} {
		if len(list) > 200 {
			v.add("oidc."+field, "there are %d addresses; 200 are the most", len(list))
		}
		for i, u := range list {
			if err := oidc.CheckRedirectURI(u, s.Native); err != nil {
				v.add(fmt.Sprintf("oidc.%s[%d]", field, i), "%s", err)
			}
		}
	}
	for field, value := range map[string]string{"jwksUri": s.KeysURL, "homePage": s.HomePage, "privacy": s.Privacy, "terms": s.Terms,
		"initiateLoginUri": s.InitiateLogin, "backChannelLogoutUri": s.BackChannelLogout, "frontChannelLogoutUri": s.FrontChannelLogout,
		"sectorIdentifierUri": s.SectorIdentifier} {
		v.url("oidc."+field, value)
	}
	for i, o := range s.Origins {
		if u, err := url.Parse(o); err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || o != u.Scheme+"://"+u.Host {
			v.add(fmt.Sprintf("oidc.origins[%d]", i), "%q is no origin; it is scheme and host, such as https://rota.saltmere.example", o)
		}
	}
	if s.Keys != "" {
		if set, err := jose.ReadKeySet([]byte(s.Keys)); err != nil {
			v.add("oidc.jwks", "%s", err)
		} else if len(set.Keys) == 0 {
			v.add("oidc.jwks", "no key in it can be used: %s", set.Why())
		}
	}
	if s.Keys != "" && s.KeysURL != "" {
		v.add("oidc.jwksUri", "a key set stands here or at an address, not both")
	}
	if s.Public() && s.WithoutPKCE {
		v.add("oidc.withoutPkce", "a client without a secret or key needs PKCE: without it anybody who sees the code can use it")
	}
	if s.Public() && s.Introspection {
		v.add("oidc.introspection", "a client that can't prove who it is may not ask about tokens")
	}
	if strings.ContainsFunc(s.Audience, func(r rune) bool { return r <= ' ' || r > '~' }) || len(s.Audience) > 500 {
		v.add("oidc.audience", "an audience is an address or a name of up to 500 printable characters")
	}
	if s.Audience != "" && s.Audience == s.ClientID {
		v.add("oidc.audience", "it must differ from the client ID, so that an access token is never taken for an ID token")
	}
	for field, r := range map[string][3]int{"accessMinutes": {s.AccessMinutes, 1, 24 * 60}, "sessionHours": {s.SessionHours, 1, 30 * 24},
		"offlineDays": {s.OfflineDays, 1, 400}} {
		if r[0] != 0 && (r[0] < r[1] || r[0] > r[2]) {
			v.add("oidc."+field, "it must be between %d and %d, or 0 for the usual", r[1], r[2])
		}
	}
	v.skew("oidc.clockSkewSeconds", s.ClockSkewSeconds)
	if a.Subject.Source == "pairwise" && s.SectorIdentifier == "" {
		if hosts := redirectHosts(s.RedirectURIs); len(hosts) > 1 {
			v.add(
				"oidc.sectorIdentifierUri",
				"the redirect URIs have the hosts %s; for pairwise subjects an address that lists them all is needed (OpenID Connect "+
					"Core 8.1)",
				strings.Join(hosts, " and "),
			)
		}
	}
}

func redirectHosts(list []string) []string {
	var out []string
	for _, r := range list {
		if u, err := url.Parse(r); err == nil && !slices.Contains(out, u.Hostname()) && !oidc.IsLoopback(r) {
			out = append(out, u.Hostname())
		}
	}
	return out
}

// Sector is what those share who share a pairwise subject: the host of the sector identifier or of the redirect URIs.
// It is empty for a program on people's own machines, which shares with nobody.
func (s *OIDCApplication) Sector() string {
	if u, err := url.Parse(s.SectorIdentifier); err == nil && u.Hostname() != "" {
		return strings.ToLower(u.Hostname())
	}
	if hosts := redirectHosts(s.RedirectURIs); len(hosts) == 1 {
		return strings.ToLower(hosts[0])
	}
	return ""
}

func (a *Application) missingOIDC() []string {
	var out []string
	s := a.OIDC
	if s == nil {
		s = &OIDCApplication{}
	}
	if len(s.RedirectURIs) == 0 && !s.DeviceGrant {
		out = append(out, "the application's redirect URI is missing")
	}
	if s.Authentication == oidc.AuthPrivateKey && s.Keys == "" && s.KeysURL == "" {
		out = append(out, "the client proves itself with a key, and neither a key set nor its address is held")
	}
	return out
}
