package gate

import (
	"cmp"
	"context"
	"time"

	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/trace"
)

// samlApplication answers SAML applications: we are the identity provider.
type samlApplication struct{ *Gate }

func (g samlApplication) start(_ context.Context, s *signIn, to string) (*Next, error) {
	switch {
	case !s.app.SAML.SPInitiatedOnly:
		return nil, s.unsolicited(to)
	case s.app.StartURL == "":
		return nil, explain.New("start.sp-only")
	}
	return &Next{Redirect: s.app.StartURL}, nil
}

// unsolicited prepares an answer that the application did not ask for.
func (s *signIn) unsolicited(to string) error {
	a := s.app
	if to != "" && !allowedLink(a, to) {
		return explain.New("relay.refused", explain.Fact("deep link", to))
	}
	if to == "" {
		to = a.SAML.DefaultRelayState
	}
	s.state.To = to
	s.row.ApplicationID, s.row.RequestID = a.id, "start:"+s.id
	return nil
}

func (g samlApplication) issue(ctx context.Context, s *signIn, who identity, subject saml.NameID, out []claims.Output) (*Next, error) {
	a := s.app.SAML
	signer, err := g.signer(ctx, s.app.id, a.SignatureAlgorithm, a.DigestAlgorithm)
	if err != nil {
		return nil, err
	}
	acs, binding, inResponseTo, relay := "", "", "", s.state.To
	if r := s.state.Request; r != nil {
		acs, binding, inResponseTo, relay = r.ACS, r.Binding, r.ID, r.RelayState
	} else if e := saml.DefaultEndpoint(a.ACS, saml.BindingPost); e != nil {
		if acs = e.Location; e.Binding == saml.BindingArtifact {
			binding = e.Binding
		}
	} else {
		return nil, explain.New("saml.acs-missing").Of(s.app.Name)
	}
	issued := saml.Issued{
		Issuer: g.idpEntity(s.app), Audience: saml.EntityID(a.EntityID), ACS: acs, InResponseTo: inResponseTo, Now: g.Now(), Validity: 5 * time.Minute, NameID: s.sent, Attributes: samlAttributes(s.app, subject.Value, out),
		AuthnInstant: who.AuthnInstant, Context: who.Context, Authorities: append([]string{s.provider.Authority()}, who.Authorities...), SessionIndex: cmp.Or(s.sessionIndex, keys.RandomID()), SessionNotOnOrAfter: s.sessionEnd(who, g.Now()),
		SignAssertion: a.Sign != "response", SignResponse: a.Sign != "assertion", Signer: signer,
	}
	if a.Encrypt != "" {
		x := a.Encrypter()
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
	s.rec.Message(trace.Message{From: trace.Gate, To: trace.Application, Name: "Response", Binding: bindingOf(binding), Address: acs, Raw: string(made.XML), Opened: string(made.Plain), RelayState: relay, Signature: signedParts(a.Sign)})
	form, err := g.deliver(ctx, s, acs, binding, made.XML, relay)
	return &Next{Form: form}, err
}

// samlSubject is the NameID that travels: the identifier, or a transient one where the identifier is an attribute.
func samlSubject(a *application, subject saml.NameID) saml.NameID {
	if a.Subject.Attribute == "" {
		return subject
	}
	return saml.NameID{Value: keys.RandomID(), Format: saml.FormatTransient}
}

// samlAttributes are what the mapping made, and the identifier where it travels as one of them.
func samlAttributes(a *application, subject string, out []claims.Output) []saml.Attribute {
	var list []saml.Attribute
	if a.Subject.Attribute != "" {
		list = append(list, saml.Attribute{Name: a.Subject.Attribute, Values: []string{subject}})
	}
	for _, o := range out {
		if o.Rule.Set != a.Subject.Attribute {
			list = append(list, saml.Attribute{Name: o.Rule.Set, NameFormat: o.Rule.NameFormat, FriendlyName: o.Rule.FriendlyName, Type: o.Rule.Type, Values: o.Values})
		}
	}
	return list
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

func bindingOf(binding string) string {
	if binding == "" {
		binding = saml.BindingPost
	}
	return saml.BindingName(binding)
}

// deliver sends a response to the application by the browser: itself, or as an artifact for which the application asks us.
func (g samlApplication) deliver(ctx context.Context, s *signIn, acs, binding string, doc []byte, relay string) (*Form, error) {
	if binding != saml.BindingArtifact {
		return responseForm(acs, doc, relay), nil
	}
	artifact, err := g.keepArtifact(ctx, s, doc)
	if err != nil {
		return nil, err
	}
	f := &Form{Method: "get", Action: acs, Fields: [][2]string{{saml.ParamArtifact, artifact}}}
	if relay != "" {
		f.Fields = append(f.Fields, [2]string{"RelayState", relay})
	}
	return f, nil
}

func responseForm(acs string, doc []byte, relay string) *Form {
	f := &Form{Action: acs, Fields: [][2]string{{saml.ParamResponse, saml.EncodePost(doc)}}}
	if relay != "" {
		f.Fields = append(f.Fields, [2]string{"RelayState", relay})
	}
	return f
}

func (g samlApplication) refuse(ctx context.Context, s *signIn, f *explain.Failure) *Next {
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
	signer, err := g.signer(ctx, s.app.id, s.app.SAML.SignatureAlgorithm, s.app.SAML.DigestAlgorithm)
	if err != nil {
		return nil
	}
	made, err := saml.ErrorResponse(g.idpEntity(s.app), r.ACS, r.ID, status, e.Substatus, e.Person+" (reference "+s.reference+")", g.Now(), signer)
	if err != nil {
		return nil
	}
	s.rec.Message(trace.Message{From: trace.Gate, To: trace.Application, Name: "Response", Binding: bindingOf(r.Binding), Address: r.ACS, Raw: string(made.XML), RelayState: r.RelayState, Signature: "response signed"})
	form, err := g.deliver(ctx, s, r.ACS, r.Binding, made.XML, r.RelayState)
	if err != nil {
		return nil
	}
	return &Next{Form: form}
}
