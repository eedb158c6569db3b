package saml

import (
	"cmp"
	"crypto/rsa"
	"errors"
	"strconv"
	"strings"
	"time"

	"innergate/core/explain"
	"innergate/core/trace"
	"innergate/core/xmlsig"
	"innergate/core/xmltree"
)

// IncomingResponse is a response that nobody has checked yet. It tells only what is needed to find the sign-in that it
// claims to answer.
type IncomingResponse struct {
	received *Received
	root     *xmltree.Element
	issuer   string
}

// OpenResponse reads a response's outside. Failures carry a code.
func OpenResponse(r *Received) (*IncomingResponse, error) {
	if r.Binding == BindingRedirect {
		return nil, explain.New(explain.SAMLResponseBinding, explain.Pair("binding", "HTTP-POST", BindingName(r.Binding)))
	}
	root, err := xmltree.Parse(r.XML, xmltree.Limits{Bytes: MaxMessage})
	if err != nil {
		return nil, explain.New(explain.SAMLUnreadable, explain.Fact("reason", err.Error()))
	}
	if !root.Is(NSProtocol, "Response") {
		return nil, explain.New(explain.SAMLNotAResponse, explain.Pair("message", "Response", root.Local))
	}
	in := &IncomingResponse{received: r, root: root}
	if i := root.First(NSAssertion, "Issuer"); i != nil {
		if in.issuer, err = (&checker{}).plain(i, 1024); err != nil {
			return nil, err
		}
	}
	return in, nil
}

// ClaimedIssuer is the issuer that the response names, if any.
func (in *IncomingResponse) ClaimedIssuer() string { return in.issuer }

// ClaimedInResponseTo is the request that the response claims to answer, empty for an unsolicited one.
func (in *IncomingResponse) ClaimedInResponseTo() string { return in.root.Value("InResponseTo") }

// ResponseRules is what a provider's response is checked against.
type ResponseRules struct {
	Partner   string // the provider's name, for texts
	Issuer    EntityID
	Audience  EntityID // our entity ID towards this provider
	ACS       string   // our address at which the response must arrive
	RequestID string   // the request of this very browser; empty if none was sent
	// AllowUnsolicited accepts a response that answers nothing.
	AllowUnsolicited bool
	Trust            Trust
	// WantAssertionSigned refuses an assertion that only its response signs.
	WantAssertionSigned bool
	DecryptionKeys      []*rsa.PrivateKey
	AllowCBC            bool
	Now                 time.Time
	Skew                time.Duration
	MaxLifetime         time.Duration
	// FreshSince, if set, is when a fresh sign-in was demanded: an AuthnInstant before it is refused.
	FreshSince       time.Time
	RequestedContext *RequestedContext
	NameIDFormat     string // the one asked for, empty if none
	// SubjectOptional accepts an assertion without a NameID, for providers whose identifier is an attribute.
	SubjectOptional bool
}

// Assertion is what a provider's checked response says. It is made from exactly what was signed.
type Assertion struct {
	ID                  string
	Issuer              EntityID
	NameID              *NameID
	InResponseTo        string
	AuthnInstant        time.Time
	SessionIndex        string
	SessionNotOnOrAfter time.Time
	Context             string
	Authorities         []string
	Attributes          []Attribute
	// NotOnOrAfter is until when the assertion's ID must be remembered.
	NotOnOrAfter time.Time
	// Certificate is the trusted certificate whose key made the signature that counted.
	Certificate *Certificate
	// Opened holds the decrypted assertion where it came encrypted, for the trace.
	Opened string
}

var (
	ruleVersion     = rule{"saml.version", "Version is 2.0", "SAML Core 3.2.2"}
	ruleDestination = rule{"saml.destination", "Destination is our ACS URL", "SAML Core 3.2.2"}
	ruleIssuer      = rule{"saml.issuer", "Issuer is the provider", "SAML Profiles 4.1.4.2"}
	ruleStatus      = rule{"saml.status", "Status is success", "SAML Core 3.2.2.1"}
	ruleOne         = rule{"saml.assertion-count", "Exactly one assertion", "our rule"}
	ruleAudience    = rule{"saml.audience", "Audience is our entity ID", "SAML Core 2.5.1.4"}
	ruleConditions  = rule{"saml.conditions", "Every condition is understood", "SAML Core 2.5.1"}
	ruleTime        = rule{"saml.in-time", "The assertion is in time", "SAML Core 2.5.1.2"}
	ruleLifetime    = rule{"saml.lifetime", "The assertion does not live too long", "our rule"}
	ruleBearer      = rule{"saml.confirmation", "Confirmed for its bearer, with an end", "SAML Profiles 4.1.4.2"}
	ruleRecipient   = rule{"saml.recipient", "Recipient is our ACS URL", "SAML Profiles 4.1.4.3"}
	ruleAnswers     = rule{"saml.in-response-to", "Answers our request from this browser", "SAML Profiles 4.1.4.3"}
	ruleAuthn       = rule{"saml.authn-statement", "Says that the person signed in", "SAML Profiles 4.1.4.2"}
	ruleFresh       = rule{"saml.authn-instant", "The person was asked anew", "SAML Core 3.4.1"}
	ruleContext     = rule{"saml.context", "The context that was asked for", "SAML Core 3.3.2.2.1"}
	ruleSession     = rule{"saml.session-end", "The provider's session is not over", "SAML Core 2.7.2"}
	ruleNameID      = rule{"saml.nameid", "A NameID came in the format asked for", "SAML Core 3.4.1.1"}
	ruleDecrypt     = rule{"saml.decryption", "Encrypted for a key of ours", "XML Encryption 1.1"}
)

