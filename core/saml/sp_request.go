package saml

import (
	"strconv"
	"time"

	"innergate/core/keys"
	"innergate/core/xmlsig"
	"innergate/core/xmltree"
)

// Asked describes the AuthnRequest that a service provider makes (SAML Core, section 3.4.1).
type Asked struct {
	Issuer           EntityID
	Destination      string
	ACS              string
	Now              time.Time
	ForceAuthn       bool
	IsPassive        bool
	NameIDFormat     string // empty for no NameIDPolicy
	NoCreate         bool
	RequestedContext *RequestedContext
	Subject          *NameID // whom to sign in, as a hint that the provider may not ignore
	ProxyCount       *int
	RequesterIDs     []string
	// ProtocolBinding is the binding of the answer, HTTP-POST if empty.
	ProtocolBinding string
	// ACSIndex and Omit let stand-ins and tests name the ACS by index or not at all.
	ACSIndex *int
	OmitACS  bool
}

// NewAuthnRequest makes a request. With a signer the signature is enveloped, as the HTTP-POST binding wants it; for
// HTTP-Redirect give none and sign the query.
func NewAuthnRequest(s Asked, signer *xmlsig.Signer) (id string, doc []byte, err error) {
	id = keys.RandomID()
	r := xmltree.New(NSProtocol, "samlp", "AuthnRequest").Declare("samlp", NSProtocol).Declare("saml", NSAssertion)
	switch {
	case s.ACSIndex != nil:
		r.Set("AssertionConsumerServiceIndex", strconv.Itoa(*s.ACSIndex))
	case !s.OmitACS:
		r.Set("AssertionConsumerServiceURL", s.ACS)
	}
	r.Set("Destination", s.Destination)
	if s.ForceAuthn {
		r.Set("ForceAuthn", "true")
	}
	r.Set("ID", id)
	if s.IsPassive {
		r.Set("IsPassive", "true")
	}
	r.Set("IssueInstant", formatTime(s.Now))
	if s.ACSIndex == nil && !s.OmitACS {
		binding := s.ProtocolBinding
		if binding == "" {
			binding = BindingPost
		}
		r.Set("ProtocolBinding", binding)
	}
	r.Set("Version", "2.0")
	issuer := xmltree.New(NSAssertion, "saml", "Issuer").AddText(string(s.Issuer))
	r.Append(issuer)
	if s.Subject != nil {
		r.Append(xmltree.New(NSAssertion, "saml", "Subject").Append(s.Subject.element()))
	}
	if s.NameIDFormat != "" {
		p := r.Child("NameIDPolicy")
		p.Set("AllowCreate", strconv.FormatBool(!s.NoCreate)).Set("Format", s.NameIDFormat)
	}
	if s.RequestedContext != nil && len(s.RequestedContext.Classes) > 0 {
		rc := r.Child("RequestedAuthnContext").Set("Comparison", s.RequestedContext.Comparison)
		for _, class := range s.RequestedContext.Classes {
			rc.Append(xmltree.New(NSAssertion, "saml", "AuthnContextClassRef").AddText(class))
		}
	}
	if s.ProxyCount != nil || len(s.RequesterIDs) > 0 {
		scoping := r.Child("Scoping")
		if s.ProxyCount != nil {
			scoping.Set("ProxyCount", strconv.Itoa(*s.ProxyCount))
		}
		for _, requester := range s.RequesterIDs {
			scoping.Child("RequesterID").AddText(requester)
		}
	}
	if signer != nil {
		if err := signer.Sign(r, issuer); err != nil {
			return "", nil, err
		}
	}
	return id, r.Bytes(), nil
}
