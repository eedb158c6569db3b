package oidc

import (
	"cmp"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/trace"
)

// Registered is what is held of a client that asks us, as far as its requests are checked against it.
type Registered struct {
	Partner      string // the application's name, for texts
	ClientID     string
	RedirectURIs []string
	// Native allows loopback ports (RFC 8252).
	Native bool
	// RequirePKCE is always set for clients that have no secret or key.
	RequirePKCE bool
	// Scopes that the client may have; others are left out of what it gets.
	Scopes []string
}

// Wanted is one claim that is asked for by name (OpenID Connect Core 1.0, section 5.5.1).
type Wanted struct {
	Essential bool
	Values    []string // in the order in which they are preferred; empty for any
}

// Request is an authentication request that has been checked (OpenID Connect Core 1.0, section 3.1.2.1).
type Request struct {
	ClientID, RedirectURI string
	State, Nonce          string
	Challenge             string // of PKCE with S256, empty for none
	Scopes                []string
	Unregistered          []string `json:",omitempty"` // scopes that were asked for and left out
	// Passive is prompt=none; Fresh is prompt=login; Consent and Choose are the other prompts.
	Passive, Fresh, Consent, Choose bool
	MaxAge                          *time.Duration
	LoginHint, IDTokenHint          string
	ACRValues                       []string
	UILocales                       string
	FormPost                        bool // response_mode=form_post
	IDTokenClaims, UserInfoClaims   map[string]Wanted
}

var (
	ruleRedirect     = rule{"oidc.redirect-uri", "The answer goes to a registered address", "RFC 9700 4.1.3"}
	ruleResponseType = rule{"oidc.response-type", "A code is asked for", "RFC 9700 2.1.2"}
	ruleScope        = rule{"oidc.scope", "Asks for openid", "OpenID Connect Core 3.1.2.1"}
	ruleChallenge    = rule{"oidc.code-challenge", "PKCE with S256 where it must be", "RFC 7636 4.3"}
	ruleParameters   = rule{"oidc.parameters", "Every parameter has a usable value", "OpenID Connect Core 3.1.2.1"}
)

var challengeForm = regexp.MustCompile(`^[A-Za-z0-9_-]{43}$`)

const (
	maxShort = 1024 // octets of nonce, hints and the like
	maxState = 8 << 10
)

// ReadRequest checks an authentication request of a client that the caller has looked up by its client_id. The address
// for the answer is checked before anything else: a failure whose explanation has no OAuth code must not be sent there.
// With such a failure the request is nil; with a later one it holds what is needed to answer.
func ReadRequest(p Parameters, r Registered, rec *trace.Recorder) (*Request, error) {
	c := checker{rec, r.Partner}
	// A redirect URI is always demanded, also where only one is registered (OpenID Connect Core 1.0, section 3.1.2.1).
	asked := p["redirect_uri"]
	if !c.that(
		ruleRedirect, asked != "" && MatchRedirectURI(r.RedirectURIs, asked, r.Native),
		strings.Join(r.RedirectURIs, " or "), shown(asked),
	) {
		return nil, c.fail(
			explain.OIDCRedirectUnregistered,
			explain.Pair(
				"redirect_uri", cmp.Or(NearestRedirectURI(r.RedirectURIs, asked), "none is registered"),
				cmp.Or(shown(asked), "no address"),
			),
		)
	}
	q := &Request{
		ClientID:    r.ClientID,
		RedirectURI: asked,
		State:       p["state"],
		Nonce:       p["nonce"],
		LoginHint:   p["login_hint"],
		IDTokenHint: p["id_token_hint"],
		UILocales:   p["ui_locales"],
		ACRValues:   strings.Fields(p["acr_values"]),
	}
	if len(q.State) > maxState {
		q.State = "" // not even an answer may carry it
		return q, c.wrong("state is longer than 8192 octets")
	}
	switch p["response_mode"] {
	case "", "query":
	case "form_post":
		q.FormPost = true
	default:
		return q, c.wrong("response_mode is " + shown(p["response_mode"]) + "; query and form_post are known")
	}
	if p["request_uri"] != "" {
		return q, c.fail(explain.OIDCRequestURI)
	}
	if q.FormPost && !strings.HasPrefix(asked, "http") {
		q.FormPost = false // the refusal itself goes by an address
		return q, c.wrong("response_mode is form_post, and no form can be posted to the scheme of " + shown(asked))
	}
	if p["response_type"] == "" {
		return q, c.wrong("response_type is missing; it must be code")
	}
	if !c.equal(ruleResponseType, "code", p["response_type"]) {
		return q, c.fail(explain.OIDCResponseType, explain.Pair("response_type", "code", cmp.Or(shown(p["response_type"]), "(none)")))
	}
	wanted := strings.Fields(p["scope"])
	if !c.that(ruleScope, slices.Contains(wanted, ScopeOpenID), ScopeOpenID, shown(p["scope"])) {
		return q, c.fail(explain.OIDCScopeOpenid, explain.Pair("scope", ScopeOpenID, cmp.Or(shown(p["scope"]), "(none)")))
	}
	// A scope that is not known or not allowed is left out, and the token answer says which are given (section 3.1.2.1;
	// RFC 6749, section 3.3).
	for _, s := range wanted {
		switch {
		case slices.Contains(q.Scopes, s):
		case s == ScopeOpenID || slices.Contains(r.Scopes, s):
			q.Scopes = append(q.Scopes, s)
		case len(q.Unregistered) < 20:
			q.Unregistered = append(q.Unregistered, shown(s))
		}
	}
	if len(q.Unregistered) > 0 {
		rec.Decide(trace.Decision{About: "scope", Result: "left out: " + strings.Join(q.Unregistered, " "),
			By: "the application does not have these; the token answer says which it got"})
	}
	if err := q.pkce(c, p, r); err != nil {
		return q, err
	}
	for _, name := range []string{"nonce", "login_hint", "acr_values", "ui_locales"} {
		if len(p[name]) > maxShort {
			return q, c.wrong(name + " is longer than 1024 octets")
		}
	}
	if err := q.prompts(c, p); err != nil {
		return q, err
	}
	if err := q.claims(c, p["claims"]); err != nil {
		return q, err
	}
	c.that(ruleParameters, true, "", "")
	return q, nil
}

