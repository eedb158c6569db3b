package saml

import (
	"time"

	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/trace"
	"innergate/core/xmlsig"
	"innergate/core/xmltree"
)

// IncomingLogout is a LogoutRequest that nobody has checked yet.
type IncomingLogout struct {
	request IncomingRequest
}

// LogoutRequest is a checked request to sign somebody out (SAML Core, section 3.7.1).
type LogoutRequest struct {
	ID             string
	NameID         NameID
	SessionIndexes []string // none means all sessions
	RelayState     string
	Certificate    *Certificate
	Signed         bool
	Issued         time.Time
}

// OpenLogoutRequest reads a request's outside. By SOAP it stands in an envelope (SAML Bindings, section 3.2).
func OpenLogoutRequest(r *Received) (*IncomingLogout, error) {
	root, err := document(r)
	if err != nil {
		return nil, explain.New(explain.SAMLUnreadable, explain.Fact("reason", err.Error()))
	}
	if !root.Is(NSProtocol, "LogoutRequest") {
		return nil, explain.New(explain.SAMLNotARequest, explain.Pair("message", "LogoutRequest", clip(root.Local, 60)))
	}
	in := &IncomingLogout{IncomingRequest{received: r, root: root}}
	if i := root.First(NSAssertion, "Issuer"); i != nil {
		if in.request.issuer, err = (&checker{}).plain(i, 1024); err != nil {
			return nil, err
		}
	}
	return in, nil
}

func document(r *Received) (*xmltree.Element, error) {
	if r.Binding == BindingSOAP {
		return soapBody(r.XML)
	}
	return xmltree.Parse(r.XML, xmltree.Limits{Bytes: MaxMessage})
}

// ClaimedIssuer is the entity ID that the request claims to come from.
func (in *IncomingLogout) ClaimedIssuer() string { return in.request.issuer }

var ruleLogoutEnd = rule{"saml.logout-end", "The request is not over", "SAML Core 3.7.1"}

// Check verifies the request. Through the browser it must always be signed (SAML Profiles, section 4.4.4.1).
func (in *IncomingLogout) Check(rules RequestRules, rec *trace.Recorder) (*LogoutRequest, error) {
	rules.WantSigned, rules.Logout = !rules.UnsignedLogout, "LogoutRequest"
	c := &checker{rec: rec, partner: rules.Partner, now: rules.Now, skew: rules.Skew}
	e := in.request.root
	if !c.equal(ruleReqVersion, "2.0", e.Value("Version")) {
		return nil, c.fail(explain.SAMLVersion, explain.Pair("version", "2.0", e.Value("Version")))
	}
	if !c.equal(ruleReqIssuer, string(rules.Issuer), in.request.issuer) {
		return nil, c.fail(explain.SAMLLogoutIssuer, explain.Pair("issuer", string(rules.Issuer), in.request.issuer))
	}
	cert, err := in.request.signatures(c, rules)
	if err != nil {
		return nil, err
	}
	if err := in.request.addressed(c, rules, cert != nil); err != nil {
		return nil, err
	}
	end, has, err := c.time(e, "NotOnOrAfter")
	if err != nil {
		return nil, err
	}
	if has && !c.that(ruleLogoutEnd, c.now.Before(end.Add(c.skew)), formatTime(c.now), formatTime(end)) {
		return nil, c.fail(explain.SAMLLogoutOver, explain.Pair("NotOnOrAfter", formatTime(c.now), formatTime(end)))
	}
	r := &LogoutRequest{ID: e.Value("ID"), RelayState: in.request.received.RelayState, Certificate: cert, Signed: cert != nil}
	if r.ID == "" || len(r.ID) > 256 {
		return nil, c.fail(explain.SAMLStructure, explain.Fact("detail", "the request has no proper ID"))
	}
	if r.Issued, _, err = c.time(e, "IssueInstant"); err != nil {
		return nil, err
	}
	n := e.First(NSAssertion, "NameID")
	if x := e.First(NSAssertion, "EncryptedID"); n == nil && x != nil {
		opened, err := c.open(x, ResponseRules{DecryptionKeys: rules.DecryptionKeys}, true)
		if err != nil {
			return nil, err
		}
		if opened.Is(NSAssertion, "NameID") {
			n = opened
		}
	}
	if n == nil {
		return nil, c.fail(explain.SAMLStructure, explain.Fact("detail", "the request names nobody: it holds no NameID"))
	}
	who, err := c.nameID(n)
	if err != nil {
		return nil, err
	}
	r.NameID = *who
	for _, s := range e.All(NSProtocol, "SessionIndex") {
		v, err := c.plain(s, 256)
		if err != nil {
			return nil, err
		}
		if r.SessionIndexes = append(r.SessionIndexes, v); len(r.SessionIndexes) > 32 {
			return nil, c.fail(explain.SAMLStructure, explain.Fact("detail", "more than 32 sessions are named"))
		}
	}
	return r, nil
}

// Logout describes a logout message of ours.
type Logout struct {
	Issuer      EntityID
	Destination string
	Now         time.Time
	// Signer envelopes a signature in the message; for HTTP-Redirect give none and sign the query.
	Signer *xmlsig.Signer
	// SOAP puts the message into an envelope.
	SOAP bool
	// EncryptNameID encrypts the identifier of whom a request signs out, as it is in assertions for the partner.
	EncryptNameID *xmlsig.Encrypter
}

