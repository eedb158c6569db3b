package signin

import (
	"context"
	"errors"
	"strings"
	"time"

	"innergate/core/bridge"
	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/core/xmlsig"
	"innergate/gate/partners"
	"innergate/store"
)

// samlProvider asks SAML providers: we are the service provider.
type samlProvider struct{ *Room }

func (g samlProvider) Send(ctx context.Context, s *SignIn) (*Next, error) {
	p := s.Provider.SAML
	endpoint := p.Endpoint()
	asked := saml.Asked{
		Issuer:           g.partners.SPEntity(s.Provider),
		Destination:      endpoint.Location,
		ACS:              g.ACSLocation(s.Provider.Slug),
		Now:              g.Now(),
		NameIDFormat:     p.NameIDFormat,
		RequestedContext: p.RequestedContext,
		RequesterIDs:     s.State.Wish.Requesters,
	}
	if p.ResponseBinding == "HTTP-Artifact" {
		asked.ProtocolBinding = saml.BindingArtifact
	}
	asked.IsPassive = s.State.Wish.Passive
	asked.ForceAuthn = !asked.IsPassive && (p.ForceAuthn || s.State.Wish.Fresh || s.Rehearsal != nil && s.Rehearsal.Fresh)
	s.asked.Context = asked.RequestedContext
	if wish := s.State.Wish; wish.Context != nil {
		asked.RequestedContext = bridge.AskedOf(s.Provider.Contexts, wish.Context)
		// What is only preferred need not be proven, and what stands for it by the provider's table is looked at afterwards.
		if s.asked.Context = asked.RequestedContext; wish.Preferred || len(s.Provider.Contexts) > 0 {
			s.asked.Context = nil
		}
	}
	if n := s.State.Wish.ProxyCount; n != nil {
		left := *n - 1
		asked.ProxyCount = &left
	}
	s.asked.NameIDFormat = asked.NameIDFormat
	if asked.ForceAuthn || s.State.Wish.Fresh {
		s.asked.FreshSince = g.Now()
	}
	var signer *xmlsig.Signer
	if !p.SendUnsigned && s.Provider.Sending().Given() {
		var err error
		if signer, err = g.keyring.Signer(ctx, s.Provider.Sending(), p.SignatureAlgorithm, p.DigestAlgorithm); err != nil {
			return nil, err
		}
	}
	message := trace.Message{
		From:       trace.Gate,
		To:         trace.Provider,
		Name:       "AuthnRequest",
		Binding:    saml.BindingName(endpoint.Binding),
		Address:    endpoint.Location,
		RelayState: s.ID,
	}
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
	s.Row.OurRequestID = id
	message.Raw = string(doc)
	s.Rec.Message(message)
	if endpoint.Binding == saml.BindingPost {
		return &Next{
			To: &Form{Action: endpoint.Location, Fields: [][2]string{{saml.ParamRequest, saml.EncodePost(doc)}, {"RelayState", s.ID}}},
		}, nil
	}
	location, err := saml.EncodeRedirect(endpoint.Location, saml.ParamRequest, doc, s.ID, signer)
	return &Next{To: Redirect(location)}, err
}

func (g samlProvider) Receive(ctx context.Context, s *SignIn, a *Arrival) (bridge.Identity, error) {
	rules, err := g.ResponseRules(ctx, s.Provider, g.Now())
	if err != nil {
		return bridge.Identity{}, err
	}
	rules.RequestID, rules.FreshSince, rules.RequestedContext, rules.NameIDFormat = s.Row.OurRequestID, s.asked.FreshSince,
		s.asked.Context, s.asked.NameIDFormat
	assertion, err := a.response.Check(rules, s.Rec)
	if err != nil {
		return bridge.Identity{}, g.crossed(ctx, s.Provider, a.response.ClaimedIssuer(), err)
	}
	g.keyring.NoteUse(s.Provider.ID, assertion.Certificate)
	if assertion.Opened != "" {
		s.openedMessage(assertion.Opened)
	}
	return WhoIs(s.Provider, assertion)
}

