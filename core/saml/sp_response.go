package saml

import (
	"crypto/rsa"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"innergate/core/explain"
	"innergate/core/trace"
	"innergate/core/xmlsig"
	"innergate/core/xmltree"
)

// IncomingResponse is a response that nobody has checked yet. It tells only what is needed to find the sign-in that it claims to answer.
type IncomingResponse struct {
	received *Received
	root     *xmltree.Element
	issuer   string
}

// OpenResponse reads a response's outside. Failures carry a code.
func OpenResponse(r *Received) (*IncomingResponse, error) {
	if r.Binding == BindingRedirect {
		return nil, explain.New("saml.response-binding", explain.Pair("binding", "HTTP-POST", BindingName(r.Binding)))
	}
	root, err := xmltree.Parse(r.XML, xmltree.Limits{Bytes: MaxMessage})
	if err != nil {
		return nil, explain.New("saml.unreadable", explain.Fact("reason", err.Error()))
	}
	if !root.Is(NSProtocol, "Response") {
		return nil, explain.New("saml.not-a-response", explain.Pair("message", "Response", root.Local))
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

// Check holds the response against every rule and returns the assertion in it. Whoever calls it must still see that the assertion's ID is used once.
func (in *IncomingResponse) Check(rules ResponseRules, rec *trace.Recorder) (*Assertion, error) {
	c := &checker{rec: rec, partner: rules.Partner, now: rules.Now, skew: rules.Skew}
	r := in.root
	if !c.equal(ruleVersion, "2.0", r.Value("Version")) {
		return nil, c.fail("saml.version", explain.Pair("version", "2.0", r.Value("Version")))
	}
	if d, has := r.Attr("Destination"); has && !c.equal(ruleDestination, rules.ACS, d) {
		return nil, c.fail("saml.destination-mismatch", explain.Pair("Destination", rules.ACS, d))
	}
	if in.issuer != "" && !c.equal(ruleIssuer, string(rules.Issuer), in.issuer) {
		return nil, c.fail("saml.provider-unknown", explain.Pair("issuer", string(rules.Issuer), in.issuer))
	}
	var whole *xmlsig.Verified
	if xmlsig.Signed(r) {
		v, err := c.signature(r, rules.Trust)
		if err != nil {
			return nil, err
		}
		whole = &v
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
		return nil, c.fail("saml.in-response-mismatch", explain.Pair("InResponseTo of response and confirmation", has, a.InResponseTo))
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
			return c.fail("saml.in-response-mismatch", explain.Pair("InResponseTo", rules.RequestID, ""))
		}
		return c.fail("saml.unsolicited")
	}
	if !c.that(ruleAnswers, rules.RequestID != "" && id == rules.RequestID, rules.RequestID, id) {
		return c.fail("saml.in-response-mismatch", explain.Pair("InResponseTo", rules.RequestID, id))
	}
	return nil
}

func (in *IncomingResponse) status(c *checker, rules ResponseRules) error {
	s := in.root.First(NSProtocol, "Status")
	if s == nil || s.First(NSProtocol, "StatusCode") == nil {
		return c.fail("saml.structure", explain.Fact("detail", "the response has no status"))
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
		return c.fail("saml.status-no-passive", evidence...)
	case "NoAuthnContext":
		wanted := "no context"
		if rules.RequestedContext != nil {
			wanted = rules.RequestedContext.Comparison + " " + strings.Join(rules.RequestedContext.Classes, ", ")
		}
		return c.fail("saml.status-no-context", append([]trace.Evidence{explain.Pair("context", wanted, words)}, evidence...)...)
	case "InvalidNameIDPolicy":
		return c.fail("saml.status-nameid-policy", append([]trace.Evidence{explain.Pair("NameID format", orNone(rules.NameIDFormat), words)}, evidence...)...)
	case "RequestDenied":
		return c.fail("saml.status-denied", evidence...)
	}
	return c.fail("saml.status", evidence...)
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
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
		return none, "", c.fail("saml.assertion-count", explain.Pair("assertions", "1", strconv.Itoa(len(found))))
	}
	a, opened := found[0], ""
	if a.Local == "EncryptedAssertion" {
		inner, err := c.open(a, rules, whole != nil)
		if err != nil {
			return none, "", err
		}
		if !inner.Is(NSAssertion, "Assertion") {
			return none, "", c.fail("saml.structure", explain.Fact("detail", "what was encrypted is not an assertion"))
		}
		if n := countAssertions(inner); n != 1 {
			return none, "", c.fail("saml.assertion-count", explain.Pair("assertions", "1", strconv.Itoa(n)))
		}
		a, opened = inner, string(inner.Bytes())
	} else if countAssertions(a) != 1 {
		return none, "", c.fail("saml.assertion-count", explain.Pair("assertions", "1", "several, one inside another"))
	}
	switch {
	case xmlsig.Signed(a):
		v, err := c.signature(a, rules.Trust)
		return v, opened, err
	case whole == nil:
		c.that(ruleSigned, false, "assertion or response", "neither")
		return none, "", c.fail("saml.signature-missing")
	case rules.WantAssertionSigned:
		c.that(ruleSigned, false, "assertion", "response only")
		return none, "", c.fail("saml.signature-on-response-only")
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
		c.that(ruleDecrypt, false, "AES-GCM with RSA-OAEP", algorithm.Algorithm)
		return nil, c.fail("saml.encryption-algorithm", explain.Fact("algorithm", algorithm.Algorithm))
	}
	var e *xmltree.Element
	if err == nil {
		e, err = xmltree.ParseFragment(plain, holder.Scope(), xmltree.Limits{Bytes: MaxMessage})
	}
	if !c.that(ruleDecrypt, err == nil, "", holder.Local) {
		return nil, c.fail("saml.decryption-failed")
	}
	return e, nil
}

