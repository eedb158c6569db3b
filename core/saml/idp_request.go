package saml

import (
	"crypto/rsa"
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

// IncomingRequest is an AuthnRequest that nobody has checked yet. It tells only whose it claims to be.
type IncomingRequest struct {
	received *Received
	root     *xmltree.Element
	issuer   string
}

// OpenRequest reads an AuthnRequest's outside. Failures carry a code.
func OpenRequest(r *Received) (*IncomingRequest, error) {
	root, err := xmltree.Parse(r.XML, xmltree.Limits{Bytes: MaxMessage})
	if err != nil {
		return nil, explain.New(explain.SAMLUnreadable, explain.Fact("reason", err.Error()))
	}
	if !root.Is(NSProtocol, "AuthnRequest") {
		return nil, explain.New(explain.SAMLNotARequest, explain.Pair("message", "AuthnRequest", root.Local))
	}
	c := checker{}
	in := &IncomingRequest{received: r, root: root}
	if i := root.First(NSAssertion, "Issuer"); i != nil {
		if in.issuer, err = c.plain(i, 1024); err != nil {
			return nil, err
		}
	}
	return in, nil
}

// ClaimedIssuer is the entity ID that the request claims to come from.
func (in *IncomingRequest) ClaimedIssuer() string { return in.issuer }

// ClaimedID is the request's ID, to be used for nothing but finding out whether it came before.
func (in *IncomingRequest) ClaimedID() string { return in.root.Value("ID") }

// NameIDPolicy is what an application asks of the identifier (SAML Core, section 3.4.1.1).
type NameIDPolicy struct {
	Format          string `json:"format,omitempty"`
	SPNameQualifier string `json:"spNameQualifier,omitempty"`
	// NoCreate is set for an explicit AllowCreate="false".
	NoCreate bool `json:"noCreate,omitempty"`
}

// RequestedContext is how strongly an application wants people signed in (SAML Core, section 3.3.2.2.1).
type RequestedContext struct {
	Comparison string   `json:"comparison"` // exact, minimum, maximum or better
	Classes    []string `json:"classes"`
}

// AuthnRequest is a checked request.
type AuthnRequest struct {
	ID               string            `json:"id"`
	Issuer           EntityID          `json:"issuer"`
	ACS              string            `json:"acs"`
	Binding          string            `json:"binding,omitempty"` // of the answer; empty for HTTP-POST
	RelayState       string            `json:"relayState,omitempty"`
	ForceAuthn       bool              `json:"forceAuthn,omitempty"`
	IsPassive        bool              `json:"isPassive,omitempty"`
	NameIDPolicy     *NameIDPolicy     `json:"nameIdPolicy,omitempty"`
	RequestedContext *RequestedContext `json:"requestedContext,omitempty"`
	Subject          *NameID           `json:"subject,omitempty"`
	ProxyCount       *int              `json:"proxyCount,omitempty"`
	RequesterIDs     []string          `json:"requesterIds,omitempty"`
	Providers        []string          `json:"providers,omitempty"` // entity IDs of the IDPList
	Signed           bool              `json:"signed"`
	// Refusal is set where the request is understood and its ACS is good, but a wish in it can't be met. It is
	// answered, not followed.
	Refusal error `json:"-"`
	// Certificate is the trusted one whose key signed, if any did.
	Certificate *Certificate `json:"-"`
}

// RequestRules is what an application's request is checked against.
type RequestRules struct {
	Partner      string // the application's name, for texts
	Issuer       EntityID
	ACS          []Endpoint
	AttributeSet []int // indexes of its AttributeConsumingServices; nil if it has none
	Trust        Trust
	WantSigned   bool
	Location     string // our address at which requests are taken
	MaxAge       time.Duration
	Skew         time.Duration
	Now          time.Time
	// UnsignedLogout takes a message about signing out without a signature. Whoever sets it must see that it ends nothing but
	// what the browser holds that brings it.
	UnsignedLogout bool
	// Logout is the name of the message where it is one about signing out.
	Logout string
	// DecryptionKeys open an encrypted NameID of a logout request.
	DecryptionKeys []*rsa.PrivateKey
}

var (
	ruleReqVersion     = rule{"saml.version", "Version is 2.0", "SAML Core 3.2.1"}
	ruleReqIssuer      = rule{"saml.issuer", "Issuer is the application", "SAML Profiles 4.1.4.1"}
	ruleReqDestination = rule{"saml.destination", "Destination is our address", "SAML Core 3.2.1, Bindings 3.4.5.2"}
	ruleReqAge         = rule{"saml.request-age", "The request was made just now", "SAML Core 3.2.1"}
	ruleReqACS         = rule{"saml.acs", "The answer's address is registered", "SAML Profiles 4.1.4.1"}
	ruleReqBinding     = rule{"saml.protocol-binding", "The answer's binding can be used", "SAML Core 3.4.1"}
	ruleReqPolicy      = rule{"saml.nameid-qualifier", "SPNameQualifier is the application's own", "SAML Core 3.4.1.1"}
	ruleReqProxy       = rule{"saml.proxy-count", "A provider may be asked", "SAML Core 3.4.1.5"}
)

// Check verifies the request and returns what it says. A failure before the ACS is known must be shown to the person;
// where AuthnRequest.Refusal is set, the application gets the answer.
func (in *IncomingRequest) Check(rules RequestRules, rec *trace.Recorder) (*AuthnRequest, error) {
	c := &checker{rec: rec, partner: rules.Partner, now: rules.Now, skew: rules.Skew}
	e := in.root
	if !c.equal(ruleReqVersion, "2.0", e.Value("Version")) {
		return nil, c.fail(explain.SAMLVersion, explain.Pair("version", "2.0", e.Value("Version")))
	}
	if !c.equal(ruleReqIssuer, string(rules.Issuer), in.issuer) {
		return nil, c.fail(explain.SAMLApplicationUnknown, explain.Pair("issuer", string(rules.Issuer), in.issuer))
	}
	signer, err := in.signatures(c, rules)
	if err != nil {
		return nil, err
	}
	signed := signer != nil
	if err := in.addressed(c, rules, signed); err != nil {
		return nil, err
	}
	req := &AuthnRequest{ID: e.Value("ID"), Issuer: rules.Issuer, Signed: signed, Certificate: signer, RelayState: in.received.RelayState}
	if req.ID == "" || len(req.ID) > 256 {
		return nil, c.fail(explain.SAMLStructure, explain.Fact("detail", "the request has no proper ID"))
	}
	if err := in.acs(c, rules, req); err != nil {
		return nil, err
	}
	req.Refusal = in.wishes(c, rules, req)
	return req, nil
}

// signatures verifies whatever signature is there, and demands one where that is set.
func (in *IncomingRequest) signatures(c *checker, rules RequestRules) (*Certificate, error) {
	switch {
	case in.received.Binding == BindingRedirect:
		// A signature inside the document counts for nothing with this binding.
		if in.received.signature != nil {
			return c.query(in.received, rules.Trust)
		}
	case xmlsig.Signed(in.root):
		v, err := c.signature(in.root, rules.Trust)
		if err != nil {
			return nil, err
		}
		return rules.Trust.Certificates[v.Key()], nil
	}
	if !c.that(ruleSigned, !rules.WantSigned, "", "") {
		if rules.Logout != "" {
			held := "no certificate is held"
			if n := len(rules.Trust.Certificates); n > 0 {
				held = fmt.Sprintf("%d held", n)
			}
			return nil, c.fail(explain.SAMLLogoutUnsigned, explain.Pair("signature", "one by a key of the sender", ""),
				explain.Fact("message", rules.Logout), explain.Fact("certificates to verify with", held))
		}
		return nil, c.fail(explain.SAMLRequestUnsigned)
	}
	return nil, nil
}

func (in *IncomingRequest) addressed(c *checker, rules RequestRules, signed bool) error {
	destination, has := in.root.Attr("Destination")
	switch {
	case !has && signed:
		c.that(ruleReqDestination, false, rules.Location, "")
		return c.fail(explain.SAMLDestinationMissing, explain.Pair("Destination", rules.Location, ""))
	case has && !c.equal(ruleReqDestination, rules.Location, destination):
		return c.fail(explain.SAMLDestinationMismatch, explain.Pair("Destination", rules.Location, destination))
	}
	issued, has, err := c.time(in.root, "IssueInstant")
	if err != nil {
		return err
	}
	if !has {
		return c.fail(explain.SAMLStructure, explain.Fact("detail", "the request has no IssueInstant"))
	}
	if early := issued.After(c.now.Add(c.skew)); !c.that(ruleReqAge, !early, formatTime(c.now), formatTime(issued)) {
		return c.fail(explain.SAMLRequestEarly, explain.Pair("IssueInstant", formatTime(c.now), formatTime(issued)))
	}
	if old := issued.Add(rules.MaxAge + c.skew); c.now.After(old) {
		c.that(ruleReqAge, false, formatTime(c.now), formatTime(issued))
		return c.fail(explain.SAMLRequestOld, explain.Pair("IssueInstant", formatTime(old), formatTime(issued)))
	}
	return nil
}

// acs finds the registered address for the answer: by URL, by index, or the default one (SAML Profiles, section
// 4.1.4.1).
func (in *IncomingRequest) acs(c *checker, rules RequestRules, req *AuthnRequest) error {
	wanted, hasURL := in.root.Attr("AssertionConsumerServiceURL")
	index, hasIndex := in.root.Attr("AssertionConsumerServiceIndex")
	binding, hasBinding := in.root.Attr("ProtocolBinding")
	if len(rules.ACS) == 0 {
		return c.fail(explain.SAMLACSMissing)
	}
	if hasIndex && (hasURL || hasBinding) {
		return c.fail(explain.SAMLStructure, explain.Fact("detail", "the request names its ACS by index and by URL or binding"))
	}
	var found *Endpoint
	switch {
	case hasURL:
		for i := range rules.ACS {
			if rules.ACS[i].Location == wanted && (found == nil || rules.ACS[i].Binding == binding) {
				found = &rules.ACS[i]
			}
		}
		nearest := nearestLocation(rules.ACS, wanted)
		if !c.that(ruleReqACS, found != nil, nearest, wanted) {
			return c.fail(explain.SAMLACSUnregistered, explain.Pair("ACS URL", nearest, wanted))
		}
	case hasIndex:
		n, err := strconv.Atoi(index)
		for i := range rules.ACS {
			if err == nil && rules.ACS[i].Index != nil && *rules.ACS[i].Index == n {
				found = &rules.ACS[i]
			}
		}
		if !c.that(ruleReqACS, found != nil, "a registered index", index) {
			return c.fail(explain.SAMLACSIndexUnknown, explain.Fact("index", index))
		}
	default:
		found = DefaultEndpoint(rules.ACS, BindingPost)
		c.that(ruleReqACS, true, "", found.Location+" (the default)")
	}
	wantedBinding := found.Binding
	if hasBinding {
		wantedBinding = binding
	}
	// An artifact is sent only to an address that is registered for it; a form can be posted wherever the application
	// takes answers.
	registered := wantedBinding == BindingPost && found.Binding != BindingArtifact ||
		wantedBinding == BindingArtifact && found.Binding == BindingArtifact
	if !c.that(ruleReqBinding, registered, BindingName(found.Binding), BindingName(wantedBinding)) {
		return c.fail(explain.SAMLBindingUnsupported, explain.Pair("binding", "HTTP-POST", BindingName(wantedBinding)))
	}
	if req.ACS = found.Location; wantedBinding == BindingArtifact {
		req.Binding = BindingArtifact
	}
	return nil
}

// nearestLocation is the registered address that looks most like the wanted one.
func nearestLocation(list []Endpoint, wanted string) string {
	best, score := "", -1
	for _, e := range list {
		d := explain.Compare(e.Location, wanted)
		if n := len(d.Head) + len(d.Tail); n > score {
			best, score = e.Location, n
		}
	}
	return best
}

// wishes reads what the application wants of the sign-in. A wish that can't be met is returned as the refusal to answer
// with.
func (in *IncomingRequest) wishes(c *checker, rules RequestRules, req *AuthnRequest) error {
	e := in.root
	var err error
	if req.ForceAuthn, err = c.boolean(e, "ForceAuthn"); err != nil {
		return err
	}
	if req.IsPassive, err = c.boolean(e, "IsPassive"); err != nil {
		return err
	}
	if subject := e.First(NSAssertion, "Subject"); subject != nil {
		n := subject.First(NSAssertion, "NameID")
		if n == nil {
			return c.fail(explain.SAMLStructure, explain.Fact("detail", "the request's Subject holds no NameID"))
		}
		if len(subject.All(NSAssertion, "SubjectConfirmation")) > 0 {
			return c.fail(explain.SAMLStructure,
				explain.Fact("detail", "the request's Subject holds a confirmation, which has no meaning here"))
		}
		if req.Subject, err = c.nameID(n); err != nil {
			return err
		}
	}
	if p := e.First(NSProtocol, "NameIDPolicy"); p != nil {
		req.NameIDPolicy = &NameIDPolicy{Format: p.Value("Format"), SPNameQualifier: p.Value("SPNameQualifier")}
		if v, has := p.Attr("AllowCreate"); has {
			req.NameIDPolicy.NoCreate = v == "false" || v == "0"
		}
		if q := req.NameIDPolicy.SPNameQualifier; q != "" && !c.equal(ruleReqPolicy, string(rules.Issuer), q) {
			return c.fail(explain.SAMLNameIDQualifier, explain.Pair("SPNameQualifier", string(rules.Issuer), q))
		}
	}
	if req.RequestedContext, err = c.requestedContext(e); err != nil {
		return err
	}
	if index, has := e.Attr("AttributeConsumingServiceIndex"); has && rules.AttributeSet != nil {
		n, err := strconv.Atoi(index)
		if err != nil || !slices.Contains(rules.AttributeSet, n) {
			return c.fail(explain.SAMLAttributeIndexUnknown, explain.Fact("index", index))
		}
	}
	return in.scoping(c, req)
}

func (in *IncomingRequest) scoping(c *checker, req *AuthnRequest) error {
	s := in.root.First(NSProtocol, "Scoping")
	if s == nil {
		return nil
	}
	if v, has := s.Attr("ProxyCount"); has {
		n, err := strconv.Atoi(v)
		if err != nil || n < 0 {
			return c.fail(explain.SAMLStructure, explain.Fact("detail", "ProxyCount is "+v))
		}
		req.ProxyCount = &n
		if !c.that(ruleReqProxy, n > 0, "1 or more", v) {
			return c.fail(explain.SAMLProxyRefused)
		}
	}
	for _, r := range s.All(NSProtocol, "RequesterID") {
		v, err := c.plain(r, 1024)
		if err != nil {
			return err
		}
		if req.RequesterIDs = append(req.RequesterIDs, strings.TrimSpace(v)); len(req.RequesterIDs) > 16 {
			return c.fail(explain.SAMLStructure, explain.Fact("detail", "there are more than 16 RequesterIDs"))
		}
	}
	if list := s.First(NSProtocol, "IDPList"); list != nil {
		for _, entry := range list.All(NSProtocol, "IDPEntry") {
			if req.Providers = append(req.Providers, entry.Value("ProviderID")); len(req.Providers) > 64 {
				return c.fail(explain.SAMLStructure, explain.Fact("detail", "the IDPList names more than 64 providers"))
			}
		}
	}
	return nil
}

func (c *checker) boolean(e *xmltree.Element, attr string) (bool, error) {
	switch v := e.Value(attr); v {
	case "", "false", "0":
		return false, nil
	case "true", "1":
		return true, nil
	default:
		return false, c.fail(explain.SAMLStructure, explain.Fact("detail", attr+" is "+strconv.Quote(v)))
	}
}

func (c *checker) requestedContext(e *xmltree.Element) (*RequestedContext, error) {
	r := e.First(NSProtocol, "RequestedAuthnContext")
	if r == nil {
		return nil, nil
	}
	rc := &RequestedContext{Comparison: r.Value("Comparison")}
	if rc.Comparison == "" {
		rc.Comparison = "exact"
	}
	if !slices.Contains([]string{"exact", "minimum", "maximum", "better"}, rc.Comparison) {
		return nil, c.fail(explain.SAMLStructure, explain.Fact("detail", "the comparison "+strconv.Quote(rc.Comparison)+" does not exist"))
	}
	for _, class := range r.All(NSAssertion, "AuthnContextClassRef") {
		v, err := c.plain(class, 1024)
		if err != nil {
			return nil, err
		}
		if rc.Classes = append(rc.Classes, strings.TrimSpace(v)); len(rc.Classes) > 32 {
			return nil, c.fail(explain.SAMLStructure, explain.Fact("detail", "more than 32 contexts are asked for"))
		}
	}
	if len(rc.Classes) == 0 {
		// Declarations can't be proven by any provider of ours, and a wish is never dropped.
		return rc, c.fail(explain.SAMLContextDeclaration, explain.Fact("AuthnContextDeclRef", clip(declared(r), 200)))
	}
	return rc, nil
}

// declared is what a request names in place of a class.
func declared(r *xmltree.Element) string {
	for _, d := range r.All(NSAssertion, "AuthnContextDeclRef") {
		return strings.TrimSpace(d.Text())
	}
	return "an empty list"
}

// Met reports whether a context that a provider proved satisfies the wish. Contexts outside the ladder can be compared
// exactly only.
func (rc *RequestedContext) Met(class string) bool {
	if rc == nil {
		return true
	}
	if rc.Comparison == "exact" || rc.Comparison == "" {
		return slices.Contains(rc.Classes, class)
	}
	got := slices.Index(contextLadder, class)
	better := len(rc.Classes) > 0
	for _, wanted := range rc.Classes {
		rung := slices.Index(contextLadder, wanted)
		switch {
		case rc.Comparison == "minimum" && (class == wanted || got >= 0 && rung >= 0 && got >= rung):
			return true
		case rc.Comparison == "maximum" && (class == wanted || got >= 0 && rung >= 0 && got <= rung):
			return true
		case rc.Comparison == "better" && (got < 0 || rung < 0 || got <= rung):
			better = false
		}
	}
	return rc.Comparison == "better" && better
}
