package oidc

import (
	"cmp"
	"encoding/base64"
	"fmt"
	"mime"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/trace"
)

func basic(id, secret string) string {
	return "Basic " + base64.StdEncoding.EncodeToString([]byte(id+":"+secret))
}

// Answer is what came over the back channel, not checked yet.
type Answer struct {
	Status      int
	ContentType string
	Body        []byte
}

// Tokens is a successful token answer (RFC 6749, section 5.1; OpenID Connect Core 1.0, section 3.1.3.3).
type Tokens struct {
	AccessToken  string
	IDToken      string
	RefreshToken string
	Scope        string
	ExpiresIn    int64 // seconds, 0 if not said
	// Members is the whole answer, for providers that put the person into it.
	Members jose.Object
}

// TokenRules is what a token answer is held against.
type TokenRules struct {
	Partner string
	Client  Client
	// Methods lists the client authentication methods of the provider's discovery document, to explain a refusal with.
	Methods []string
	// PlainOAuth is set for a provider without ID tokens. Such a provider may answer in a form's encoding.
	PlainOAuth bool
}

var (
	ruleAnswered  = rule{"oidc.token-answer", "The token endpoint answers as it must", "RFC 6749 5.1"}
	ruleAccepted  = rule{"oidc.token-granted", "The token endpoint takes the code and our proof", "RFC 6749 5.2"}
	ruleBearer    = rule{"oidc.token-type", "The access token is a bearer token", "RFC 6750 6.1.1"}
	ruleIDTokenIn = rule{"oidc.id-token-present", "An ID token came", "OpenID Connect Core 3.1.3.3"}
)

// ReadTokens reads a token answer. Failures carry a code; nothing of the answer's tokens stands in them.
func ReadTokens(a Answer, r TokenRules, rec *trace.Recorder) (*Tokens, error) {
	c := checker{rec, r.Partner}
	o, why := readBody(a, r.PlainOAuth)
	if o == nil {
		c.that(ruleAnswered, false, "application/json", why)
		if a.Status >= 500 || a.Status == 429 {
			return nil, c.fail(explain.OIDCTokenEndpointFailed, explain.Fact("answer", fmt.Sprintf("status %d", a.Status)))
		}
		return nil, c.fail(explain.OIDCTokenAnswer, explain.Fact("answer", why))
	}
	c.that(ruleAnswered, true, "", fmt.Sprintf("status %d", a.Status))
	// Some providers put an error into an answer with status 200.
	if code, _ := o.Text("error"); a.Status != 200 || o.Has("error") {
		description, _ := o.Text("error_description")
		c.that(ruleAccepted, false, "", shown(code))
		return nil, c.tokenRefused(a.Status, code, description, r)
	}
	c.that(ruleAccepted, true, "", "")
	t := &Tokens{Members: o}
	for name, to := range map[string]*string{"access_token": &t.AccessToken, "id_token": &t.IDToken, "refresh_token": &t.RefreshToken,
		"scope": &t.Scope} {
		value, ok := o.Text(name)
		if !ok {
			if list, isList := o.Texts(name); name == "scope" && isList { // some write it as a list
				value, ok = strings.Join(list, " "), true
			}
		}
		if !ok || len(value) > jose.MaxToken {
			return nil, c.fail(
				explain.OIDCTokenAnswer,
				explain.Fact("answer", fmt.Sprintf("%s is not a string of at most %d octets", name, jose.MaxToken)),
			)
		}
		*to = value
	}
	if n, there, ok := o.Number("expires_in"); there && ok && n > 0 {
		t.ExpiresIn = n
	} else if text, ok := o.Text("expires_in"); ok { // some write it as a string
		t.ExpiresIn, _ = strconv.ParseInt(text, 10, 64)
	}
	kind, _ := o.Text("token_type")
	if !c.that(ruleBearer, strings.EqualFold(kind, "bearer") || kind == "" && r.PlainOAuth, "Bearer", shown(kind)) {
		return nil, c.fail(explain.OIDCTokenType, explain.Pair("token_type", "Bearer", cmp.Or(shown(kind), "(none)")))
	}
	if t.AccessToken == "" {
		return nil, c.fail(explain.OIDCTokenAnswer, explain.Fact("answer", "it holds no access_token"))
	}
	if !r.PlainOAuth && !c.that(ruleIDTokenIn, t.IDToken != "", "", "") {
		return nil, c.fail(explain.OIDCIDTokenMissing, explain.Fact("scope", t.Scope))
	}
	return t, nil
}