// assertion reads a verified assertion and checks all that it says.
func (c *checker) assertion(rules ResponseRules, v xmlsig.Verified, responseSigned bool) (*Assertion, error) {
	e := v.Element()
	a := &Assertion{ID: e.Value("ID"), Issuer: rules.Issuer}
	if !c.equal(ruleVersion, "2.0", e.Value("Version")) {
		return nil, c.fail("saml.version", explain.Pair("version of the assertion", "2.0", e.Value("Version")))
	}
	if a.ID == "" || len(a.ID) > 1024 {
		return nil, c.fail("saml.structure", explain.Fact("detail", "the assertion has no proper ID"))
	}
	issuer := e.First(NSAssertion, "Issuer")
	if issuer == nil {
		return nil, c.fail("saml.structure", explain.Fact("detail", "the assertion has no issuer"))
	}
	name, err := c.plain(issuer, 1024)
	if err != nil {
		return nil, err
	}
	if !c.equal(ruleIssuer, string(rules.Issuer), name) {
		return nil, c.fail("saml.provider-unknown", explain.Pair("issuer of the assertion", string(rules.Issuer), name))
	}
	issued, has, err := c.time(e, "IssueInstant")
	if err != nil || !has {
		return nil, c.fail("saml.structure", explain.Fact("detail", "the assertion has no proper IssueInstant"))
	}
	if issued.After(c.now.Add(c.skew)) {
		c.that(ruleTime, false, formatTime(c.now), formatTime(issued))
		return nil, c.fail("saml.not-yet-valid", explain.Pair("IssueInstant", formatTime(c.now), formatTime(issued)))
	}
	if err := c.conditions(e, rules, issued); err != nil {
		return nil, err
	}
	if err := c.subject(e, rules, a, issued, responseSigned || xmlsig.Signed(e)); err != nil {
		return nil, err
	}
	if err := c.authn(e, rules, a); err != nil {
		return nil, err
	}
	if a.Attributes, err = c.attributes(e, rules, responseSigned || xmlsig.Signed(e)); err != nil {
		return nil, err
	}
	return a, nil
}