// Check holds the response against every rule and returns the assertion in it. Whoever calls it must still see that the
// assertion's ID is used once.
func (in *IncomingResponse) Check(rules ResponseRules, rec *trace.Recorder) (*Assertion, error) {
	c := &checker{rec: rec, partner: rules.Partner, now: rules.Now, skew: rules.Skew}
	r := in.root
	if !c.equal(ruleVersion, "2.0", r.Value("Version")) {
		return nil, c.fail(explain.SAMLVersion, explain.Pair("version", "2.0", r.Value("Version")))
	}
	if d, has := r.Attr("Destination"); has && !c.equal(ruleDestination, rules.ACS, d) {
		return nil, c.fail(explain.SAMLDestinationMismatch, explain.Pair("Destination", rules.ACS, d))
	}
	if in.issuer != "" && !c.equal(ruleIssuer, string(rules.Issuer), in.issuer) {
		return nil, c.fail(explain.SAMLProviderUnknown, explain.Pair("issuer", string(rules.Issuer), in.issuer))
	}
	var whole *xmlsig.Verified
	if xmlsig.Signed(r) {
		v, err := c.signature(r, rules.Trust)
		if err != nil {
			return nil, err
		}
		whole = &v
		// A message that is signed by itself and posted says for whom it is (SAML Bindings, section 3.5.5.2).
		if _, has := r.Attr("Destination"); !has && in.received != nil && in.received.Binding == BindingPost {
			c.that(ruleDestination, false, rules.ACS, "")
			return nil, c.fail(explain.SAMLDestinationMissing, explain.Pair("Destination", rules.ACS, ""))
		}
	}
	if err := in.answers(c, rules, "response", r.Value("InResponseTo")); err != nil {
		return nil, err
	}
	if err := in.status(c, rules); err != nil {
		return nil, err
	}
	verified, opened, err := in.assertion(c, rules, whole)
	if err != nil {
		return nil, err
	}
	a, err := c.assertion(rules, verified, whole != nil)
	if err != nil {
		return nil, err
	}
	// The response's own InResponseTo and the confirmation's must agree (SAML Profiles, section 4.1.4.2).
	if has := r.Value("InResponseTo"); has != a.InResponseTo {
		return nil, c.fail(explain.SAMLInResponseMismatch, explain.Pair("InResponseTo of response and confirmation", has, a.InResponseTo))
	}
	a.Opened = opened
	a.Certificate = rules.Trust.Certificates[verified.Key()]
	return a, nil
}

func (in *IncomingResponse) answers(c *checker, rules ResponseRules, where, id string) error {
	if id == "" {
		if c.that(ruleAnswers, rules.RequestID == "" && rules.AllowUnsolicited, rules.RequestID, "nothing ("+where+")") {
			return nil
		}
		if rules.RequestID != "" {
			return c.fail(explain.SAMLInResponseMismatch, explain.Pair("InResponseTo", rules.RequestID, ""))
		}
		return c.fail(explain.SAMLUnsolicited)
	}
	if !c.that(ruleAnswers, rules.RequestID != "" && id == rules.RequestID, rules.RequestID, id) {
		return c.fail(explain.SAMLInResponseMismatch, explain.Pair("InResponseTo", rules.RequestID, id))
	}
	return nil
}

func (in *IncomingResponse) status(c *checker, rules ResponseRules) error {
	s := in.root.First(NSProtocol, "Status")
	if s == nil || s.First(NSProtocol, "StatusCode") == nil {
		return c.fail(explain.SAMLStructure, explain.Fact("detail", "the response has no status"))
	}
	top := s.First(NSProtocol, "StatusCode")
	code, sub, message := top.Value("Value"), "", ""
	if inner := top.First(NSProtocol, "StatusCode"); inner != nil {
		sub = inner.Value("Value")
	}
	if m := s.First(NSProtocol, "StatusMessage"); m != nil {
		message = m.Text()
	}
	if c.equal(ruleStatus, statusSuccess, code) {
		return nil
	}
	words := strings.TrimPrefix(code, statusPrefix)
	if sub != "" {
		words += " / " + strings.TrimPrefix(sub, statusPrefix)
	}
	evidence := []trace.Evidence{explain.Fact("status", clip(words, 200))}
	if message != "" {
		evidence = append(evidence, explain.Fact("message", clip(message, 500)))
	}
	switch strings.TrimPrefix(sub, statusPrefix) {
	case "NoPassive":
		return c.fail(explain.SAMLStatusNoPassive, evidence...)
	case "NoAuthnContext":
		wanted := "no context"
		if rules.RequestedContext != nil {
			wanted = rules.RequestedContext.Comparison + " " + strings.Join(rules.RequestedContext.Classes, ", ")
		}
		return c.fail(explain.SAMLStatusNoContext, append([]trace.Evidence{explain.Pair("context", wanted, words)}, evidence...)...)
	case "InvalidNameIDPolicy":
		return c.fail(
			explain.SAMLStatusNameIDPolicy,
			append([]trace.Evidence{explain.Pair("NameID format", cmp.Or(rules.NameIDFormat, "none"), words)}, evidence...)...)
	case "RequestDenied":
		return c.fail(explain.SAMLStatusDenied, evidence...)
	}
	return c.fail(explain.SAMLStatus, evidence...)
}

