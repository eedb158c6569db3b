package oidc

import "innergate/core/jose"

// The grants of the token endpoint.
const (
	GrantCode    = "authorization_code"
	GrantRefresh = "refresh_token"
	GrantDevice  = "urn:ietf:params:oauth:grant-type:device_code" // RFC 8628, section 3.4
)

// RequestURI begins the references that the pushed authorization endpoint gives out (RFC 9126, section 2.2).
const RequestURI = "urn:ietf:params:oauth:request_uri:"

// Offered is what our discovery document says (OpenID Connect Discovery 1.0, section 3; RFC 8414, section 2).
type Offered struct {
	Issuer                 string   `json:"issuer"`
	Authorization          string   `json:"authorization_endpoint"`
	Token                  string   `json:"token_endpoint"`
	UserInfo               string   `json:"userinfo_endpoint"`
	Keys                   string   `json:"jwks_uri"`
	Registration           string   `json:"registration_endpoint,omitempty"`
	Pushed                 string   `json:"pushed_authorization_request_endpoint"`
	Device                 string   `json:"device_authorization_endpoint"`
	EndSession             string   `json:"end_session_endpoint"`
	Revocation             string   `json:"revocation_endpoint"`
	Introspection          string   `json:"introspection_endpoint"`
	Scopes                 []string `json:"scopes_supported"`
	ResponseTypes          []string `json:"response_types_supported"`
	ResponseModes          []string `json:"response_modes_supported"`
	GrantTypes             []string `json:"grant_types_supported"`
	SubjectTypes           []string `json:"subject_types_supported"`
	IDTokenAlgorithms      []string `json:"id_token_signing_alg_values_supported"`
	UserInfoAlgorithms     []string `json:"userinfo_signing_alg_values_supported"`
	ObjectAlgorithms       []string `json:"request_object_signing_alg_values_supported"`
	AuthMethods            []string `json:"token_endpoint_auth_methods_supported"`
	AuthAlgorithms         []string `json:"token_endpoint_auth_signing_alg_values_supported"`
	RevocationMethods      []string `json:"revocation_endpoint_auth_methods_supported"`
	RevocationAlgorithms   []string `json:"revocation_endpoint_auth_signing_alg_values_supported"`
	IntrospectionMethods   []string `json:"introspection_endpoint_auth_methods_supported"`
	IntrospectionAlgorithm []string `json:"introspection_endpoint_auth_signing_alg_values_supported"`
	ChallengeMethods       []string `json:"code_challenge_methods_supported"`
	Prompts                []string `json:"prompt_values_supported"`
	Claims                 []string `json:"claims_supported"`
	ClaimTypes             []string `json:"claim_types_supported"`
	ClaimsParameter        bool     `json:"claims_parameter_supported"`
	RequestParameter       bool     `json:"request_parameter_supported"`
	RequestURIParameter    bool     `json:"request_uri_parameter_supported"`
	IssuerInAnswer         bool     `json:"authorization_response_iss_parameter_supported"`
	BackChannelLogout      bool     `json:"backchannel_logout_supported"`
	BackChannelSession     bool     `json:"backchannel_logout_session_supported"`
	FrontChannelLogout     bool     `json:"frontchannel_logout_supported"`
	FrontChannelSession    bool     `json:"frontchannel_logout_session_supported"`
}

// Offer writes what an issuer offers whose endpoints lie below its address.
func Offer(issuer string, scopes, algorithms []string, registration bool) Offered {
	at := func(name string) string { return issuer + "/oidc/" + name }
	proving := []string{AuthBasic, AuthPost, AuthPrivateKey}
	o := Offered{
		Issuer: issuer, Authorization: at("authorize"), Token: at("token"), UserInfo: at("userinfo"), Keys: at("keys"), Pushed: at("par"),
		Device: at("device"), EndSession: at("logout"),
		Revocation: at("revoke"), Introspection: at("introspect"),
		Scopes: scopes, ResponseTypes: []string{"code"}, ResponseModes: []string{"query", "form_post"},
		GrantTypes: []string{GrantCode, GrantRefresh, GrantDevice},
		SubjectTypes: []string{
			"public",
			"pairwise",
		}, IDTokenAlgorithms: algorithms, UserInfoAlgorithms: algorithms, ObjectAlgorithms: jose.Algorithms,
		AuthMethods: AuthMethods, AuthAlgorithms: jose.Algorithms, RevocationMethods: AuthMethods, RevocationAlgorithms: jose.Algorithms,
		IntrospectionMethods: proving, IntrospectionAlgorithm: jose.Algorithms,
		ChallengeMethods: []string{"S256"}, Prompts: []string{"none", "login", "consent", "select_account"},
		Claims: append(
			[]string{"sub", "iss", "aud", "exp", "iat", "auth_time", "nonce", "acr", "amr", "sid", "at_hash"},
			ClaimsOf(scopes)...),
		ClaimTypes: []string{"normal"}, ClaimsParameter: true, RequestParameter: true, RequestURIParameter: false, IssuerInAnswer: true,
		BackChannelLogout: true, BackChannelSession: true, FrontChannelLogout: true, FrontChannelSession: true,
	}
	if registration {
		o.Registration = at("register")
	}
	return o
}
