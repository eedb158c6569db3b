package signout

import (
	"context"
	"errors"
	"slices"
	"time"

	"gorm.io/gorm"

	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/gate/ground"
	"innergate/gate/messages"
	"innergate/gate/partners"
	"innergate/gate/sessions"
	"innergate/gate/signin"
	"innergate/store"
)

// LogoutSAML takes an application's logout message by the browser: a request, or the answer to one of ours.
func (g *Room) LogoutSAML(ctx context.Context, b signin.Browser, received *saml.Received) *signin.Next {
	if received.Param == saml.ParamResponse {
		return g.answeredOut(ctx, b, received)
	}
	return g.signin.Walk(ctx, g.signin.Begin(b, "slo"), func(ctx context.Context, s *signin.SignIn) (*signin.Next, error) {
		return g.logoutByApplication(ctx, s, received)
	})
}

// requestIn checks an application's LogoutRequest.
func (g *Room) requestIn(ctx context.Context, s *signin.SignIn, received *saml.Received) (*saml.LogoutRequest, error) {
	s.Rec.Message(trace.Message{
		From:       trace.Application,
		To:         trace.Gate,
		Name:       "LogoutRequest",
		Binding:    saml.BindingName(received.Binding),
		Address:    received.Location,
		Raw:        string(received.XML),
		RelayState: received.RelayState,
		Signature:  received.SignatureInWords(),
	})
	in, err := saml.OpenLogoutRequest(received)
	if err != nil {
		return nil, err
	}
	app, err := g.partners.ApplicationByEntity(ctx, in.ClaimedIssuer())
	if ground.IsNotFound(err) {
		return nil, explain.New(explain.SAMLApplicationUnknown, explain.Fact("issuer", in.ClaimedIssuer()))
	}
	if err != nil {
		return nil, err
	}
	rules := g.logoutRulesOf(app, g.partners.SLOAddress(app))
	ring, err := g.keyring.Ring(ctx, keys.PurposeEncryption, app.ID)
	if err != nil {
		return nil, err
	}
	rules.DecryptionKeys = saml.RSAKeys(ring.Signers)
	rules.UnsignedLogout = rules.UnsignedLogout && received.Binding != saml.BindingSOAP
	req, err := in.Check(rules, s.Rec)
	s.App = app
	if err != nil {
		return nil, err
	}
	g.keyring.NoteUse(app.ID, req.Certificate)
	return req, g.onlyOnce(ctx, app.ID, app.Name, req)
}

func (g *Room) logoutByApplication(ctx context.Context, s *signin.SignIn, received *saml.Received) (*signin.Next, error) {
	req, err := g.requestIn(ctx, s, received)
	if err != nil {
		return nil, err
	}
	o := &SignOut{
		By:        s.App.Name,
		Answer:    s.App.ID,
		RequestID: req.ID,
		Relay:     req.RelayState,
		Binding:   received.Binding,
		Began:     g.Now().UTC(),
		Trace:     s.ID,
		Reference: s.Reference,
	}
	sessions, err := g.sessionsNamed(ctx, s.App, req)
	if err != nil {
		return nil, err
	}
	sessions = g.ownWhereUnsigned(s, req, sessions)
	for _, h := range sessions {
		if err := g.OutOf(ctx, s, h, o); err != nil {
			return nil, err
		}
	}
	if len(sessions) == 0 {
		s.Rec.Decide(
			trace.Decision{About: "session", Result: "none", By: "no session at the gate is known by this identifier; it may be over"},
		)
	}
	return g.OnwardOut(ctx, s, o)
}

// ownWhereUnsigned leaves of the sessions that a message without a signature names the one of the browser that brought it: anybody
// can write such a message, and it must not end what others have.
func (g *Room) ownWhereUnsigned(s *signin.SignIn, req *saml.LogoutRequest, named []*sessions.HeldSession) []*sessions.HeldSession {
	if req.Signed {
		return named
	}
	own := slices.DeleteFunc(named, func(h *sessions.HeldSession) bool { return g.here(s, h) == 0 })
	s.Rec.Decide(trace.Decision{
		About:  "logout",
		Result: "for this browser's own session alone",
		By:     "the request is not signed, and this partner is set to be heard so",
	})
	return own
}

// OutOf ends a session, or only the application's part of it, where the application is set so.
func (g *Room) OutOf(ctx context.Context, s *signin.SignIn, h *sessions.HeldSession, o *SignOut) error {
	if s.App.SignOut != config.SignOutApplication {
		return g.SignOutOf(ctx, s, h, o, s.App.ID, s.App.SignsOutAtProvider())
	}
	now := g.Now().UTC()
	s.Person.ID, s.Person.Shown = h.PersonID, h.Person
	s.Rec.Decide(
		trace.Decision{About: "session", Result: "goes on", By: "a sign-out at " + s.App.Name + " is set to end its own part only"},
	)
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		return sessions.EndUse(tx, h.ID, s.App.ID, "signed out at "+s.App.Name, now)
	})
}

