package oidc

import (
	"encoding/base64"
	"net/url"
	"slices"
	"strings"
	"time"

	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/keys"
	"innergate/core/trace"
)

// Proof is how a client says who it is at an endpoint of ours (RFC 6749, section 2.3; RFC 7523, section 2.2). Nothing
// of it is checked yet.
type Proof struct {
	Method    string
	ClientID  string
	secret    string
	assertion *jose.Parsed
}

const assertionType = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer"

// ReadProof finds the one proof in a request: the Authorization header and the form. Failures carry a code.
func ReadProof(authorization string, form Parameters) (*Proof, error) {
	bad := func(why string) (*Proof, error) {
		return nil, explain.New(explain.OIDCProofUnreadable, explain.Fact("proof", why))
	}
	var found []string
	p := &Proof{Method: AuthNone, ClientID: form["client_id"]}
	if authorization != "" {
		scheme, encoded, _ := strings.Cut(authorization, " ")
		data, err := base64.StdEncoding.DecodeString(strings.TrimSpace(encoded))
		id, secret, ok := strings.Cut(string(data), ":")
		if !strings.EqualFold(scheme, "Basic") || err != nil || !ok {
			return bad("the Authorization header is not of the form Basic")
		}
		// Both parts are form-encoded (RFC 6749, section 2.3.1).
		decodedID, err := url.QueryUnescape(id)
		if err != nil {
			return bad("the client ID in the Authorization header is not form-encoded")
		}
		decodedSecret, err := url.QueryUnescape(secret)
		if err != nil {
			return bad("the secret in the Authorization header is not form-encoded")
		}
		if p.ClientID != "" && p.ClientID != decodedID {
			return bad("the client ID in the Authorization header is another than in the form")
		}
		p.Method, p.ClientID, p.secret = AuthBasic, decodedID, decodedSecret
		found = append(found, AuthBasic)
	}
	if form["client_secret"] != "" {
		p.Method, p.secret = AuthPost, form["client_secret"]
		found = append(found, AuthPost)
	}
	if form["client_assertion"] != "" || form["client_assertion_type"] != "" {
		if form["client_assertion_type"] != assertionType {
			return bad("client_assertion_type is not " + assertionType)
		}
		parsed, err := jose.Parse(form["client_assertion"])
		if err != nil {
			return nil, err
		}
		subject, ok := parsed.Claims.Text("sub")
		if !ok || subject == "" || p.ClientID != "" && p.ClientID != subject {
			return bad("the assertion's sub is not the client ID")
		}
		p.Method, p.ClientID, p.assertion = AuthPrivateKey, subject, parsed
		found = append(found, AuthPrivateKey)
	}
	if len(found) > 1 {
		return nil, explain.New(explain.OIDCProofSeveral, explain.Fact("methods", strings.Join(found, ", ")))
	}
	if p.ClientID == "" || len(p.ClientID) > maxShort {
		return bad("it names no client")
	}
	return p, nil
}

// Known is what is held to check a client's proof with.
type Known struct {
	Partner string
	Method  string // the one that is registered
	// Secrets are the hashes (keys.HashSecret) of those valid now; two while one is changed over.
	Secrets [][]byte
	Keys    jose.KeySet
	// Audiences lists what an assertion may be made for: our issuer alone, unless an older client names the token
	// endpoint.
	Audiences []string
	Now       time.Time
	Skew      time.Duration
}

// Used names an assertion that has been accepted: whoever calls Check must see that it is used once.
type Used struct {
	ID    string
	Until time.Time
}

// maxAssertionLife is how far ahead an assertion's end may lie.
const maxAssertionLife = 10 * time.Minute

var (
	ruleMethod    = rule{"oidc.client-method", "Authenticates in the registered way", "OpenID Connect Core 9"}
	ruleSecret    = rule{"oidc.client-secret", "The client secret is valid", "RFC 6749 2.3.1"}
	ruleAssertion = rule{"oidc.client-assertion", "The assertion is the client's, for us, and in time", "RFC 7523 3"}
)

// Check holds a proof against what is registered. Used is set for an assertion.
func (p *Proof) Check(k Known, rec *trace.Recorder) (*Used, error) {
	c := checker{rec, k.Partner}
	if !c.equal(ruleMethod, k.Method, p.Method) {
		if p.Method == AuthNone {
			return nil, c.fail(explain.OIDCProofMissing, explain.Pair("method", k.Method, ""))
		}
		return nil, c.fail(explain.OIDCProofMethod, explain.Pair("method", k.Method, p.Method))
	}
	switch p.Method {
	case AuthBasic, AuthPost:
		fits := slices.ContainsFunc(k.Secrets, func(hash []byte) bool { return keys.SecretFits(hash, p.secret) })
		if !c.that(ruleSecret, fits, "", "") {
			return nil, c.fail(explain.OIDCProofSecret)
		}
	case AuthPrivateKey:
		return p.checkAssertion(c, k)
	}
	return nil, nil
}

func (p *Proof) checkAssertion(c checker, k Known) (*Used, error) {
	// An assertion says nothing of its type, or that it is a JWT, or what it is; it can't be a token of ours, since its
	// key is the client's.
	token, err := p.assertion.Verify(jose.Rules{Types: []string{"", jose.TypeID, "client-authentication+jwt"}, Keys: k.Keys})
	if err != nil {
		c.that(ruleAssertion, false, "", err.Error())
		return nil, c.of(err)
	}
	bad := func(why string) (*Used, error) {
		c.that(ruleAssertion, false, "", why)
		return nil, c.fail(explain.OIDCProofAssertion, explain.Fact("assertion", why))
	}
	issuer, _ := token.Claims.Text("iss")
	audience, ok := token.Claims.Texts("aud")
	id, okID := token.Claims.Text("jti")
	exp, hasEnd, okEnd := token.Claims.Number("exp")
	nbf, _, okBegin := token.Claims.Number("nbf")
	iat, _, okIssued := token.Claims.Number("iat")
	end := time.Unix(exp, 0)
	switch {
	case issuer != p.ClientID:
		return bad("its iss is not the client ID")
	case !ok || len(audience) != 1 || !slices.Contains(k.Audiences, audience[0]):
		return bad("its aud is not " + strings.Join(k.Audiences, " or ") + " alone")
	case !okID || id == "" || len(id) > maxShort:
		return bad("it has no jti of at most 1024 octets, so it could be used again")
	case !hasEnd || !okEnd || !okBegin || !okIssued:
		return bad("it has no end (exp), or a time that is none")
	case !k.Now.Before(end.Add(k.Skew)):
		return bad("it ended at " + formatTime(end))
	case end.After(k.Now.Add(maxAssertionLife + k.Skew)):
		return bad("it ends more than ten minutes from now, at " + formatTime(end))
	case time.Unix(nbf, 0).After(k.Now.Add(k.Skew)), time.Unix(iat, 0).After(k.Now.Add(k.Skew)):
		return bad("it begins in the future")
	}
	c.that(ruleAssertion, true, "", "")
	return &Used{ID: id, Until: end.Add(k.Skew)}, nil
}

// Fits says whether the proof is the secret with this hash.
func (p *Proof) Fits(hash []byte) bool { return p.secret != "" && keys.SecretFits(hash, p.secret) }
