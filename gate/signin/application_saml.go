package signin

import (
	"cmp"
	"context"
	"strings"
	"time"

	"innergate/core/bridge"
	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/partners"

	"gorm.io/gorm"
)

// samlApplication answers SAML applications: we are the identity provider.
type samlApplication struct{ *Room }

func (g samlApplication) Start(_ context.Context, s *SignIn, to string) (*Next, error) {
	switch {
	case !s.App.SAML.SPInitiatedOnly:
		return nil, s.unsolicited(to)
	case s.App.StartURL == "":
		return nil, explain.New(explain.StartSPOnly)
	}
	return &Next{To: Redirect(s.App.StartURL)}, nil
}

// unsolicited prepares an answer that the application did not ask for.
func (s *SignIn) unsolicited(to string) error {
	a := s.App
	if to != "" && !a.SAML.AllowsLink(to) {
		return explain.New(explain.RelayRefused, explain.Pair("deep link", words.OrNone(strings.Join(a.SAML.DeepLinks, " or ")), to))
	}
	if to == "" {
		to = a.SAML.DefaultRelayState
	}
	s.State.To = to
	s.Row.ApplicationID, s.Row.RequestID = a.ID, "start:"+s.ID
	return nil
}

// Settle has nothing to write: the answer itself says everything.
func (g samlApplication) Settle(*gorm.DB, *SignIn, partners.Approved, bridge.Identity, saml.NameID) error {
	return nil
}

func (g samlApplication) Issue(
	ctx context.Context,
	s *SignIn,
	to partners.Approved,
	who bridge.Identity,
	subject saml.NameID,
	out []claims.Output,
) (*Next, error) {
	a := to.Application().SAML
	signer, err := g.keyring.Signer(ctx, to.Application().Approval(), a.SignatureAlgorithm, a.DigestAlgorithm)
	if err != nil {
		return nil, err
	}
	acs, binding, inResponseTo, relay := "", "", "", s.State.To
	if r := s.State.Request; r != nil {
		acs, binding, inResponseTo, relay = r.ACS, r.Binding, r.ID, r.RelayState
	} else if e := saml.DefaultEndpoint(a.ACS, saml.BindingPost); e != nil {
		if acs = e.Location; e.Binding == saml.BindingArtifact {
			binding = e.Binding
		}
	} else {
		return nil, explain.New(explain.SAMLACSMissing).Of(s.App.Name)
	}
	issued := saml.Issued{
		Issuer: g.partners.IDPEntity(s.App), Audience: saml.EntityID(a.EntityID), ACS: acs, InResponseTo: inResponseTo, Now: g.Now(),
		Validity: 5 * time.Minute,
		NameID:   s.sent, Attributes: SAMLAttributes(s.App, subject.Value, out),
		AuthnInstant: who.AuthnInstant, Context: who.Told(s.State.Wish.Context),
		Authorities:  append([]string{s.Provider.Authority()}, who.Authorities...),
		SessionIndex: cmp.Or(s.sessionIndex, keys.RandomID()), SessionNotOnOrAfter: s.SessionEnd(who, g.Now()),
		SignAssertion: a.Sign != "response", SignResponse: a.Sign != "assertion", Signer: signer,
	}
	if a.Encrypt != "" {
		x := a.Encrypter()
		if x == nil {
			return nil, explain.New(explain.GateFailed, explain.Fact("error", "no RSA certificate for encryption is held"))
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
	s.Rec.Message(trace.Message{
		From:       trace.Gate,
		To:         trace.Application,
		Name:       "Response",
		Binding:    bindingOf(binding),
		Address:    acs,
		Raw:        string(made.XML),
		Opened:     string(made.Plain),
		RelayState: relay,
		Signature:  signedParts(a.Sign),
	})
	form, err := g.deliver(ctx, s, acs, binding, made.XML, relay)
	return &Next{To: form}, err
}

// SAMLSubject is the NameID that travels: the identifier, or a transient one where the identifier is an attribute.
func SAMLSubject(a *partners.Application, subject saml.NameID) saml.NameID {
	if a.Subject.Attribute == "" {
		return subject
	}
	return saml.NameID{Value: keys.RandomID(), Format: saml.FormatTransient}
}

// SAMLAttributes are what the mapping made, and the identifier where it travels as one of them.
func SAMLAttributes(a *partners.Application, subject string, out []claims.Output) []saml.Attribute {
	var list []saml.Attribute
	if a.Subject.Attribute != "" {
		list = append(list, saml.Attribute{Name: a.Subject.Attribute, Values: []string{subject}})
	}
	for _, o := range out {
		if o.Rule.Set != a.Subject.Attribute {
			list = append(
				list,
				saml.Attribute{
					Name:         o.Rule.Set,
					NameFormat:   o.Rule.NameFormat,
					FriendlyName: o.Rule.FriendlyName,
					Type:         o.Rule.Type,
					Values:       o.Values,
				},
			)
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

// deliver sends a response to the application by the browser: itself, or as an artifact for which the application asks
// us.
func (g samlApplication) deliver(ctx context.Context, s *SignIn, acs, binding string, doc []byte, relay string) (*Form, error) {
	if binding != saml.BindingArtifact {
		return responseForm(acs, doc, relay), nil
	}
	artifact, err := g.messages.KeepArtifact(ctx, s.App, doc)
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

func (g samlApplication) Refuse(ctx context.Context, s *SignIn, f *explain.Failure) *Next {
	r := s.State.Request
	if r == nil || r.ACS == "" || !s.App.Approval().Given() {
		return nil
	}
	e := f.Explain()
	status := e.Status
	if status == "" {
		status = "Responder"
		e.Substatus = "AuthnFailed"
	}
	signer, err := g.keyring.Signer(ctx, s.App.Approval(), s.App.SAML.SignatureAlgorithm, s.App.SAML.DigestAlgorithm)
	if err != nil {
		return nil
	}
	made, err := saml.ErrorResponse(
		g.partners.IDPEntity(s.App), r.ACS, r.ID, status, e.Substatus, e.Person+" (reference "+s.Reference+")", g.Now(),
		signer,
	)
	if err != nil {
		return nil
	}
	s.Rec.Message(trace.Message{
		From:       trace.Gate,
		To:         trace.Application,
		Name:       "Response",
		Binding:    bindingOf(r.Binding),
		Address:    r.ACS,
		Raw:        string(made.XML),
		RelayState: r.RelayState,
		Signature:  "response signed",
	})
	form, err := g.deliver(ctx, s, r.ACS, r.Binding, made.XML, r.RelayState)
	if err != nil {
		return nil
	}
	return &Next{To: form}
}
