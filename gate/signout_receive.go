package gate

import (
	"context"
	"errors"
	"slices"

	"gorm.io/gorm"

	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/store"
)

// SLOLocation is our address for a provider's logout messages.
func (g *Gate) SLOLocation(provider string) string {
	return g.PublicURL + "/saml/sp/" + provider + "/slo"
}

// LogoutSAML takes an application's logout message by the browser: a request, or the answer to one of ours.
func (g *Gate) LogoutSAML(ctx context.Context, b Browser, received *saml.Received) *Next {
	if received.Param == saml.ParamResponse {
		return g.answeredOut(ctx, b, received)
	}
	s := g.begin(b, "slo")
	next, err := g.logoutByApplication(ctx, s, received)
	if err != nil {
		return g.failed(ctx, s, err)
	}
	return next
}

// requestIn checks an application's LogoutRequest.
func (g *Gate) requestIn(ctx context.Context, s *signIn, received *saml.Received) (*saml.LogoutRequest, error) {
	s.rec.Message(trace.Message{From: trace.Application, To: trace.Gate, Name: "LogoutRequest", Binding: saml.BindingName(received.Binding), Address: received.Location, Raw: string(received.XML), RelayState: received.RelayState, Signature: received.SignatureInWords()})
	in, err := saml.OpenLogoutRequest(received)
	if err != nil {
		return nil, err
	}
	app, err := g.applicationByEntity(ctx, in.ClaimedIssuer())
	if isNotFound(err) {
		return nil, explain.New("saml.application-unknown", explain.Fact("issuer", in.ClaimedIssuer()))
	}
	if err != nil {
		return nil, err
	}
	rules := g.logoutRulesOf(app, g.sloLocation(app))
	ring, err := g.ring(ctx, PurposeEncryption, app.id)
	if err != nil {
		return nil, err
	}
	rules.DecryptionKeys = saml.RSAKeys(ring.signers)
	req, err := in.Check(rules, s.rec)
	s.app = app
	if err != nil {
		return nil, err
	}
	g.used(app.id, req.Certificate)
	return req, nil
}

func (g *Gate) logoutByApplication(ctx context.Context, s *signIn, received *saml.Received) (*Next, error) {
	req, err := g.requestIn(ctx, s, received)
	if err != nil {
		return nil, err
	}
	o := &signOut{By: s.app.Name, Answer: s.app.id, RequestID: req.ID, Relay: req.RelayState, Binding: received.Binding, Began: g.Now().UTC(), Trace: s.id, Reference: s.reference}
	sessions, err := g.sessionsNamed(ctx, s.app.id, req)
	if err != nil {
		return nil, err
	}
	for _, h := range sessions {
		if err := g.outOf(ctx, s, h, o); err != nil {
			return nil, err
		}
	}
	if len(sessions) == 0 {
		s.rec.Decide(trace.Decision{About: "session", Result: "none", By: "no session at the gate is known by this identifier; it may be over"})
	}
	return g.onwardOut(ctx, s, o), nil
}

// outOf ends a session, or only the application's part of it, where the application is set so.
func (g *Gate) outOf(ctx context.Context, s *signIn, h *heldSession, o *signOut) error {
	if s.app.SignOut != config.SignOutApplication {
		return g.signOutOf(ctx, s, h, o, s.app.id, s.app.signsOutAtProvider())
	}
	now := g.Now().UTC()
	s.person.id, s.person.shown = h.PersonID, h.Person
	s.rec.Decide(trace.Decision{About: "session", Result: "goes on", By: "a sign-out at " + s.app.Name + " is set to end its own part only"})
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		if _, err := store.Exec(tx, "DELETE FROM session_uses WHERE session_id = ? AND application_id = ?", h.ID, s.app.id); err != nil {
			return err
		}
		if _, err := store.Exec(tx, "DELETE FROM guard_sessions WHERE session_id = ? AND application_id = ?", h.ID, s.app.id); err != nil {
			return err
		}
		_, err := store.Exec(tx, "UPDATE grants SET ended_at = ?, ended_by = ? WHERE session_id = ? AND application_id = ? AND ended_at IS NULL AND NOT offline", now, "signed out at "+s.app.Name, h.ID, s.app.id)
		return err
	})
}

