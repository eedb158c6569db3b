package saml

import (
	"crypto/rand"
	"crypto/sha1"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"time"

	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/trace"
	"innergate/core/xmlsig"
	"innergate/core/xmltree"
)

// ParamArtifact is the parameter that carries an artifact (SAML Bindings, section 3.6).
const ParamArtifact = "SAMLart"

// NSSOAP is the namespace of SOAP 1.1 envelopes, in which artifacts are resolved (SAML Bindings, section 3.2).
const NSSOAP = "http://schemas.xmlsoap.org/soap/envelope/"

// Artifact is a reference to a message that waits at its issuer (SAML Bindings, section 3.6.4, type 0x0004).
type Artifact struct {
	Index  int      // of the issuer's ArtifactResolutionService
	Source [20]byte // SHA-1 of the issuer's entity ID
	Handle [20]byte
}

// NewArtifact makes one with a random handle.
func NewArtifact(issuer EntityID, index int) Artifact {
	a := Artifact{Index: index, Source: sha1.Sum([]byte(issuer))}
	rand.Read(a.Handle[:])
	return a
}

// String is the artifact as it travels, in base64.
func (a Artifact) String() string {
	b := make([]byte, 0, 44)
	b = binary.BigEndian.AppendUint16(b, 4)
	b = binary.BigEndian.AppendUint16(b, uint16(a.Index))
	b = append(append(b, a.Source[:]...), a.Handle[:]...)
	return base64.StdEncoding.EncodeToString(b)
}

// ParseArtifact reads one.
func ParseArtifact(text string) (Artifact, error) {
	b, err := base64.StdEncoding.DecodeString(text)
	if err != nil || len(b) != 44 {
		return Artifact{}, decodeError("SAMLart is not an artifact of 44 bytes in base64")
	}
	if kind := binary.BigEndian.Uint16(b); kind != 4 {
		return Artifact{}, decodeError("the artifact is of the type %d; 4 is known", kind)
	}
	a := Artifact{Index: int(binary.BigEndian.Uint16(b[2:]))}
	copy(a.Source[:], b[4:24])
	copy(a.Handle[:], b[24:])
	return a, nil
}

// Issuer reports whether the artifact was made by this entity, as far as it says.
func (a Artifact) Issuer(id EntityID) bool { return a.Source == sha1.Sum([]byte(id)) }

// Endpoint picks the resolution service that the artifact names by its index, else the default one.
func (a Artifact) Endpoint(list []Endpoint) *Endpoint {
	for i := range list {
		if list[i].Index != nil && *list[i].Index == a.Index {
			return &list[i]
		}
	}
	if len(list) == 1 && list[0].Index == nil {
		return &list[0]
	}
	return nil
}

func envelope(e *xmltree.Element) []byte {
	env := xmltree.New(NSSOAP, "soap", "Envelope").Declare("soap", NSSOAP)
	env.Child("Body").Append(e)
	return env.Bytes()
}

// soapBody finds the one element in a SOAP envelope's body.
func soapBody(doc []byte) (*xmltree.Element, error) {
	root, err := xmltree.Parse(doc, xmltree.Limits{Bytes: MaxMessage})
	if err != nil {
		return nil, err
	}
	if !root.Is(NSSOAP, "Envelope") {
		return nil, fmt.Errorf("this is <%s>, not a SOAP 1.1 envelope", clip(root.Local, 60))
	}
	body := root.First(NSSOAP, "Body")
	var inner *xmltree.Element
	n := 0
	if body != nil {
		for e := range body.Elements {
			inner = e
			n++
		}
	}
	if n != 1 {
		return nil, fmt.Errorf("the SOAP body holds %d elements; one is expected", n)
	}
	return inner, nil
}

