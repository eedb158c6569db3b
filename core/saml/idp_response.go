package saml

import (
	"time"

	"innergate/core/keys"
	"innergate/core/xmlsig"
	"innergate/core/xmltree"
)

// Attribute is one attribute of an assertion (SAML Core, section 2.7.3.1).
type Attribute struct {
	Name         string   `json:"name"`
	NameFormat   string   `json:"nameFormat,omitempty"`
	FriendlyName string   `json:"friendlyName,omitempty"`
	Type         string   `json:"type,omitempty"` // an XML Schema type's local name, such as string; empty for none
	Values       []string `json:"values"`
}

// Issued describes the response that an identity provider makes.
type Issued struct {
	Issuer       EntityID
	Audience     EntityID
	ACS          string
	InResponseTo string // empty for an unsolicited response
	Now          time.Time
	// Validity bounds assertion and confirmation; it is cut to MaxValidity.
	Validity            time.Duration
	NameID              NameID
	AuthnInstant        time.Time
	Context             string
	Authorities         []string // entity IDs of the providers that were asked
	SessionIndex        string
	SessionNotOnOrAfter time.Time
	Attributes          []Attribute

	SignAssertion, SignResponse bool
	Signer                      *xmlsig.Signer
	EncryptAssertion            *xmlsig.Encrypter
	EncryptNameID               *xmlsig.Encrypter
}

// MaxValidity is the longest time for which an assertion of ours is good.
const MaxValidity = 5 * time.Minute

// MadeResponse is a finished response.
type MadeResponse struct {
	ID, AssertionID string
	XML             []byte
	// Plain is the assertion before it was encrypted, or nil.
	Plain []byte
}

func newResponse(issuer EntityID, destination, inResponseTo string, now time.Time) (*xmltree.Element, string) {
	id := keys.RandomID()
	r := xmltree.New(NSProtocol, "samlp", "Response").Declare("samlp", NSProtocol).Declare("saml", NSAssertion)
	r.Set("Destination", destination).Set("ID", id)
	if inResponseTo != "" {
		r.Set("InResponseTo", inResponseTo)
	}
	r.Set("IssueInstant", formatTime(now)).Set("Version", "2.0")
	r.Append(xmltree.New(NSAssertion, "saml", "Issuer").AddText(string(issuer)))
	return r, id
}

// IssueResponse makes a response with one assertion for the bearer (SAML Profiles, section 4.1.4.2).
func IssueResponse(s Issued) (*MadeResponse, error) {
	r, id := newResponse(s.Issuer, s.ACS, s.InResponseTo, s.Now)
	r.Child("Status").Child("StatusCode").Set("Value", statusSuccess)
	a, err := s.assertion()
	if err != nil {
		return nil, err
	}
	made := &MadeResponse{ID: id, AssertionID: a.Value("ID")}
	if s.SignAssertion {
		if err := s.Signer.Sign(a, a.First(NSAssertion, "Issuer")); err != nil {
			return nil, err
		}
	}
	if s.EncryptAssertion != nil {
		made.Plain = a.Bytes()
		data, err := s.EncryptAssertion.Encrypt(made.Plain)
		if err != nil {
			return nil, err
		}
		r.Append(xmltree.New(NSAssertion, "saml", "EncryptedAssertion").Append(data))
	} else {
		r.Append(a)
	}
	if s.SignResponse {
		if err := s.Signer.Sign(r, r.First(NSAssertion, "Issuer")); err != nil {
			return nil, err
		}
	}
	made.XML = r.Bytes()
	return made, nil
}

// encrypted is the identifier as it goes out: as an EncryptedID (SAML Core, section 2.2.4) where there is something to encrypt
// with.
func (n *NameID) encrypted(x *xmlsig.Encrypter) (*xmltree.Element, error) {
	name := n.element()
	if x == nil {
		return name, nil
	}
	data, err := x.Encrypt(name.Declare("saml", NSAssertion).Bytes())
	if err != nil {
		return nil, err
	}
	return xmltree.New(NSAssertion, "saml", "EncryptedID").Append(data), nil
}