// sessionsNamed finds the sessions that an application means: by its own names for them, or, where it names none, all
// in which it got this identifier. The identifier must fit in either case, format and qualifiers as well (SAML Core,
// section 3.7.3.1).
func (g *Room) sessionsNamed(ctx context.Context, app *partners.Application, req *saml.LogoutRequest) ([]*sessions.HeldSession, error) {
	db := g.Store.Read(ctx).Where("application_id = ?", app.ID)
	if len(req.SessionIndexes) > 0 {
		db = db.Where("session_index IN ?", req.SessionIndexes)
	} else {
		db = db.Where("name_value = ?", req.NameID.Value)
	}
	var uses []store.SessionUse
	if err := db.Order("last_at DESC").Limit(100).Find(&uses).Error; err != nil {
		return nil, store.Clear(err)
	}
	var out []*sessions.HeldSession
	for _, u := range uses {
		held, err := sessions.NameIDOf(&u)
		if err != nil {
			return nil, err
		}
		if held.Value != req.NameID.Value || held.EffectiveFormat() != req.NameID.EffectiveFormat() ||
			held.NameQualifier != "" && held.NameQualifier != req.NameID.NameQualifier ||
			held.SPNameQualifier != "" && held.SPNameQualifier != req.NameID.SPNameQualifier ||
			held.NameQualifier == "" && !qualifierFits(req.NameID.NameQualifier, "", string(g.partners.IDPEntity(app))) ||
			held.SPNameQualifier == "" && !qualifierFits(req.NameID.SPNameQualifier, "", app.SAML.EntityID) {
			continue
		}
		h, err := g.sessions.SessionByID(ctx, u.SessionID)
		if err != nil {
			return nil, err
		}
		if h != nil && !begunAfter(h, req, partners.Skew(app.SAML.ClockSkewSeconds)) {
			out = append(out, h)
		}
	}
	return out, nil
}

// onlyOnce refuses a request that was answered before.
func (g *Room) onlyOnce(ctx context.Context, partner, name string, req *saml.LogoutRequest) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		fresh, err := ground.UseOnce(tx, "slo/"+partner, req.ID, g.Now().Add(24*time.Hour)) // none so old is taken at all
		if err == nil && !fresh {
			return explain.New(explain.SAMLRequestRepeated, explain.Fact("request", req.ID)).Of(name)
		}
		return err
	})
}

// begunAfter says whether a session began after a request was made to end those that were there.
func begunAfter(h *sessions.HeldSession, req *saml.LogoutRequest, skew time.Duration) bool {
	return !req.Issued.IsZero() && h.CreatedAt.After(req.Issued.Add(skew))
}

// qualifierFits says whether a qualifier of a name is the one that is known: the same one, none, or the one that none
// stands for (SAML Core, section 2.2.2).
func qualifierFits(asked, held, usual string) bool {
	return asked == "" || asked == held || held == "" && asked == usual
}

// LogoutSOAP takes an application's LogoutRequest by the back channel and answers it (SAML Bindings, section 3.2).
// Nothing can be told by a browser then.
func (g *Room) LogoutSOAP(ctx context.Context, from string, doc []byte, location string) ([]byte, error) {
	s := g.signin.Begin(signin.Browser{Address: from}, "slo")
	req, err := g.requestIn(ctx, s, &saml.Received{Binding: saml.BindingSOAP, Param: saml.ParamRequest, XML: doc, Location: location})
	if err != nil {
		var f *explain.Failure
		if errors.As(err, &f) {
			g.signin.Walk(ctx, s, signin.Failing(err)) // which records it; the answer goes by the back channel
		}
		return nil, err
	}
	o := &SignOut{By: s.App.Name}
	sessions, err := g.sessionsNamed(ctx, s.App, req)
	if err != nil {
		return nil, err
	}
	for _, h := range sessions {
		if err := g.OutOf(ctx, s, h, o); err != nil {
			return nil, err
		}
	}
	a := s.App.SAML
	signer, err := g.keyring.Signer(ctx, s.App.Approval(), a.SignatureAlgorithm, a.DigestAlgorithm)
	if err != nil {
		return nil, err
	}
	s.Rec.Begin(trace.Issue)
	return g.answerSOAP(ctx, s, saml.Logout{Issuer: g.partners.IDPEntity(s.App), Signer: signer}, trace.Application, req.ID, o)
}