func (c *checker) conditions(e *xmltree.Element, rules ResponseRules, issued time.Time) error {
	conditions := e.First(NSAssertion, "Conditions")
	if conditions == nil {
		c.that(ruleAudience, false, string(rules.Audience), "")
		return c.fail("saml.audience-missing", explain.Pair("audience", string(rules.Audience), ""))
	}
	from, hasFrom, err := c.time(conditions, "NotBefore")
	if err != nil {
		return err
	}
	until, hasUntil, err := c.time(conditions, "NotOnOrAfter")
	if err != nil {
		return err
	}
	if hasFrom && c.now.Add(c.skew).Before(from) {
		c.that(ruleTime, false, formatTime(c.now), formatTime(from))
		return c.fail("saml.not-yet-valid", explain.Pair("NotBefore", formatTime(c.now), formatTime(from)))
	}
	if hasUntil {
		if err := c.end("conditions", until, issued, rules.MaxLifetime); err != nil {
			return err
		}
	}
	audiences := 0
	for child := range conditions.Elements {
		switch {
		case child.Is(NSAssertion, "AudienceRestriction"):
			audiences++
			if err := c.audience(child, rules); err != nil {
				return err
			}
		case child.Is(NSAssertion, "OneTimeUse"):
		case child.Is(NSAssertion, "ProxyRestriction"):
			if count := child.Value("Count"); count == "0" || len(child.All(NSAssertion, "Audience")) > 0 {
				c.that(ruleConditions, false, "", "ProxyRestriction")
				return c.fail("saml.proxy-restricted", explain.Fact("restriction", "Count "+count))
			}
		default:
			c.that(ruleConditions, false, "", child.Name())
			return c.fail("saml.condition-unknown", explain.Fact("condition", child.Name()))
		}
	}
	c.that(ruleConditions, true, "", "")
	if audiences == 0 {
		c.that(ruleAudience, false, string(rules.Audience), "")
		return c.fail("saml.audience-missing", explain.Pair("audience", string(rules.Audience), ""))
	}
	return nil
}

// audience checks one restriction; all of them must hold, each if any of its audiences is ours (SAML Core, section 2.5.1.4).
func (c *checker) audience(restriction *xmltree.Element, rules ResponseRules) error {
	var named []string
	for _, a := range restriction.All(NSAssertion, "Audience") {
		v, err := c.plain(a, 1024)
		if err != nil {
			return err
		}
		named = append(named, v)
	}
	got := strings.Join(named, ", ")
	if !c.that(ruleAudience, slices.Contains(named, string(rules.Audience)), string(rules.Audience), got) {
		return c.fail("saml.audience-mismatch", explain.Pair("audience", string(rules.Audience), got))
	}
	return nil
}

// end checks a NotOnOrAfter against now and against the longest lifetime.
func (c *checker) end(where string, until, issued time.Time, limit time.Duration) error {
	if !c.that(ruleTime, c.now.Add(-c.skew).Before(until), formatTime(c.now), formatTime(until)) {
		return c.fail("saml.expired", explain.Pair("NotOnOrAfter of "+where, formatTime(c.now), formatTime(until)))
	}
	if life := until.Sub(issued); life > limit {
		c.that(ruleLifetime, false, limit.String(), life.String())
		return c.fail("saml.lifetime", explain.Pair("lifetime by "+where, limit.String(), life.String()))
	}
	return nil
}

func (c *checker) subject(e *xmltree.Element, rules ResponseRules, a *Assertion, issued time.Time, signed bool) error {
	subjects := e.All(NSAssertion, "Subject")
	if len(subjects) != 1 {
		return c.fail("saml.nameid-missing", explain.Fact("subjects", strconv.Itoa(len(subjects))))
	}
	subject := subjects[0]
	names, sealed := subject.All(NSAssertion, "NameID"), subject.All(NSAssertion, "EncryptedID")
	if len(names)+len(sealed) > 1 || subject.First(NSAssertion, "BaseID") != nil {
		return c.fail("saml.structure", explain.Fact("detail", "the subject is named twice, or by a BaseID"))
	}
	if len(sealed) == 1 {
		inner, err := c.open(sealed[0], rules, signed)
		if err != nil {
			return err
		}
		if !inner.Is(NSAssertion, "NameID") {
			return c.fail("saml.structure", explain.Fact("detail", "what was encrypted is not a NameID"))
		}
		names = append(names, inner)
	}
	switch {
	case len(names) == 1:
		n, err := c.nameID(names[0])
		if err != nil {
			return err
		}
		a.NameID = n
		wanted := rules.NameIDFormat
		if wanted == FormatUnspecified {
			wanted = ""
		}
		if !c.that(ruleNameID, wanted == "" || n.EffectiveFormat() == wanted, wanted, n.EffectiveFormat()) {
			return c.fail("saml.nameid-format", explain.Pair("NameID format", wanted, n.EffectiveFormat()))
		}
	case !rules.SubjectOptional:
		c.that(ruleNameID, false, "a NameID", "")
		return c.fail("saml.nameid-missing")
	}
	return c.confirmed(subject, rules, a, issued)
}