// sessionsNamed finds the sessions that an application means: by its own names for them, or, where it names none, all in which it got this identifier. The identifier must
// fit in either case, format and qualifiers as well (SAML Core, section 3.7.3.1).
func (g *Gate) sessionsNamed(ctx context.Context, applicationID string, req *saml.LogoutRequest) ([]*heldSession, error) {
	db := g.Store.Read(ctx).Where("application_id = ?", applicationID)
	if len(req.SessionIndexes) > 0 {
		db = db.Where("session_index IN ?", req.SessionIndexes)
	} else {
		db = db.Where("name_value = ?", req.NameID.Value)
	}
	var uses []store.SessionUse
	if err := db.Order("last_at DESC").Limit(100).Find(&uses).Error; err != nil {
		return nil, store.Clear(err)
	}
	var out []*heldSession
	for _, u := range uses {
		held, err := nameIDOf(&u)
		if err != nil {
			return nil, err
		}
		if held.Value != req.NameID.Value || held.EffectiveFormat() != req.NameID.EffectiveFormat() || held.NameQualifier != "" && held.NameQualifier != req.NameID.NameQualifier || held.SPNameQualifier != "" && held.SPNameQualifier != req.NameID.SPNameQualifier {
			continue
		}
		h, err := g.sessionByID(ctx, u.SessionID)
		if err != nil {
			return nil, err
		}
		if h != nil {
			out = append(out, h)
		}
	}
	return out, nil
}

// LogoutSOAP takes an application's LogoutRequest by the back channel and answers it (SAML Bindings, section 3.2). Nothing can be told by a browser then.
func (g *Gate) LogoutSOAP(ctx context.Context, from string, doc []byte, location string) ([]byte, error) {
	s := g.begin(Browser{Address: from}, "slo")
	req, err := g.requestIn(ctx, s, &saml.Received{Binding: saml.BindingSOAP, Param: saml.ParamRequest, XML: doc, Location: location})
	if err != nil {
		var f *explain.Failure
		if errors.As(err, &f) {
			g.failed(ctx, s, err)
		}
		return nil, err
	}
	o := &signOut{By: s.app.Name}
	sessions, err := g.sessionsNamed(ctx, s.app.id, req)
	if err != nil {
		return nil, err
	}
	for _, h := range sessions {
		if err := g.outOf(ctx, s, h, o); err != nil {
			return nil, err
		}
	}
	a := s.app.SAML
	signer, err := g.signer(ctx, s.app.id, a.SignatureAlgorithm, a.DigestAlgorithm)
	if err != nil {
		return nil, err
	}
	s.rec.Begin(trace.Issue)
	return g.answerSOAP(ctx, s, saml.Logout{Issuer: g.idpEntity(s.app), Signer: signer}, trace.Application, req.ID, o)
}

// answerSOAP answers a LogoutRequest in the same connection, and ends the trace.
func (g *Gate) answerSOAP(ctx context.Context, s *signIn, l saml.Logout, to trace.Party, request string, o *signOut) ([]byte, error) {
	l.Now, l.SOAP = g.Now(), true
	answer, err := l.Response(request, len(o.Untold) > 0, partialWords(o))
	if err != nil {
		return nil, err
	}
	s.rec.Message(trace.Message{From: trace.Gate, To: to, Name: "LogoutResponse", Binding: "SOAP", Raw: string(answer), Signature: "signed"})
	g.keepTrace(ctx, s, "signed-out", "")
	return answer, nil
}