func (s *Issued) assertion() (*xmltree.Element, error) {
	validity := min(s.Validity, MaxValidity)
	if validity <= 0 {
		validity = MaxValidity
	}
	end := formatTime(s.Now.Add(validity))
	a := xmltree.New(NSAssertion, "saml", "Assertion").Declare("saml", NSAssertion)
	a.Set("ID", keys.RandomID()).Set("IssueInstant", formatTime(s.Now)).Set("Version", "2.0")
	a.Child("Issuer").AddText(string(s.Issuer))

	subject := a.Child("Subject")
	name, err := s.NameID.encrypted(s.EncryptNameID)
	if err != nil {
		return nil, err
	}
	subject.Append(name)
	confirmation := subject.Child("SubjectConfirmation").Set("Method", methodBearer).Child("SubjectConfirmationData")
	if s.InResponseTo != "" {
		confirmation.Set("InResponseTo", s.InResponseTo)
	}
	confirmation.Set("NotOnOrAfter", end).Set("Recipient", s.ACS)

	// A minute before now, for applications whose clock is a little behind.
	conditions := a.Child("Conditions").Set("NotBefore", formatTime(s.Now.Add(-time.Minute))).Set("NotOnOrAfter", end)
	conditions.Child("AudienceRestriction").Child("Audience").AddText(string(s.Audience))

	authn := a.Child("AuthnStatement").Set("AuthnInstant", formatTime(s.AuthnInstant))
	if s.SessionIndex != "" {
		authn.Set("SessionIndex", s.SessionIndex)
	}
	if !s.SessionNotOnOrAfter.IsZero() {
		authn.Set("SessionNotOnOrAfter", formatTime(s.SessionNotOnOrAfter))
	}
	context := authn.Child("AuthnContext")
	class := s.Context
	if class == "" {
		class = ContextUnspecified
	}
	context.Child("AuthnContextClassRef").AddText(class)
	for _, authority := range s.Authorities {
		context.Child("AuthenticatingAuthority").AddText(authority)
	}
	if len(s.Attributes) > 0 {
		statement := a.Child("AttributeStatement")
		for _, attr := range s.Attributes {
			attr.append(statement)
		}
	}
	return a, nil
}

func (attr Attribute) append(statement *xmltree.Element) {
	e := statement.Child("Attribute")
	if attr.FriendlyName != "" {
		e.Set("FriendlyName", attr.FriendlyName)
	}
	e.Set("Name", attr.Name)
	if attr.NameFormat != "" {
		e.Set("NameFormat", attr.NameFormat)
	}
	for _, v := range attr.Values {
		value := e.Child("AttributeValue")
		if attr.Type != "" {
			value.Declare("xs", nsXS).Declare("xsi", nsXSI).SetNS(nsXSI, "xsi", "type", "xs:"+attr.Type)
		}
		value.AddText(v)
	}
}

// ErrorResponse makes the answer for a request that can't be met. Status and substatus are short names such as
// Responder and NoPassive.
func ErrorResponse(
	issuer EntityID,
	acs, inResponseTo, status, substatus, message string,
	now time.Time,
	signer *xmlsig.Signer,
) (*MadeResponse, error) {
	r, id := newResponse(issuer, acs, inResponseTo, now)
	s := r.Child("Status")
	code := s.Child("StatusCode").Set("Value", statusPrefix+status)
	if substatus != "" {
		code.Child("StatusCode").Set("Value", statusPrefix+substatus)
	}
	if message != "" {
		s.Child("StatusMessage").AddText(message)
	}
	if signer != nil {
		if err := signer.Sign(r, r.First(NSAssertion, "Issuer")); err != nil {
			return nil, err
		}
	}
	return &MadeResponse{ID: id, XML: r.Bytes()}, nil
}