// confirmed looks for a bearer confirmation that holds. Several may be there; the first reason against one is told if none holds.
func (c *checker) confirmed(subject *xmltree.Element, rules ResponseRules, a *Assertion, issued time.Time) error {
	var first error
	for _, confirmation := range subject.All(NSAssertion, "SubjectConfirmation") {
		if confirmation.Value("Method") != methodBearer {
			continue
		}
		err := c.bearer(confirmation, rules, a, issued)
		if err == nil {
			return nil
		}
		if first == nil {
			first = err
		}
	}
	if first == nil {
		c.that(ruleBearer, false, "bearer", "none")
		first = c.fail("saml.confirmation", explain.Fact("detail", "there is no bearer confirmation"))
	}
	return first
}

func (c *checker) bearer(confirmation *xmltree.Element, rules ResponseRules, a *Assertion, issued time.Time) error {
	data := confirmation.First(NSAssertion, "SubjectConfirmationData")
	if data == nil {
		c.that(ruleBearer, false, "SubjectConfirmationData", "")
		return c.fail("saml.confirmation", explain.Fact("detail", "it has no SubjectConfirmationData"))
	}
	if _, has := data.Attr("NotBefore"); has {
		c.that(ruleBearer, false, "", "NotBefore")
		return c.fail("saml.confirmation", explain.Fact("detail", "it has a NotBefore, which a bearer confirmation must not have"))
	}
	until, has, err := c.time(data, "NotOnOrAfter")
	if err != nil {
		return err
	}
	if !c.that(ruleBearer, has, "NotOnOrAfter", "") {
		return c.fail("saml.no-end")
	}
	recipient := data.Value("Recipient")
	if !c.equal(ruleRecipient, rules.ACS, recipient) {
		return c.fail("saml.recipient-mismatch", explain.Pair("Recipient", rules.ACS, recipient))
	}
	if err := c.end("the confirmation", until, issued, rules.MaxLifetime); err != nil {
		return err
	}
	answers := &IncomingResponse{}
	if err := answers.answers(c, rules, "confirmation", data.Value("InResponseTo")); err != nil {
		return err
	}
	a.InResponseTo, a.NotOnOrAfter = data.Value("InResponseTo"), until.Add(c.skew)
	return nil
}

func (c *checker) authn(e *xmltree.Element, rules ResponseRules, a *Assertion) error {
	statement := e.First(NSAssertion, "AuthnStatement")
	if !c.that(ruleAuthn, statement != nil, "", "") {
		return c.fail("saml.authn-missing")
	}
	at, has, err := c.time(statement, "AuthnInstant")
	if err != nil {
		return err
	}
	if !has {
		return c.fail("saml.structure", explain.Fact("detail", "the AuthnStatement has no AuthnInstant"))
	}
	a.AuthnInstant, a.SessionIndex = at, statement.Value("SessionIndex")
	if err := c.bounded("SessionIndex", a.SessionIndex, 1024); err != nil {
		return err
	}
	if at.After(c.now.Add(c.skew)) {
		c.that(ruleFresh, false, formatTime(c.now), formatTime(at))
		return c.fail("saml.not-yet-valid", explain.Pair("AuthnInstant", formatTime(c.now), formatTime(at)))
	}
	if !rules.FreshSince.IsZero() {
		if !c.that(ruleFresh, !at.Before(rules.FreshSince.Add(-c.skew)), formatTime(rules.FreshSince), formatTime(at)) {
			return c.fail("saml.authn-old", explain.Pair("AuthnInstant", formatTime(rules.FreshSince), formatTime(at)))
		}
	}
	end, has, err := c.time(statement, "SessionNotOnOrAfter")
	if err != nil {
		return err
	}
	if has {
		if !c.that(ruleSession, c.now.Add(-c.skew).Before(end), formatTime(c.now), formatTime(end)) {
			return c.fail("saml.session-over", explain.Pair("SessionNotOnOrAfter", formatTime(c.now), formatTime(end)))
		}
		a.SessionNotOnOrAfter = end
	}
	return c.context(statement, rules, a)
}