// answerSOAP answers a LogoutRequest in the same connection, and ends the trace.
func (g *Room) answerSOAP(
	ctx context.Context,
	s *signin.SignIn,
	l saml.Logout,
	to trace.Party,
	request string,
	o *SignOut,
) ([]byte, error) {
	l.Now, l.SOAP = g.Now(), true
	answer, err := l.Response(request, o.partly(), partialWords(o))
	if err != nil {
		return nil, err
	}
	s.Rec.Message(
		trace.Message{From: trace.Gate, To: to, Name: "LogoutResponse", Binding: "SOAP", Raw: string(answer), Signature: "signed"},
	)
	g.signin.KeepTrace(ctx, s, "signed-out", "")
	return answer, nil
}

// answeredOut goes on with what a partner answered to our LogoutRequest.
func (g *Room) answeredOut(ctx context.Context, b signin.Browser, received *saml.Received) *signin.Next {
	s, o, err := g.resumeOut(ctx, b, received.RelayState)
	message := trace.Message{
		From:       trace.Application,
		To:         trace.Gate,
		Name:       "LogoutResponse",
		Binding:    saml.BindingName(received.Binding),
		Address:    received.Location,
		Raw:        string(received.XML),
		RelayState: received.RelayState,
		Signature:  received.SignatureInWords(),
	}
	if err != nil {
		s.Rec.Message(message)
		return g.signin.Walk(ctx, s, signin.Failing(err))
	}
	name, rules := "", saml.RequestRules{}
	if app, err := g.partners.ApplicationByID(ctx, o.Asked); err == nil && app.SAML != nil {
		name, rules = app.Name, g.logoutRulesOf(app, g.partners.SLOAddress(app))
	} else if p, err := g.partners.ProviderByID(ctx, o.Asked); err == nil && p.SAML != nil {
		name, rules, message.From = p.Name, g.logoutRulesOfProvider(p, g.SLOLocation(p.Slug)), trace.Provider
	}
	s.Rec.Message(message)
	done, partial := false, false
	if name != "" {
		var in *saml.IncomingLogoutResponse
		if in, err = saml.OpenLogoutResponse(received); err == nil {
			done, partial, err = in.Check(o.AskedID, rules, s.Rec)
		}
	}
	switch {
	case name == "":
		return g.signin.Walk(ctx, s, g.onward(o))
	case err != nil:
		// A forged or foreign answer must not pass for one; the partner counts as not told.
		var f *explain.Failure
		if !errors.As(err, &f) {
			return g.signin.Walk(ctx, s, signin.Failing(err))
		}
		s.Rec.Decide(trace.Decision{About: "logout", Result: "the answer of " + name + " does not count", By: string(f.Code)})
		o.Untold = addName(o.Untold, name)
	case done && !partial:
		o.Told = addName(o.Told, name)
	default:
		o.Untold = addName(o.Untold, name)
	}
	o.Asked, o.AskedID = "", ""
	return g.signin.Walk(ctx, s, g.onward(o))
}

// LogoutByProvider takes a SAML provider's logout message by the browser: a request, or the answer to one of ours (SAML
// Profiles, section 4.4.3).
func (g *Room) LogoutByProvider(ctx context.Context, b signin.Browser, slug string, received *saml.Received) *signin.Next {
	if received.Param == saml.ParamResponse {
		return g.answeredOut(ctx, b, received)
	}
	s := g.signin.Begin(b, "slo")
	o, err := g.logoutByProvider(ctx, s, slug, received)
	return g.signin.Walk(ctx, s, signin.Failing(err), g.onward(o))
}

