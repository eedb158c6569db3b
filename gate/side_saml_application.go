package gate

import (
	"context"
	"crypto/rsa"
	"time"

	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/core/xmlsig"
)

// samlApplication answers SAML applications: we are the identity provider.
type samlApplication struct{ *Gate }

func (g samlApplication) issue(ctx context.Context, s *signIn, who identity, subject saml.NameID, out []claims.Output) (*Form, error) {
	a := s.app.SAML
	signer, err := g.signer(ctx, a.SignatureAlgorithm)
	if err != nil {
		return nil, err
	}
	acs, inResponseTo, relay := "", "", s.state.To
	if r := s.state.Request; r != nil {
		acs, inResponseTo, relay = r.ACS, r.ID, r.RelayState
	} else if e := saml.DefaultEndpoint(a.ACS, saml.BindingPost); e != nil {
		acs = e.Location
	} else {
		return nil, explain.New("saml.acs-missing").Of(s.app.Name)
	}
	issued := saml.Issued{
		Issuer: g.IDPEntityID(), Audience: saml.EntityID(a.EntityID), ACS: acs, InResponseTo: inResponseTo, Now: g.Now(), Validity: 5 * time.Minute, NameID: subject,
		AuthnInstant: who.AuthnInstant, Context: who.Context, Authorities: append([]string{s.provider.SAML.EntityID}, who.Authorities...), SessionIndex: keys.RandomID(), SessionNotOnOrAfter: who.SessionEnd,
		SignAssertion: a.Sign != "response", SignResponse: a.Sign != "assertion", Signer: signer,
	}
	for _, o := range out {
		issued.Attributes = append(issued.Attributes, saml.Attribute{Name: o.Rule.Set, NameFormat: o.Rule.NameFormat, FriendlyName: o.Rule.FriendlyName, Type: o.Rule.Type, Values: o.Values})
	}
	if a.Encrypt != "" {
		x := encrypterFor(a)
		if x == nil {
			return nil, explain.New("gate.failed", explain.Fact("error", "no RSA certificate for encryption is held"))
		}
		if a.Encrypt == "nameid" {
			issued.EncryptNameID = x
		} else {
			issued.EncryptAssertion = x
		}
	}
	made, err := saml.IssueResponse(issued)
	if err != nil {
		return nil, err
	}
	s.rec.Message(trace.Message{From: trace.Gate, To: trace.Application, Name: "Response", Binding: "HTTP-POST", Address: acs, Raw: string(made.XML), Opened: string(made.Plain), RelayState: relay, Signature: signedParts(a.Sign)})
	return responseForm(acs, made.XML, relay), nil
}

func signedParts(sign string) string {
	switch sign {
	case "both":
		return "assertion and response signed"
	case "response":
		return "response signed"
	}
	return "assertion signed"
}

func responseForm(acs string, doc []byte, relay string) *Form {
	f := &Form{Action: acs, Fields: [][2]string{{saml.ParamResponse, saml.EncodePost(doc)}}}
	if relay != "" {
		f.Fields = append(f.Fields, [2]string{"RelayState", relay})
	}
	return f
}

func encrypterFor(a *config.SAMLApplication) *xmlsig.Encrypter {
	for _, cert := range config.Parsed(a.Certificates, "encryption") {
		if key, ok := cert.PublicKey.(*rsa.PublicKey); ok {
			return &xmlsig.Encrypter{Key: key, Content: a.ContentEncryption}
		}
	}
	return nil
}

func (g samlApplication) refuse(ctx context.Context, s *signIn, f *explain.Failure) *Form {
	r := s.state.Request
	if r == nil || r.ACS == "" {
		return nil
	}
	e := f.Explain()
	status := e.Status
	if status == "" {
		status = "Responder"
		e.Substatus = "AuthnFailed"
	}
	signer, err := g.signer(ctx, s.app.SAML.SignatureAlgorithm)
	if err != nil {
		return nil
	}
	made, err := saml.ErrorResponse(g.IDPEntityID(), r.ACS, r.ID, status, e.Substatus, e.Person+" (reference "+s.reference+")", g.Now(), signer)
	if err != nil {
		return nil
	}
	s.rec.Message(trace.Message{From: trace.Gate, To: trace.Application, Name: "Response", Binding: "HTTP-POST", Address: r.ACS, Raw: string(made.XML), RelayState: r.RelayState, Signature: "response signed"})
	return responseForm(r.ACS, made.XML, r.RelayState)
}