// answeredOut goes on with what a partner answered to our LogoutRequest.
func (g *Gate) answeredOut(ctx context.Context, b Browser, received *saml.Received) *Next {
	s, o, err := g.resumeOut(ctx, b, received.RelayState)
	message := trace.Message{From: trace.Application, To: trace.Gate, Name: "LogoutResponse", Binding: saml.BindingName(received.Binding), Address: received.Location, Raw: string(received.XML), RelayState: received.RelayState, Signature: received.SignatureInWords()}
	if err != nil {
		s.rec.Message(message)
		return g.failed(ctx, s, err)
	}
	name, rules := "", saml.RequestRules{}
	if app, err := g.applicationByID(ctx, o.Asked); err == nil && app.SAML != nil {
		name, rules = app.Name, g.logoutRulesOf(app, g.sloLocation(app))
	} else if p, err := g.providerByID(ctx, o.Asked); err == nil && p.SAML != nil {
		name, rules, message.From = p.Name, g.logoutRulesOfProvider(p, g.SLOLocation(p.Slug)), trace.Provider
	}
	s.rec.Message(message)
	done, partial := false, false
	if name != "" {
		var in *saml.IncomingLogoutResponse
		if in, err = saml.OpenLogoutResponse(received); err == nil {
			done, partial, err = in.Check(o.AskedID, rules, s.rec)
		}
	}
	switch {
	case name == "":
		return g.onwardOut(ctx, s, o)
	case err != nil:
		// A forged or foreign answer must not pass for one; the partner counts as not told.
		var f *explain.Failure
		if !errors.As(err, &f) {
			return g.failed(ctx, s, err)
		}
		s.rec.Decide(trace.Decision{About: "logout", Result: "the answer of " + name + " does not count", By: f.Code})
		o.Untold = addName(o.Untold, name)
	case done && !partial:
		o.Told = addName(o.Told, name)
	default:
		o.Untold = addName(o.Untold, name)
	}
	o.Asked, o.AskedID = "", ""
	return g.onwardOut(ctx, s, o)
}

// LogoutByProvider takes a SAML provider's logout message by the browser: a request, or the answer to one of ours (SAML Profiles, section 4.4.3).
func (g *Gate) LogoutByProvider(ctx context.Context, b Browser, slug string, received *saml.Received) *Next {
	if received.Param == saml.ParamResponse {
		return g.answeredOut(ctx, b, received)
	}
	s := g.begin(b, "slo")
	o, err := g.logoutByProvider(ctx, s, slug, received)
	if err != nil {
		return g.failed(ctx, s, err)
	}
	return g.onwardOut(ctx, s, o)
}

func (g *Gate) logoutByProvider(ctx context.Context, s *signIn, slug string, received *saml.Received) (*signOut, error) {
	s.rec.Begin(trace.Receive)
	s.rec.Message(trace.Message{From: trace.Provider, To: trace.Gate, Name: "LogoutRequest", Binding: saml.BindingName(received.Binding), Address: received.Location, Raw: string(received.XML), RelayState: received.RelayState, Signature: received.SignatureInWords()})
	p, err := g.provider(ctx, slug)
	if err == nil && p.SAML == nil {
		err = explain.New("saml.provider-unknown", explain.Pair("provider", "a SAML provider", p.Name+" ("+p.Kind+")"))
	}
	if err != nil {
		return nil, err
	}
	s.provider = p
	in, err := saml.OpenLogoutRequest(received)
	if err != nil {
		return nil, err
	}
	if in.ClaimedIssuer() != p.SAML.EntityID {
		return nil, explain.New("saml.provider-unknown", explain.Pair("issuer", p.SAML.EntityID, in.ClaimedIssuer())).Of(p.Name)
	}
	rules := g.logoutRulesOfProvider(p, g.SLOLocation(p.Slug))
	ring, err := g.ring(ctx, PurposeEncryption, p.id)
	if err != nil {
		return nil, err
	}
	rules.DecryptionKeys = saml.RSAKeys(ring.signers)
	req, err := in.Check(rules, s.rec)
	if err != nil {
		return nil, err
	}
	g.used(p.id, req.Certificate)
	o := &signOut{By: p.Name, Answer: p.id, RequestID: req.ID, Relay: req.RelayState, Binding: received.Binding, Began: g.Now().UTC(), Trace: s.id, Reference: s.reference}
	sessions, err := g.sessionsOfProvider(ctx, p, "", func(h *heldSession) bool {
		who := h.body.Proofs[p.id].Identity
		return who.NameID != nil && who.NameID.Value == req.NameID.Value && who.NameID.EffectiveFormat() == req.NameID.EffectiveFormat() && (len(req.SessionIndexes) == 0 || slices.Contains(req.SessionIndexes, who.Session))
	}, req)
	if err != nil {
		return nil, err
	}
	// The browser's own session comes last, so that what it has to be told by the browser is what remains.
	slices.SortFunc(sessions, func(a, b *heldSession) int { return g.here(s, a) - g.here(s, b) })
	for _, h := range sessions {
		if err := g.signOutOf(ctx, s, h, o, p.id, false); err != nil {
			return nil, err
		}
	}
	return o, nil
}