func clip(s string, n int) string {
	if len(s) > n {
		return strings.ToValidUTF8(s[:n], "") + "…"
	}
	return s
}

// assertion finds the one assertion, opens it if it is encrypted, and verifies whatever signature it is under.
func (in *IncomingResponse) assertion(c *checker, rules ResponseRules, whole *xmlsig.Verified) (xmlsig.Verified, string, error) {
	var none xmlsig.Verified
	var found []*xmltree.Element
	stray := 0
	in.root.Walk(func(e *xmltree.Element) bool {
		if e.Space == NSAssertion && (e.Local == "Assertion" || e.Local == "EncryptedAssertion") {
			if found = append(found, e); e.Parent != in.root {
				stray++
			}
		}
		return true
	})
	if !c.that(ruleOne, len(found) == 1 && stray == 0, "1", strconv.Itoa(len(found))) {
		return none, "", c.fail(explain.SAMLAssertionCount, explain.Pair("assertions", "1", strconv.Itoa(len(found))))
	}
	a, opened := found[0], ""
	if a.Local == "EncryptedAssertion" {
		inner, err := c.open(a, rules, whole != nil)
		if err != nil {
			return none, "", err
		}
		if !inner.Is(NSAssertion, "Assertion") {
			return none, "", c.fail(explain.SAMLStructure, explain.Fact("detail", "what was encrypted is not an assertion"))
		}
		if n := countAssertions(inner); n != 1 {
			return none, "", c.fail(explain.SAMLAssertionCount, explain.Pair("assertions", "1", strconv.Itoa(n)))
		}
		a, opened = inner, string(inner.Bytes())
	} else if countAssertions(a) != 1 {
		return none, "", c.fail(explain.SAMLAssertionCount, explain.Pair("assertions", "1", "several, one inside another"))
	}
	switch {
	case xmlsig.Signed(a):
		v, err := c.signature(a, rules.Trust)
		return v, opened, err
	case whole == nil:
		c.that(ruleSigned, false, "assertion or response", "neither")
		return none, "", c.fail(explain.SAMLSignatureMissing)
	case rules.WantAssertionSigned:
		c.that(ruleSigned, false, "assertion", "response only")
		return none, "", c.fail(explain.SAMLSignatureOnResponseOnly)
	case opened != "":
		// The ciphertext was under the response's signature, so what it opens to is as well.
		v, err := whole.Opened(found[0], a)
		return v, opened, err
	}
	v, err := whole.Within(a)
	return v, opened, err
}

func countAssertions(e *xmltree.Element) int {
	n := 0
	e.Walk(func(x *xmltree.Element) bool {
		if x.Space == NSAssertion && (x.Local == "Assertion" || x.Local == "EncryptedAssertion") {
			n++
		}
		return true
	})
	return n
}

// open decrypts what stands in holder and reads it as a fragment of the surrounding document.
func (c *checker) open(holder *xmltree.Element, rules ResponseRules, signed bool) (*xmltree.Element, error) {
	plain, err := xmlsig.Decrypt(holder, rules.DecryptionKeys, rules.AllowCBC && signed)
	var algorithm *xmlsig.AlgorithmError
	if errors.As(err, &algorithm) {
		if rules.AllowCBC && !signed {
			c.that(ruleDecrypt, false, "AES-CBC under a signed response", algorithm.Algorithm+", and the response is not signed")
			return nil, c.fail(explain.SAMLEncryptionUnsigned, explain.Fact("algorithm", algorithm.Algorithm))
		}
		c.that(ruleDecrypt, false, "AES-GCM with RSA-OAEP", algorithm.Algorithm)
		return nil, c.fail(explain.SAMLEncryptionAlgorithm, explain.Fact("algorithm", algorithm.Algorithm))
	}
	var e *xmltree.Element
	if err == nil {
		e, err = xmltree.ParseFragment(plain, holder.Scope(), xmltree.Limits{Bytes: MaxMessage})
	}
	if !c.that(ruleDecrypt, err == nil, "", holder.Local) {
		return nil, c.fail(explain.SAMLDecryptionFailed)
	}
	return e, nil
}