// NewArtifactResolve asks for the message behind an artifact, in a SOAP envelope (SAML Core, section 3.5.1).
func NewArtifactResolve(
	issuer EntityID,
	destination, artifact string,
	now time.Time,
	signer *xmlsig.Signer,
) (id string, doc []byte, err error) {
	id = keys.RandomID()
	r := xmltree.New(NSProtocol, "samlp", "ArtifactResolve").Declare("samlp", NSProtocol).Declare("saml", NSAssertion)
	r.Set("Destination", destination).Set("ID", id).Set("IssueInstant", formatTime(now)).Set("Version", "2.0")
	from := xmltree.New(NSAssertion, "saml", "Issuer").AddText(string(issuer))
	r.Append(from)
	r.Child("Artifact").AddText(artifact)
	if signer != nil {
		if err := signer.Sign(r, from); err != nil {
			return "", nil, err
		}
	}
	return id, envelope(r), nil
}

// IncomingResolve is an ArtifactResolve that nobody has checked yet.
type IncomingResolve struct {
	root   *xmltree.Element
	issuer string
}

// OpenArtifactResolve reads its outside.
func OpenArtifactResolve(doc []byte) (*IncomingResolve, error) {
	root, err := soapBody(doc)
	if err != nil {
		return nil, explain.New(explain.SAMLUnreadable, explain.Fact("reason", err.Error()))
	}
	if !root.Is(NSProtocol, "ArtifactResolve") {
		return nil, explain.New(explain.SAMLNotARequest, explain.Pair("message", "ArtifactResolve", clip(root.Local, 60)))
	}
	in := &IncomingResolve{root: root}
	if i := root.First(NSAssertion, "Issuer"); i != nil {
		if in.issuer, err = (&checker{}).plain(i, 1024); err != nil {
			return nil, err
		}
	}
	return in, nil
}

// ClaimedIssuer is who claims to ask.
func (in *IncomingResolve) ClaimedIssuer() string { return in.issuer }

// ClaimedID is the request's ID, to be answered.
func (in *IncomingResolve) ClaimedID() string { return clip(in.root.Value("ID"), 256) }

// Check verifies who asks, and returns the artifact. A signature is always wanted here, since nothing else tells who is
// at the other end.
func (in *IncomingResolve) Check(rules RequestRules, rec *trace.Recorder) (Artifact, error) {
	c := &checker{rec: rec, partner: rules.Partner, now: rules.Now, skew: rules.Skew}
	var none Artifact
	if !c.equal(ruleReqVersion, "2.0", in.root.Value("Version")) {
		return none, c.fail(explain.SAMLVersion, explain.Pair("version", "2.0", in.root.Value("Version")))
	}
	if !c.equal(ruleReqIssuer, string(rules.Issuer), in.issuer) {
		return none, c.fail(explain.SAMLApplicationUnknown, explain.Pair("issuer", string(rules.Issuer), in.issuer))
	}
	if !xmlsig.Signed(in.root) {
		c.that(ruleSigned, false, "ArtifactResolve", "nothing")
		return none, c.fail(explain.SAMLRequestUnsigned)
	}
	if _, err := c.signature(in.root, rules.Trust); err != nil {
		return none, err
	}
	outer := IncomingRequest{received: &Received{Binding: BindingSOAP}, root: in.root}
	if err := outer.addressed(c, rules, false); err != nil {
		return none, err
	}
	e := in.root.First(NSProtocol, "Artifact")
	if e == nil {
		return none, c.fail(explain.SAMLStructure, explain.Fact("detail", "there is no Artifact in the request"))
	}
	text, err := c.plain(e, 256)
	if err != nil {
		return none, err
	}
	a, err := ParseArtifact(text)
	if err != nil {
		return none, c.fail(explain.SAMLStructure, explain.Fact("detail", err.Error()))
	}
	return a, nil
}

// NewArtifactResponse answers an ArtifactResolve, in a SOAP envelope, with the message, or with nothing, which is also
// a success (SAML Core, section 3.5.2).
func NewArtifactResponse(issuer EntityID, inResponseTo string, message []byte, now time.Time, signer *xmlsig.Signer) ([]byte, error) {
	r, _ := newResponse(issuer, "", inResponseTo, now)
	r.Local = "ArtifactResponse"
	for i := range r.Attrs {
		if r.Attrs[i].Local == "Destination" {
			r.Attrs = append(r.Attrs[:i], r.Attrs[i+1:]...)
			break
		}
	}
	r.Child("Status").Child("StatusCode").Set("Value", statusSuccess)
	if message != nil {
		inner, err := xmltree.Parse(message, xmltree.Limits{Bytes: MaxMessage})
		if err != nil {
			return nil, err
		}
		r.Append(inner)
	}
	if err := signer.Sign(r, r.First(NSAssertion, "Issuer")); err != nil {
		return nil, err
	}
	return envelope(r), nil
}