func (g *Gate) here(s *signIn, h *heldSession) int {
	if h.RehearsalID == "" && s.browser.Session != "" {
		if own, err := g.sessionByToken(context.Background(), s.browser.Session); err == nil && own != nil && own.ID == h.ID {
			return 1
		}
	}
	return 0
}

// sessionsOfProvider finds the sessions in which a provider vouched for a subject, or for what a test says.
func (g *Gate) sessionsOfProvider(ctx context.Context, p *provider, subject string, fits func(*heldSession) bool, req *saml.LogoutRequest) ([]*heldSession, error) {
	db := g.Store.Read(ctx).Where("provider_id = ?", p.id)
	switch {
	case subject != "":
		db = db.Where("subject = ?", subject)
	case req != nil:
		db = db.Where("name_value = ?", req.NameID.Value)
	}
	var rows []store.SessionProof
	if err := db.Order("at DESC").Limit(200).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	var out []*heldSession
	for _, r := range rows {
		h, err := g.sessionByID(ctx, r.SessionID)
		if err != nil {
			return nil, err
		}
		if h != nil && fits(h) {
			out = append(out, h)
		}
	}
	return out, nil
}

// LogoutByProviderSOAP is LogoutByProvider by the back channel.
func (g *Gate) LogoutByProviderSOAP(ctx context.Context, from, slug string, doc []byte) ([]byte, error) {
	s := g.begin(Browser{Address: from}, "slo")
	o, err := g.logoutByProvider(ctx, s, slug, &saml.Received{Binding: saml.BindingSOAP, Param: saml.ParamRequest, XML: doc, Location: g.SLOLocation(slug)})
	if err != nil {
		var f *explain.Failure
		if errors.As(err, &f) {
			g.failed(ctx, s, err)
		}
		return nil, err
	}
	c := s.provider.SAML
	signer, err := g.signer(ctx, s.provider.id, c.SignatureAlgorithm, c.DigestAlgorithm)
	if err != nil {
		return nil, err
	}
	return g.answerSOAP(ctx, s, saml.Logout{Issuer: g.spEntity(s.provider), Signer: signer}, trace.Provider, o.RequestID, o)
}

// LogoutPosted goes on with a logout message that was posted, of an application or of the provider with this short name.
func (g *Gate) LogoutPosted(ctx context.Context, b Browser, handle, place, location, provider string) *Next {
	a, err := g.takeArrival(ctx, handle, place)
	if err != nil {
		return g.failed(ctx, g.begin(b, "slo"), err)
	}
	received, err := saml.DecodePost(a.Param, string(a.Value), a.Relay, location)
	if err != nil {
		return g.Unreadable(ctx, b, err)
	}
	if provider != "" {
		return g.LogoutByProvider(ctx, b, provider, received)
	}
	return g.LogoutSAML(ctx, b, received)
}