func (c checker) wrong(what string) error {
	c.that(ruleParameters, false, "", what)
	return c.fail(explain.OIDCParameterWrong, explain.Fact("parameter", what))
}

func (q *Request) pkce(c checker, p Parameters, r Registered) error {
	challenge, method := p["code_challenge"], p["code_challenge_method"]
	switch {
	case challenge == "" && method != "":
		return c.wrong("code_challenge_method stands without code_challenge")
	case challenge == "" && r.RequirePKCE:
		c.that(ruleChallenge, false, "S256", "")
		return c.fail(explain.OIDCPKCEMissing)
	case challenge == "":
		return nil
	case method != "S256": // left out it means plain (RFC 7636, section 4.3)
		c.that(ruleChallenge, false, "S256", cmp.Or(shown(method), "plain"))
		return c.fail(explain.OIDCPKCEMethod, explain.Pair("code_challenge_method", "S256", cmp.Or(shown(method), "plain")))
	case !challengeForm.MatchString(challenge):
		return c.wrong("code_challenge is not 43 characters of base64url, as an S256 challenge is")
	}
	c.that(ruleChallenge, true, "S256", method)
	q.Challenge = challenge
	return nil
}

func (q *Request) prompts(c checker, p Parameters) error {
	prompts := strings.Fields(p["prompt"])
	for _, one := range prompts {
		switch one {
		case "none":
			q.Passive = true
		case "login":
			q.Fresh = true
		case "consent":
			q.Consent = true
		case "select_account":
			q.Choose = true
		default:
			return c.wrong("prompt is " + shown(one) + "; none, login, consent and select_account are known")
		}
	}
	if q.Passive && len(prompts) > 1 {
		return c.wrong("prompt holds none together with others")
	}
	if text := p["max_age"]; text != "" {
		seconds, err := strconv.ParseUint(text, 10, 31)
		if err != nil {
			return c.wrong("max_age is " + shown(text) + "; a number of seconds is wanted")
		}
		age := time.Duration(seconds) * time.Second
		q.MaxAge = &age
	}
	return nil
}

const maxWanted = 100

// claims reads the claims parameter (OpenID Connect Core 1.0, section 5.5).
func (q *Request) claims(c checker, text string) error {
	if text == "" {
		return nil
	}
	o, err := jose.ReadObject([]byte(text))
	if err != nil {
		return c.wrong("claims can't be read: " + err.Error())
	}
	for name, to := range map[string]*map[string]Wanted{"id_token": &q.IDTokenClaims, "userinfo": &q.UserInfoClaims} {
		if !o.Has(name) {
			continue
		}
		members, ok := o[name].(map[string]any)
		if !ok || len(members) > maxWanted {
			return c.wrong("claims: " + name + " is not an object of at most 100 claims")
		}
		*to = map[string]Wanted{}
		for claim, how := range members {
			w := Wanted{}
			if how != nil {
				object, ok := how.(map[string]any)
				if !ok {
					return c.wrong("claims: " + shown(claim) + " is neither null nor an object")
				}
				one, okOne := jose.Object(object).Text("value")
				list, okList := jose.Object(object).Texts("values")
				essential, isFlag := object["essential"].(bool)
				if !okOne || !okList || object["essential"] != nil && !isFlag {
					return c.wrong("claims: " + shown(claim) + " has a value, values or essential of a wrong form")
				}
				w.Essential, w.Values = essential, list
				if one != "" {
					w.Values = append([]string{one}, list...)
				}
			}
			(*to)[claim] = w
		}
	}
	return nil
}

// AskedClaims are the claims that are asked for one by one (OpenID Connect Core 1.0, section 5.5), beside those that say
// how somebody signed in.
func (q *Request) AskedClaims() []string {
	var out []string
	for _, asked := range []map[string]Wanted{q.IDTokenClaims, q.UserInfoClaims} {
		for name := range asked {
			if !slices.Contains([]string{"sub", "acr", "amr", "auth_time"}, name) && !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	slices.Sort(out)
	return out
}

// HandsOn is what somebody agrees to: scopes, and claims that are asked for one by one. No entry holds a space.
func (q *Request) HandsOn() []string {
	out := slices.Clone(q.Scopes)
	for _, name := range q.AskedClaims() {
		out = append(out, "claim:"+url.QueryEscape(name))
	}
	return out
}

// HandsOnInWords is the same for people.
func (q *Request) HandsOnInWords() []string {
	out := []string{}
	for _, scope := range q.Scopes {
		if w := scopeWords[scope]; w != "" {
			out = append(out, w)
		}
	}
	for _, name := range q.AskedClaims() {
		out = append(out, claims.InWords(name))
	}
	return out
}