func (l Logout) finish(r *xmltree.Element) ([]byte, error) {
	if l.Signer != nil {
		if err := l.Signer.Sign(r, r.First(NSAssertion, "Issuer")); err != nil {
			return nil, err
		}
	}
	if l.SOAP {
		return envelope(r), nil
	}
	return r.Bytes(), nil
}

// Request asks a partner to sign somebody out of these sessions, or of all where none is named (SAML Core, section
// 3.7.1).
func (l Logout) Request(who NameID, sessions []string) (id string, doc []byte, err error) {
	id = keys.RandomID()
	r := xmltree.New(NSProtocol, "samlp", "LogoutRequest").Declare("samlp", NSProtocol).Declare("saml", NSAssertion)
	r.Set("Destination", l.Destination).
		Set("ID", id).
		Set("IssueInstant", formatTime(l.Now)).
		Set("NotOnOrAfter", formatTime(l.Now.Add(5*time.Minute))).
		Set("Version", "2.0")
	r.Append(xmltree.New(NSAssertion, "saml", "Issuer").AddText(string(l.Issuer)))
	name, err := who.encrypted(l.EncryptNameID)
	if err != nil {
		return "", nil, err
	}
	r.Append(name)
	for _, s := range sessions {
		r.Child("SessionIndex").AddText(s)
	}
	doc, err = l.finish(r)
	return id, doc, err
}

// Response answers a LogoutRequest with success; partial tells that not everybody who should know could be told (SAML
// Core, section 3.7.3.2).
func (l Logout) Response(inResponseTo string, partial bool, message string) ([]byte, error) {
	r, _ := newResponse(l.Issuer, l.Destination, inResponseTo, l.Now)
	r.Local = "LogoutResponse"
	s := r.Child("Status")
	code := s.Child("StatusCode").Set("Value", statusSuccess)
	if partial {
		code.Child("StatusCode").Set("Value", statusPrefix+"PartialLogout")
	}
	if message != "" {
		s.Child("StatusMessage").AddText(message)
	}
	return l.finish(r)
}

// IncomingLogoutResponse is a LogoutResponse that nobody has checked yet.
type IncomingLogoutResponse struct {
	received *Received
	root     *xmltree.Element
	issuer   string
}

// OpenLogoutResponse reads an answer's outside. By SOAP it stands in an envelope.
func OpenLogoutResponse(r *Received) (*IncomingLogoutResponse, error) {
	root, err := document(r)
	if err != nil {
		return nil, explain.New(explain.SAMLUnreadable, explain.Fact("reason", err.Error()))
	}
	if !root.Is(NSProtocol, "LogoutResponse") {
		return nil, explain.New(explain.SAMLNotAResponse, explain.Pair("message", "LogoutResponse", clip(root.Local, 60)))
	}
	in := &IncomingLogoutResponse{received: r, root: root}
	if i := root.First(NSAssertion, "Issuer"); i != nil {
		if in.issuer, err = (&checker{}).plain(i, 1024); err != nil {
			return nil, err
		}
	}
	return in, nil
}

var ruleLogoutAnswers = rule{"saml.logout-answers", "The answer is to our LogoutRequest", "SAML Core 3.7.3"}

// Check verifies who answers, and what: whether the partner has ended its session, and whether it could not tell
// everybody whom it should have told. Through the browser an answer must be signed (SAML Profiles, section 4.4.4.2); by
// SOAP it may be vouched for by the connection.
func (in *IncomingLogoutResponse) Check(requestID string, rules RequestRules, rec *trace.Recorder) (done, partial bool, err error) {
	rules.WantSigned, rules.Logout = in.received.Binding != BindingSOAP && !rules.UnsignedLogout, "LogoutResponse"
	c := &checker{rec: rec, partner: rules.Partner, now: rules.Now, skew: rules.Skew}
	e := in.root
	if !c.equal(ruleVersion, "2.0", e.Value("Version")) {
		return false, false, c.fail(explain.SAMLVersion, explain.Pair("version", "2.0", e.Value("Version")))
	}
	if !c.equal(ruleIssuer, string(rules.Issuer), in.issuer) {
		return false, false, c.fail(explain.SAMLLogoutIssuer, explain.Pair("issuer", string(rules.Issuer), in.issuer))
	}
	outside := IncomingRequest{received: in.received, root: e, issuer: in.issuer}
	signer, err := outside.signatures(c, rules)
	if err != nil {
		return false, false, err
	}
	if err := outside.addressed(c, rules, signer != nil && in.received.Binding != BindingSOAP); err != nil {
		return false, false, err
	}
	if !c.equal(ruleLogoutAnswers, requestID, e.Value("InResponseTo")) {
		return false, false, c.fail(explain.SAMLInResponseMismatch, explain.Pair("InResponseTo", requestID, e.Value("InResponseTo")))
	}
	top, sub := "", ""
	if s := e.First(NSProtocol, "Status"); s != nil {
		if code := s.First(NSProtocol, "StatusCode"); code != nil {
			top = code.Value("Value")
			if inner := code.First(NSProtocol, "StatusCode"); inner != nil {
				sub = inner.Value("Value")
			}
		}
	}
	// A status that is no success tells that the session there goes on; it is no reason to distrust the message.
	return c.equal(ruleStatus, statusSuccess, top), sub == statusPrefix+"PartialLogout", nil
}