// ResponseRules are what a provider's response is held against at a time; what the sign-in itself asked for comes on
// top.
func (g *Room) ResponseRules(ctx context.Context, pr *partners.Provider, now time.Time) (saml.ResponseRules, error) {
	p := pr.SAML
	ring, err := g.keyring.Ring(ctx, keys.PurposeEncryption, pr.ID)
	if err != nil {
		return saml.ResponseRules{}, err
	}
	lifetime := time.Duration(p.MaxLifetimeMinutes) * time.Minute
	if lifetime == 0 {
		lifetime = 12 * time.Hour
	}
	return saml.ResponseRules{
		Partner: pr.Name, Issuer: saml.EntityID(p.EntityID), Audience: g.partners.SPEntity(pr), ACS: g.ACSLocation(pr.Slug),
		AllowUnsolicited:    p.AllowUnsolicited,
		Trust:               pr.Trust(),
		WantAssertionSigned: p.WantAssertionSigned, DecryptionKeys: saml.RSAKeys(ring.Signers), AllowCBC: p.AllowCBC, Now: now,
		Skew: partners.Skew(p.ClockSkewSeconds), MaxLifetime: lifetime, SubjectOptional: p.SubjectFrom != "",
	}, nil
}

// WhoIs is whom a checked assertion vouches for.
func WhoIs(pr *partners.Provider, assertion *saml.Assertion) (bridge.Identity, error) {
	p := pr.SAML
	who := bridge.Identity{
		Attributes: claims.Bag{}, AuthnInstant: assertion.AuthnInstant, Context: assertion.Context, Authorities: assertion.Authorities,
		SessionEnd: assertion.SessionNotOnOrAfter,
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
			var err error
			if who.Subject, err = bridge.Link("nameid", n.Value, n.EffectiveFormat(), n.NameQualifier, n.SPNameQualifier); err != nil {
				return bridge.Identity{}, explain.New(explain.SAMLValueRefused, explain.Fact("value", "<NameID>: "+err.Error())).Of(pr.Name)
			}
		}
	}
	if p.SubjectFrom != "" {
		v := who.Attributes.First(p.SubjectFrom)
		if v == "" {
			return bridge.Identity{}, explain.New(explain.MapRequiredMissing,
				explain.Pair("value", p.SubjectFrom, words.Clip(strings.Join(who.Attributes.Names(), ", "), 500))).Of(pr.Name)
		}
		var err error
		if who.Subject, err = bridge.Link("attribute", v, p.SubjectFrom); err != nil {
			return bridge.Identity{}, explain.New(explain.SAMLValueRefused,
				explain.Fact("value", p.SubjectFrom+": "+err.Error())).Of(pr.Name)
		}
		who.Shown = v
	}
	return who, nil
}

// openedMessage notes in the trace what stood inside the encrypted part of the last message.
func (s *SignIn) openedMessage(opened string) {
	entries := s.Rec.Entries()
	for i := len(entries) - 1; i >= 0; i-- {
		if m := entries[i].Message; m != nil {
			m.Opened = opened
			return
		}
	}
}

// crossed explains a response that came to one provider's ACS and is another one's whom we know.
func (g *Room) crossed(ctx context.Context, p *partners.Provider, issuer string, err error) error {
	var f *explain.Failure
	if !errors.As(err, &f) || f.Code != explain.SAMLProviderUnknown || issuer == "" || issuer == p.SAML.EntityID {
		return err
	}
	row, found := store.One[store.Provider](g.Store.Read(ctx), "entity_id = ?", issuer)
	if found != nil || row.ID == "" {
		return err
	}
	return explain.New(explain.SAMLOtherProvider, append([]trace.Evidence{explain.Pair("provider", p.Name, row.Name)}, f.Evidence...)...)
}