// readBody reads JSON, or a form where that is allowed; why tells what came instead.
func readBody(a Answer, form bool) (o jose.Object, why string) {
	said := fmt.Sprintf("status %d with ", a.Status)
	if len(a.Body) > MaxDocument {
		return nil, said + fmt.Sprintf("more than %d octets", MaxDocument)
	}
	if kind := Looks(a.Body); kind != "" {
		return nil, said + kind
	}
	media, _, _ := mime.ParseMediaType(a.ContentType)
	if media == "application/x-www-form-urlencoded" || media == "text/plain" && !strings.HasPrefix(strings.TrimSpace(string(a.Body)), "{") {
		if !form {
			return nil, said + "a form in place of JSON"
		}
		p, err := ReadParameters(string(a.Body))
		if err != nil {
			return nil, said + "a form that can't be read"
		}
		o = jose.Object{}
		for name, value := range p {
			o[name] = value
		}
		return o, ""
	}
	o, err := jose.ReadObject(a.Body)
	if err != nil {
		return nil, said + fmt.Sprintf("%s, and %s", cmp.Or(shown(media), "no content type"), err)
	}
	return o, ""
}

// tokenRefused explains an error of the token endpoint (RFC 6749, section 5.2).
func (c checker) tokenRefused(status int, code, description string, r TokenRules) error {
	evidence := []trace.Evidence{explain.Fact("error", cmp.Or(shown(code), "without an error code"))}
	if description != "" {
		evidence = append(evidence, explain.Fact("error_description", shown(description)))
	}
	evidence = append(evidence, explain.Fact("status", strconv.Itoa(status)))
	switch {
	case code == ErrInvalidClient, code == ErrUnauthorizedClient, code == "" && status == 401:
		failure, why := diagnose(code, description, r)
		return c.fail(failure, append([]trace.Evidence{explain.Fact("likely", why)}, evidence...)...)
	case code == ErrInvalidGrant:
		return c.fail(explain.OIDCCodeRefused, evidence...)
	case status >= 500 || code == ErrServer || code == ErrUnavailable:
		return c.fail(explain.OIDCTokenEndpointFailed, evidence...)
	}
	return c.fail(explain.OIDCTokenRefused, evidence...)
}

var uuidForm = regexp.MustCompile(`^[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}$`)

// diagnose tells, as far as the answer allows, why a client was refused: the description first, then what we hold
// ourselves.
func diagnose(code, description string, r TokenRules) (failure explain.Code, why string) {
	d := strings.ToLower(description)
	has := func(words ...string) bool {
		return slices.ContainsFunc(words, func(w string) bool { return strings.Contains(d, w) })
	}
	switch {
	case has("expired", "has ended", "no longer valid"):
		return explain.OIDCClientSecretExpired, "the provider says that the secret or key has expired"
	case has("secret id", "id of the secret", "key id in place", "not the secret's id", "secret value"):
		return explain.OIDCClientSecretID, "the provider says that a secret's ID was sent in place of its value"
	case has("tester", "test user", "in testing", "not published", "development mode"):
		return explain.OIDCClientInactive, "the provider says that the client is limited to testers"
	case has("inactive", "disabled", "deactivated", "suspended", "not active", "blocked"):
		return explain.OIDCClientInactive, "the provider says that the client is not active"
	case has("authentication method", "auth method", "token_endpoint_auth_method", "client_secret_basic", "client_secret_post",
		"private_key_jwt"):
		return explain.OIDCClientMethod, "the provider says that the authentication method is another one; we send " + r.Client.Method
	case code == ErrUnauthorizedClient:
		return explain.OIDCClientInactive, "the provider knows the client, and does not allow it this kind of sign-in"
	case len(r.Methods) > 0 && !slices.Contains(r.Methods, r.Client.Method):
		return explain.OIDCClientMethod, fmt.Sprintf(
			"we send %s, and the provider lists %s", r.Client.Method, shown(strings.Join(r.Methods, ", ")),
		)
	case r.Client.Secret != "" && r.Client.Secret == r.Client.ID:
		return explain.OIDCClientSecretID, "the secret that we hold is the client ID"
	case uuidForm.MatchString(r.Client.Secret):
		return explain.OIDCClientSecretID, "the secret that we hold has the form of an identifier, so it may be the secret's ID in place " +
			"of its value"
	case r.Client.Secret != "" && strings.TrimSpace(r.Client.Secret) != r.Client.Secret:
		return explain.OIDCClientRejected, "the secret that we hold begins or ends with white space"
	}
	return explain.OIDCClientRejected, "the secret or the client ID is wrong; the provider says no more"
}