func (g *Room) logoutByProvider(ctx context.Context, s *signin.SignIn, slug string, received *saml.Received) (*SignOut, error) {
	s.Rec.Begin(trace.Receive)
	s.Rec.Message(trace.Message{
		From:       trace.Provider,
		To:         trace.Gate,
		Name:       "LogoutRequest",
		Binding:    saml.BindingName(received.Binding),
		Address:    received.Location,
		Raw:        string(received.XML),
		RelayState: received.RelayState,
		Signature:  received.SignatureInWords(),
	})
	p, err := g.partners.SAMLProviderAt(ctx, slug)
	if err != nil {
		return nil, err
	}
	s.Provider = p
	in, err := saml.OpenLogoutRequest(received)
	if err != nil {
		return nil, err
	}
	if in.ClaimedIssuer() != p.SAML.EntityID {
		return nil, explain.New(explain.SAMLProviderUnknown, explain.Pair("issuer", p.SAML.EntityID, in.ClaimedIssuer())).Of(p.Name)
	}
	rules := g.logoutRulesOfProvider(p, g.SLOLocation(p.Slug))
	ring, err := g.keyring.Ring(ctx, keys.PurposeEncryption, p.ID)
	if err != nil {
		return nil, err
	}
	rules.DecryptionKeys = saml.RSAKeys(ring.Signers)
	rules.UnsignedLogout = rules.UnsignedLogout && received.Binding != saml.BindingSOAP
	req, err := in.Check(rules, s.Rec)
	if err != nil {
		return nil, err
	}
	g.keyring.NoteUse(p.ID, req.Certificate)
	if err := g.onlyOnce(ctx, p.ID, p.Name, req); err != nil {
		return nil, err
	}
	o := &SignOut{
		By:        p.Name,
		Answer:    p.ID,
		RequestID: req.ID,
		Relay:     req.RelayState,
		Binding:   received.Binding,
		Began:     g.Now().UTC(),
		Trace:     s.ID,
		Reference: s.Reference,
	}
	held, err := g.sessionsOfProvider(ctx, p, "", func(h *sessions.HeldSession) bool {
		who := h.Body.Proofs[p.ID].Identity
		return who.NameID != nil && who.NameID.Value == req.NameID.Value && who.NameID.EffectiveFormat() == req.NameID.EffectiveFormat() &&
			qualifierFits(req.NameID.NameQualifier, who.NameID.NameQualifier, p.SAML.EntityID) &&
			qualifierFits(req.NameID.SPNameQualifier, who.NameID.SPNameQualifier, string(g.partners.SPEntity(p))) &&
			(len(req.SessionIndexes) == 0 || slices.Contains(req.SessionIndexes, who.Session))
	}, req)
	if err != nil {
		return nil, err
	}
	held = g.ownWhereUnsigned(s, req, held)
	// The browser's own session comes last, so that what it has to be told by the browser is what remains.
	slices.SortFunc(held, func(a, b *sessions.HeldSession) int { return g.here(s, a) - g.here(s, b) })
	for _, h := range held {
		if err := g.SignOutOf(ctx, s, h, o, p.ID, false); err != nil {
			return nil, err
		}
	}
	return o, nil
}

func (g *Room) here(s *signin.SignIn, h *sessions.HeldSession) int {
	if h.RehearsalID == "" && s.Browser.Session != "" {
		if own, err := g.sessions.SessionByToken(context.Background(), s.Browser.Session); err == nil && own != nil && own.ID == h.ID {
			return 1
		}
	}
	return 0
}

// sessionsOfProvider finds the sessions in which a provider vouched for a subject, or for what a test says.
func (g *Room) sessionsOfProvider(
	ctx context.Context,
	p *partners.Provider,
	subject string,
	fits func(*sessions.HeldSession) bool,
	req *saml.LogoutRequest,
) ([]*sessions.HeldSession, error) {
	db := g.Store.Read(ctx).Where("provider_id = ?", p.ID)
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
	var out []*sessions.HeldSession
	for _, r := range rows {
		h, err := g.sessions.SessionByID(ctx, r.SessionID)
		if err != nil {
			return nil, err
		}
		if h != nil && fits(h) && (req == nil || !begunAfter(h, req, partners.Skew(p.SAML.ClockSkewSeconds))) {
			out = append(out, h)
		}
	}
	return out, nil
}

// LogoutByProviderSOAP is LogoutByProvider by the back channel.
func (g *Room) LogoutByProviderSOAP(ctx context.Context, from, slug string, doc []byte) ([]byte, error) {
	s := g.signin.Begin(signin.Browser{Address: from}, "slo")
	o, err := g.logoutByProvider(
		ctx, s, slug,
		&saml.Received{Binding: saml.BindingSOAP, Param: saml.ParamRequest, XML: doc, Location: g.SLOLocation(slug)},
	)
	if err != nil {
		var f *explain.Failure
		if errors.As(err, &f) {
			g.signin.Walk(ctx, s, signin.Failing(err)) // which records it; the answer goes by the back channel
		}
		return nil, err
	}
	c := s.Provider.SAML
	signer, err := g.keyring.Signer(ctx, s.Provider.Approval(), c.SignatureAlgorithm, c.DigestAlgorithm)
	if err != nil {
		return nil, err
	}
	return g.answerSOAP(ctx, s, saml.Logout{Issuer: g.partners.SPEntity(s.Provider), Signer: signer}, trace.Provider, o.RequestID, o)
}

// LogoutPosted goes on with a logout message that was posted, of an application or of the provider with this short
// name.
func (g *Room) LogoutPosted(ctx context.Context, b signin.Browser, p messages.Posted, location, provider string) *signin.Next {
	received, err := saml.DecodePost(p.Param, p.Value, p.Relay, location)
	if err != nil {
		return g.signin.Unreadable(ctx, b, "slo", "", err)
	}
	if provider != "" {
		return g.LogoutByProvider(ctx, b, provider, received)
	}
	return g.LogoutSAML(ctx, b, received)
}
