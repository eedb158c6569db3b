package oidc

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"innergate/core/jose"
	"innergate/core/keys"
)

// Asked describes the authentication request that a relying party makes (OpenID Connect Core 1.0, section 3.1.2.1).
type Asked struct {
	Endpoint    string
	ClientID    string
	RedirectURI string
	Scopes      []string
	State       string
	Nonce       string // empty for plain OAuth 2.0
	Challenge   string // of PKCE, always S256
	// Prompt is login, none, consent or select_account, or several of them; empty leaves it to the provider.
	Prompt string
	// MaxAge, if set, is how long ago the person may have signed in.
	MaxAge       *time.Duration
	LoginHint    string
	ACRValues    []string
	UILocales    string
	ResponseMode string
	// More holds parameters that this provider wants besides. They never replace one of the above.
	More map[string]string
}

// URL is the address to which the browser goes. What the endpoint's own query holds is kept (RFC 6749, section 3.1).
func (a Asked) URL() (string, error) {
	u, err := url.Parse(a.Endpoint)
	if err != nil {
		return "", fmt.Errorf("the authorization endpoint %q can't be read as an address", a.Endpoint)
	}
	q := url.Values{}
	for name, value := range a.More {
		q.Set(name, value)
	}
	for _, p := range []struct{ name, value string }{{"response_type", "code"}, {"client_id", a.ClientID},
		{"redirect_uri", a.RedirectURI}, {"scope", strings.Join(a.Scopes, " ")},
		{"state", a.State}, {"nonce", a.Nonce}, {"code_challenge", a.Challenge}, {"prompt", a.Prompt}, {"login_hint", a.LoginHint},
		{"acr_values", strings.Join(a.ACRValues, " ")}, {"ui_locales", a.UILocales}, {"response_mode", a.ResponseMode}} {
		q.Del(p.name)
		if p.value != "" {
			q.Set(p.name, p.value)
		}
	}
	q.Del("code_challenge_method")
	if a.Challenge != "" {
		q.Set("code_challenge_method", "S256")
	}
	q.Del("max_age")
	if a.MaxAge != nil {
		q.Set("max_age", strconv.Itoa(int(a.MaxAge.Seconds())))
	}
	for name := range u.Query() {
		if q.Has(name) {
			return "", fmt.Errorf(
				"the authorization endpoint's own query holds %s, which the gate sets; a parameter may stand only once",
				name,
			)
		}
	}
	if u.RawQuery != "" {
		u.RawQuery += "&"
	}
	u.RawQuery += q.Encode()
	return u.String(), nil
}

// Client is who we are at a provider, and how we prove it.
type Client struct {
	ID     string
	Method string // one of AuthMethods
	Secret string // for the methods with a secret
	// Signer signs the assertion of private_key_jwt.
	Signer *jose.Signer
}

// BackChannel is a request to the token endpoint, ready to be sent by POST as application/x-www-form-urlencoded.
type BackChannel struct {
	Authorization string // the header of that name, empty for none
	Body          string
	// Shown is the body for traces, with everything secret in it left out.
	Shown string
}

// assertionLife is how long our assertion for private_key_jwt may be used.
const assertionLife = time.Minute

// Redeem makes the request that exchanges a code for tokens (RFC 6749, section 4.1.3; RFC 7636, section 4.5).
func (c Client) Redeem(code, redirectURI, verifier, audience string, now time.Time) (*BackChannel, error) {
	return c.request(
		url.Values{"grant_type": {"authorization_code"}, "code": {code}, "redirect_uri": {redirectURI}, "code_verifier": {verifier}},
		audience,
		now,
	)
}

// request adds the client's proof to a form. Audience is whom the assertion of private_key_jwt is for: the provider's
// issuer, or its token endpoint where it has none.
func (c Client) request(form url.Values, audience string, now time.Time) (*BackChannel, error) {
	out := &BackChannel{}
	switch c.Method {
	case AuthBasic:
		// Both parts are form-encoded before they are put together (RFC 6749, section 2.3.1).
		out.Authorization = basic(url.QueryEscape(c.ID), url.QueryEscape(c.Secret))
	case AuthPost:
		form.Set("client_id", c.ID)
		form.Set("client_secret", c.Secret)
	case AuthPrivateKey:
		if c.Signer == nil {
			return nil, fmt.Errorf("there is no key to sign with for private_key_jwt")
		}
		assertion, err := c.Signer.Sign(
			jose.TypeID,
			map[string]any{
				"iss": c.ID,
				"sub": c.ID,
				"aud": audience,
				"jti": keys.RandomID(),
				"iat": now.Unix(),
				"exp": now.Add(assertionLife).Unix(),
			},
		)
		if err != nil {
			return nil, err
		}
		form.Set("client_id", c.ID)
		form.Set("client_assertion_type", "urn:ietf:params:oauth:client-assertion-type:jwt-bearer")
		form.Set("client_assertion", assertion)
	case AuthNone:
		form.Set("client_id", c.ID)
	default:
		return nil, fmt.Errorf("%q is no client authentication method; %s are", c.Method, strings.Join(AuthMethods, ", "))
	}
	out.Body, out.Shown = form.Encode(), Redacted(form)
	return out, nil
}

// secret names the parameters whose values are never shown.
var secret = map[string]bool{
	"client_secret":             true,
	"client_assertion":          true,
	"code":                      true,
	"code_verifier":             true,
	"refresh_token":             true,
	"access_token":              true,
	"id_token":                  true,
	"token":                     true,
	"password":                  true,
	"device_code":               true,
	"registration_access_token": true,
}

// Redacted writes a form for people, with the values of secret parameters left out and said so.
func Redacted(form url.Values) string {
	kept := url.Values{}
	for name, values := range form {
		for _, v := range values {
			if secret[name] {
				v = fmt.Sprintf("(%d characters, not shown)", len([]rune(v)))
			}
			kept.Add(name, v)
		}
	}
	text, err := url.QueryUnescape(strings.ReplaceAll(kept.Encode(), "&", "\n"))
	if err != nil {
		return "(not shown)"
	}
	return text
}