func (c *checker) context(statement *xmltree.Element, rules ResponseRules, a *Assertion) error {
	if context := statement.First(NSAssertion, "AuthnContext"); context != nil {
		if class := context.First(NSAssertion, "AuthnContextClassRef"); class != nil {
			v, err := c.plain(class, 1024)
			if err != nil {
				return err
			}
			a.Context = strings.TrimSpace(v)
		}
		for _, authority := range context.All(NSAssertion, "AuthenticatingAuthority") {
			v, err := c.plain(authority, 1024)
			if err != nil {
				return err
			}
			if a.Authorities = append(a.Authorities, v); len(a.Authorities) > 32 {
				return c.fail("saml.structure", explain.Fact("detail", "there are more than 32 AuthenticatingAuthorities"))
			}
		}
	}
	if rules.RequestedContext == nil {
		return nil
	}
	wanted := rules.RequestedContext.Comparison + " " + strings.Join(rules.RequestedContext.Classes, ", ")
	if !c.that(ruleContext, rules.RequestedContext.Met(a.Context), wanted, a.Context) {
		return c.fail("saml.context-not-met", explain.Pair("context", wanted, a.Context))
	}
	return nil
}

// Bounds of what one assertion may carry.
const (
	maxAttributes = 500
	maxValues     = 10000
	maxValue      = 64 << 10
)

func (c *checker) attributes(e *xmltree.Element, rules ResponseRules, signed bool) ([]Attribute, error) {
	var out []Attribute
	values := 0
	for _, statement := range e.All(NSAssertion, "AttributeStatement") {
		for child := range statement.Elements {
			if child.Is(NSAssertion, "EncryptedAttribute") {
				inner, err := c.open(child, rules, signed)
				if err != nil {
					return nil, err
				}
				child = inner
			}
			if !child.Is(NSAssertion, "Attribute") {
				return nil, c.fail("saml.structure", explain.Fact("detail", "<"+child.Name()+"> stands among the attributes"))
			}
			attr, err := c.attribute(child)
			if err != nil {
				return nil, err
			}
			out, values = append(out, attr), values+len(attr.Values)
			if len(out) > maxAttributes || values > maxValues {
				return nil, c.fail("saml.value-refused", explain.Fact("value", fmt.Sprintf("there are more than %d attributes or %d values", maxAttributes, maxValues)))
			}
		}
	}
	return out, nil
}

func (c *checker) attribute(e *xmltree.Element) (Attribute, error) {
	attr := Attribute{Name: e.Value("Name"), NameFormat: e.Value("NameFormat"), FriendlyName: e.Value("FriendlyName")}
	if attr.Name == "" {
		return attr, c.fail("saml.structure", explain.Fact("detail", "an attribute has no Name"))
	}
	if err := c.bounded("Attribute Name", attr.Name, 1024); err != nil {
		return attr, err
	}
	values := e.All(NSAssertion, "AttributeValue")
	attr.Values = make([]string, 0, len(values))
	for _, v := range values {
		if isNil, _ := v.AttrNS(nsXSI, "nil"); isNil == "true" || isNil == "1" {
			continue
		}
		// A NameID may stand inside a value; its text is the value then.
		if inner := v.First(NSAssertion, "NameID"); inner != nil {
			v = inner
		} else if first := firstElement(v); first != nil {
			// Structured values have no place in a profile; they stay visible in the raw message.
			continue
		}
		text, ok := v.PlainText()
		if !ok {
			return attr, c.fail("saml.value-refused", explain.Fact("value", "a value of "+attr.Name+" holds something other than text, such as a comment"))
		}
		if err := c.bounded(attr.Name, text, maxValue); err != nil {
			return attr, err
		}
		attr.Values = append(attr.Values, text)
	}
	return attr, nil
}

func firstElement(e *xmltree.Element) *xmltree.Element {
	for c := range e.Elements {
		return c
	}
	return nil
}
