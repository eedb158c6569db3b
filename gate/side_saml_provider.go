package gate

import (
	"context"
	"time"

	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/core/xmlsig"
)

// samlProvider asks SAML providers: we are the service provider.
type samlProvider struct{ *Gate }

func (g samlProvider) send(ctx context.Context, s *signIn) (*Next, error) {
	p := s.provider.SAML
	endpoint := p.Endpoint()
	asked := saml.Asked{Issuer: g.spEntity(s.provider), Destination: endpoint.Location, ACS: g.ACSLocation(s.provider.Slug), Now: g.Now(), NameIDFormat: p.NameIDFormat, RequestedContext: p.RequestedContext, RequesterIDs: s.state.Wish.Requesters}
	if p.ResponseBinding == "HTTP-Artifact" {
		asked.ProtocolBinding = saml.BindingArtifact
	}
	asked.IsPassive = s.state.Wish.Passive
	asked.ForceAuthn = !asked.IsPassive && (p.ForceAuthn || s.state.Wish.Fresh || s.rehearsal != nil && s.rehearsal.Fresh)
	if s.state.Wish.Context != nil {
		asked.RequestedContext = s.state.Wish.Context
	}
	if n := s.state.Wish.ProxyCount; n != nil {
		left := *n - 1
		asked.ProxyCount = &left
	}
	s.state.Context, s.state.NameIDFormat, s.state.FreshSince = asked.RequestedContext, asked.NameIDFormat, time.Time{}
	if asked.ForceAuthn || s.state.Wish.Fresh {
		s.state.FreshSince = g.Now()
	}
	var signer *xmlsig.Signer
	if !p.SendUnsigned {
		var err error
		if signer, err = g.signer(ctx, s.provider.id, p.SignatureAlgorithm, p.DigestAlgorithm); err != nil {
			return nil, err
		}
	}
	message := trace.Message{From: trace.Gate, To: trace.Provider, Name: "AuthnRequest", Binding: saml.BindingName(endpoint.Binding), Address: endpoint.Location, RelayState: s.id}
	if signer != nil {
		message.Signature = "signed"
	}
	enveloped := signer
	if endpoint.Binding == saml.BindingRedirect {
		enveloped = nil
	}
	id, doc, err := saml.NewAuthnRequest(asked, enveloped)
	if err != nil {
		return nil, err
	}
	s.row.OurRequestID = id
	message.Raw = string(doc)
	s.rec.Message(message)
	if endpoint.Binding == saml.BindingPost {
		return &Next{Form: &Form{Action: endpoint.Location, Fields: [][2]string{{saml.ParamRequest, saml.EncodePost(doc)}, {"RelayState", s.id}}}}, nil
	}
	location, err := saml.EncodeRedirect(endpoint.Location, saml.ParamRequest, doc, s.id, signer)
	return &Next{Redirect: location}, err
}

func (g samlProvider) receive(ctx context.Context, s *signIn, a *arrival) (identity, error) {
	rules, err := g.responseRules(ctx, s.provider, g.Now())
	if err != nil {
		return identity{}, err
	}
	rules.RequestID, rules.FreshSince, rules.RequestedContext, rules.NameIDFormat = s.row.OurRequestID, s.state.FreshSince, s.state.Context, s.state.NameIDFormat
	assertion, err := a.response.Check(rules, s.rec)
	if err != nil {
		return identity{}, err
	}
	g.used(s.provider.id, assertion.Certificate)
	if assertion.Opened != "" {
		s.openedMessage(assertion.Opened)
	}
	return whoIs(s.provider, assertion)
}

// responseRules are what a provider's response is held against at a time; what the sign-in itself asked for comes on top.
func (g *Gate) responseRules(ctx context.Context, pr *provider, now time.Time) (saml.ResponseRules, error) {
	p := pr.SAML
	ring, err := g.ring(ctx, PurposeEncryption, pr.id)
	if err != nil {
		return saml.ResponseRules{}, err
	}
	lifetime := time.Duration(p.MaxLifetimeMinutes) * time.Minute
	if lifetime == 0 {
		lifetime = 12 * time.Hour
	}
	return saml.ResponseRules{
		Partner: pr.Name, Issuer: saml.EntityID(p.EntityID), Audience: g.spEntity(pr), ACS: g.ACSLocation(pr.Slug), AllowUnsolicited: p.AllowUnsolicited,
		Trust:               saml.Trust{Certificates: pr.signing, AllowSHA1: p.AllowSHA1, EnforceDates: p.EnforceCertificateDates},
		WantAssertionSigned: p.WantAssertionSigned, DecryptionKeys: saml.RSAKeys(ring.signers), AllowCBC: p.AllowCBC, Now: now, Skew: skew(p.ClockSkewSeconds), MaxLifetime: lifetime, SubjectOptional: p.SubjectFrom != "",
	}, nil
}

// whoIs is whom a checked assertion vouches for.
func whoIs(pr *provider, assertion *saml.Assertion) (identity, error) {
	p := pr.SAML
	who := identity{
		Attributes: claims.Bag{}, AuthnInstant: assertion.AuthnInstant, Context: assertion.Context, Authorities: assertion.Authorities, SessionEnd: assertion.SessionNotOnOrAfter,
		UsedIssuer: p.EntityID, UsedID: assertion.ID, UsedUntil: assertion.NotOnOrAfter,
	}
	for _, attr := range assertion.Attributes {
		who.Attributes[attr.Name] = append(who.Attributes[attr.Name], attr.Values...)
	}
	who.Session = assertion.SessionIndex
	if n := assertion.NameID; n != nil {
		who.NameID = n
		who.Attributes["NameID"] = []string{n.Value}
		who.Shown = n.Value
		if n.Format != saml.FormatTransient {
			who.Subject = "nameid\x1f" + n.EffectiveFormat() + "\x1f" + n.NameQualifier + "\x1f" + n.SPNameQualifier + "\x1f" + n.Value
		}
	}
	if p.SubjectFrom != "" {
		v := who.Attributes.First(p.SubjectFrom)
		if v == "" {
			return identity{}, explain.New("map.required-missing", explain.Pair("value", p.SubjectFrom, "")).Of(pr.Name)
		}
		who.Subject, who.Shown = "attribute\x1f"+p.SubjectFrom+"\x1f"+v, v
	}
	return who, nil
}

// openedMessage notes in the trace what stood inside the encrypted part of the last message.
func (s *signIn) openedMessage(opened string) {
	entries := s.rec.Entries()
	for i := len(entries) - 1; i >= 0; i-- {
		if m := entries[i].Message; m != nil {
			m.Opened = opened
			return
		}
	}
}
