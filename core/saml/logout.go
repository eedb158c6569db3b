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
}

// OpenLogoutRequest reads a request's outside.
func OpenLogoutRequest(r *Received) (*IncomingLogout, error) {
	root, err := xmltree.Parse(r.XML, xmltree.Limits{Bytes: MaxMessage})
	if err != nil {
		return nil, explain.New("saml.unreadable", explain.Fact("reason", err.Error()))
	}
	if !root.Is(NSProtocol, "LogoutRequest") {
		return nil, explain.New("saml.not-a-request", explain.Pair("message", "LogoutRequest", clip(root.Local, 60)))
	}
	in := &IncomingLogout{IncomingRequest{received: r, root: root}}
	if i := root.First(NSAssertion, "Issuer"); i != nil {
		if in.request.issuer, err = (&checker{}).plain(i, 1024); err != nil {
			return nil, err
		}
	}
	return in, nil
}

// ClaimedIssuer is the entity ID that the request claims to come from.
func (in *IncomingLogout) ClaimedIssuer() string { return in.request.issuer }

var ruleLogoutEnd = rule{"saml.logout-end", "The request is not over", "SAML Core 3.7.1"}

// Check verifies the request. Through the browser it must always be signed (SAML Profiles, section 4.4.4.1).
func (in *IncomingLogout) Check(rules RequestRules, rec *trace.Recorder) (*LogoutRequest, error) {
	rules.WantSigned = true
	c := &checker{rec: rec, partner: rules.Partner, now: rules.Now, skew: rules.Skew}
	e := in.request.root
	if !c.equal(ruleReqVersion, "2.0", e.Value("Version")) {
		return nil, c.fail("saml.version", explain.Pair("version", "2.0", e.Value("Version")))
	}
	if !c.equal(ruleReqIssuer, string(rules.Issuer), in.request.issuer) {
		return nil, c.fail("saml.application-unknown", explain.Pair("issuer", string(rules.Issuer), in.request.issuer))
	}
	cert, err := in.request.signatures(c, rules)
	if err != nil {
		return nil, err
	}
	if err := in.request.addressed(c, rules, true); err != nil {
		return nil, err
	}
	end, has, err := c.time(e, "NotOnOrAfter")
	if err != nil {
		return nil, err
	}
	if has && !c.that(ruleLogoutEnd, c.now.Before(end.Add(c.skew)), formatTime(c.now), formatTime(end)) {
		return nil, c.fail("saml.request-old", explain.Pair("NotOnOrAfter", formatTime(end), formatTime(c.now)))
	}
	r := &LogoutRequest{ID: e.Value("ID"), RelayState: in.request.received.RelayState, Certificate: cert}
	if r.ID == "" || len(r.ID) > 256 {
		return nil, c.fail("saml.structure", explain.Fact("detail", "the request has no proper ID"))
	}
	n := e.First(NSAssertion, "NameID")
	if n == nil {
		return nil, c.fail("saml.structure", explain.Fact("detail", "the request names nobody: it holds no NameID"))
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
			return nil, c.fail("saml.structure", explain.Fact("detail", "more than 32 sessions are named"))
		}
	}
	return r, nil
}

// NewLogoutRequest asks a partner to sign somebody out.
func NewLogoutRequest(issuer EntityID, destination string, who NameID, sessions []string, now time.Time, signer *xmlsig.Signer) (id string, doc []byte, err error) {
	id = keys.RandomID()
	r := xmltree.New(NSProtocol, "samlp", "LogoutRequest").Declare("samlp", NSProtocol).Declare("saml", NSAssertion)
	r.Set("Destination", destination).Set("ID", id).Set("IssueInstant", formatTime(now)).Set("NotOnOrAfter", formatTime(now.Add(5*time.Minute))).Set("Version", "2.0")
	from := xmltree.New(NSAssertion, "saml", "Issuer").AddText(string(issuer))
	r.Append(from)
	r.Append(who.element())
	for _, s := range sessions {
		r.Child("SessionIndex").AddText(s)
	}
	if signer != nil {
		if err := signer.Sign(r, from); err != nil {
			return "", nil, err
		}
	}
	return id, r.Bytes(), nil
}

// NewLogoutResponse answers a LogoutRequest with success; partial tells that not everybody who should know could be told (SAML Core, section 3.7.3.2). With a
// signer the signature is enveloped; for HTTP-Redirect give none and sign the query.
func NewLogoutResponse(issuer EntityID, destination, inResponseTo string, partial bool, message string, now time.Time, signer *xmlsig.Signer) ([]byte, error) {
	r, _ := newResponse(issuer, destination, inResponseTo, now)
	r.Local = "LogoutResponse"
	s := r.Child("Status")
	code := s.Child("StatusCode").Set("Value", statusSuccess)
	if partial {
		code.Child("StatusCode").Set("Value", statusPrefix+"PartialLogout")
	}
	if message != "" {
		s.Child("StatusMessage").AddText(message)
	}
	if signer != nil {
		if err := signer.Sign(r, r.First(NSAssertion, "Issuer")); err != nil {
			return nil, err
		}
	}
	return r.Bytes(), nil
}
