package oidc

// How a client authenticates at the token endpoint (OpenID Connect Core 1.0, section 9).
const (
	AuthBasic      = "client_secret_basic"
	AuthPost       = "client_secret_post"
	AuthPrivateKey = "private_key_jwt"
	AuthNone       = "none"
)

// AuthMethods lists the client authentication methods, the one that the standard takes for granted first.
var AuthMethods = []string{AuthBasic, AuthPost, AuthPrivateKey, AuthNone}

// Error codes (RFC 6749, sections 4.1.2.1 and 5.2; OpenID Connect Core 1.0, section 3.1.2.6).
const (
	ErrInvalidClient        = "invalid_client"
	ErrInvalidGrant         = "invalid_grant"
	ErrUnauthorizedClient   = "unauthorized_client"
	ErrAccessDenied         = "access_denied"
	ErrServer               = "server_error"
	ErrUnavailable          = "temporarily_unavailable"
	ErrLoginRequired        = "login_required"
	ErrInteractionRequired  = "interaction_required"
	ErrConsentRequired      = "consent_required"
	ErrAccountSelection     = "account_selection_required"
	ErrUnmetAuthRequirement = "unmet_authentication_requirements"
)

// ScopeOpenID makes a request one of OpenID Connect (OpenID Connect Core 1.0, section 3.1.2.1).
const ScopeOpenID = "openid"