var (
	ruleArtifactAnswer = rule{"saml.artifact-answers", "The answer is to our ArtifactResolve", "SAML Core 3.5.3"}
	ruleArtifactOne    = rule{"saml.artifact-content", "One message came for the artifact", "SAML Core 3.5.2"}
)

// OpenArtifactResponse checks the answer to our ArtifactResolve and gives the response in it, which is then checked
// like a posted one. Location is the ACS at which the artifact arrived.
func OpenArtifactResponse(doc []byte, requestID, location string, rules ResponseRules, rec *trace.Recorder) (*IncomingResponse, error) {
	c := &checker{rec: rec, partner: rules.Partner, now: rules.Now, skew: rules.Skew}
	root, err := soapBody(doc)
	if err != nil {
		return nil, c.fail(explain.SAMLUnreadable, explain.Fact("reason", err.Error()))
	}
	if !root.Is(NSProtocol, "ArtifactResponse") {
		what := clip(root.Local, 60)
		if root.Is(NSSOAP, "Fault") {
			if f := root.First("", "faultstring"); f != nil {
				what = "a SOAP fault: " + clip(f.Text(), 200)
			}
		}
		return nil, c.fail(explain.SAMLArtifactRefused, explain.Pair("message", "ArtifactResponse", what))
	}
	if !c.equal(ruleVersion, "2.0", root.Value("Version")) {
		return nil, c.fail(explain.SAMLVersion, explain.Pair("version", "2.0", root.Value("Version")))
	}
	if !c.equal(ruleArtifactAnswer, requestID, root.Value("InResponseTo")) {
		return nil, c.fail(explain.SAMLInResponseMismatch, explain.Pair("InResponseTo", requestID, root.Value("InResponseTo")))
	}
	if i := root.First(NSAssertion, "Issuer"); i != nil {
		issuer, err := c.plain(i, 1024)
		if err != nil {
			return nil, err
		}
		if !c.equal(ruleIssuer, string(rules.Issuer), issuer) {
			return nil, c.fail(explain.SAMLProviderUnknown, explain.Pair("issuer", string(rules.Issuer), issuer))
		}
	}
	if xmlsig.Signed(root) {
		if _, err := c.signature(root, rules.Trust); err != nil {
			return nil, err
		}
	}
	outside := &IncomingResponse{root: root}
	if err := outside.status(c, rules); err != nil {
		return nil, err
	}
	var message *xmltree.Element
	n := 0
	for e := range root.Elements {
		if e.Space != xmlsig.NS && !e.Is(NSAssertion, "Issuer") && !e.Is(NSProtocol, "Status") && !e.Is(NSProtocol, "Extensions") {
			message = e
			n++
		}
	}
	if !c.that(ruleArtifactOne, n == 1, "1", fmt.Sprint(n)) {
		return nil, c.fail(explain.SAMLArtifactEmpty, explain.Pair("messages", "1", fmt.Sprint(n)))
	}
	if !message.Is(NSProtocol, "Response") {
		return nil, c.fail(explain.SAMLNotAResponse, explain.Pair("message", "Response", clip(message.Local, 60)))
	}
	in := &IncomingResponse{
		received: &Received{Binding: BindingArtifact, Param: ParamArtifact, XML: message.Bytes(), Location: location},
		root:     message,
	}
	if i := message.First(NSAssertion, "Issuer"); i != nil {
		if in.issuer, err = c.plain(i, 1024); err != nil {
			return nil, err
		}
	}
	return in, nil
}

// XML is the response as it stands, for the trace.
func (in *IncomingResponse) XML() []byte { return in.received.XML }
