package signin

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"innergate/core/bridge"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/gate/ground"
	"innergate/gate/messages"
	"innergate/gate/partners"
)

// AskSAML takes an application's AuthnRequest.
func (g *Room) AskSAML(ctx context.Context, b Browser, received *saml.Received) *Next {
	s := g.Begin(b, "sp")
	return g.Walk(ctx, s, Failing(g.askSAML(ctx, s, received)), g.Outward)
}

// AskPosted goes on with an AuthnRequest that was posted.
func (g *Room) AskPosted(ctx context.Context, b Browser, p messages.Posted, location string) *Next {
	received, err := saml.DecodePost(p.Param, p.Value, p.Relay, location)
	if err != nil {
		return g.Unreadable(ctx, b, "sp", "", err)
	}
	return g.AskSAML(ctx, b, received)
}

// Unreadable is the answer to a message whose transport form can't be undone.
func (g *Room) Unreadable(ctx context.Context, b Browser, flow, provider string, err error) *Next {
	return g.FailArrival(ctx, b, flow, provider, unreadable(err))
}

func unreadable(err error) error {
	var d *saml.DecodeError
	if errors.As(err, &d) {
		return d.Failure()
	}
	return explain.New(explain.SAMLUnreadable, explain.Fact("reason", err.Error()))
}

func (g *Room) askSAML(ctx context.Context, s *SignIn, received *saml.Received) error {
	s.Rec.Message(trace.Message{
		From:       trace.Application,
		To:         trace.Gate,
		Name:       "AuthnRequest",
		Binding:    saml.BindingName(received.Binding),
		Address:    received.Location,
		Raw:        string(received.XML),
		RelayState: received.RelayState,
		Signature:  received.SignatureInWords(),
	})
	in, err := saml.OpenRequest(received)
	if err != nil {
		return err
	}
	if len(received.RelayState) > maxRelay {
		return explain.New(explain.RelayTooLong, explain.Pair("bytes", fmt.Sprint(maxRelay), fmt.Sprint(len(received.RelayState))))
	}
	app, err := g.partners.ApplicationByEntity(ctx, in.ClaimedIssuer())
	if ground.IsNotFound(err) {
		// What is only proposed may name itself anew; it is known to its own rehearsal.
		app, err = g.rehearsedAs(
			ctx,
			s.Browser,
			err,
			func(a *partners.Application) bool { return a.SAML != nil && a.SAML.EntityID == in.ClaimedIssuer() },
		)
	}
	if ground.IsNotFound(err) {
		return explain.New(explain.SAMLApplicationUnknown, explain.Fact("issuer", in.ClaimedIssuer()))
	}
	if err != nil {
		return err
	}
	s.App = app
	if err := g.JoinRehearsal(ctx, s); err != nil {
		return err
	}
	app = s.App
	a := app.SAML
	// An application to which we are an entity of our own comes to addresses of its own, all others to the common one.
	if !s.Rec.Check(trace.Check{
		Name:     "saml.our-address",
		Text:     "The request came to the address that this application was given",
		Section:  "our rule",
		Expected: g.partners.SSOAddress(app),
		Got:      received.Location,
		OK:       received.Location == g.partners.SSOAddress(app),
	}) {
		return explain.New(explain.SAMLDestinationMismatch, explain.Pair("Destination", g.partners.SSOAddress(app), received.Location)).
			Of(app.Name)
	}
	req, err := in.Check(saml.RequestRules{
		Partner: app.Name, Issuer: saml.EntityID(a.EntityID), ACS: a.ACS, AttributeSet: a.AttributeSets,
		WantSigned: a.RequireSignedRequests, Location: received.Location,
		Trust:  app.Trust(),
		MaxAge: 10 * time.Minute, Skew: partners.Skew(a.ClockSkewSeconds), Now: g.Now(),
	}, s.Rec)
	if err != nil {
		return err
	}
	g.keyring.NoteUse(app.ID, req.Certificate)
	s.authenticated = req.Signed
	s.State.Request = req
	s.Row.ApplicationID, s.Row.RequestID = app.ID, req.ID
	if req.Refusal != nil {
		return req.Refusal
	}
	s.State.Wish = bridge.Wish{
		Fresh:      req.ForceAuthn,
		Passive:    req.IsPassive,
		Context:    req.RequestedContext,
		Subject:    req.Subject,
		ProxyCount: req.ProxyCount,
		Requesters: req.RequesterIDs,
		Providers:  req.Providers,
	}
	s.heedContext()
	if p := req.NameIDPolicy; p != nil && p.Format != "" && p.Format != saml.FormatUnspecified {
		set := bridge.SubjectFormat(app.Subject.Source, app.Subject.Format)
		if !s.Rec.Check(trace.Check{
			Name:     "saml.nameid-policy",
			Text:     "The NameID format asked for is the one set",
			Section:  "SAML Core 3.4.1.1",
			Expected: set,
			Got:      p.Format,
			OK:       p.Format == set || p.Format == saml.FormatEncrypted && a.Encrypt == "nameid",
		}) {
			return explain.New(explain.SAMLNameIDPolicy, explain.Pair("NameID format", set, p.Format))
		}
	}
	return nil
}

// heedContext has the strength that an application asks for count as its engineer has set it.
func (s *SignIn) heedContext() {
	w := &s.State.Wish
	if w.Context == nil {
		return
	}
	switch wanted := strings.Join(w.Context.Classes, " or "); {
	case s.App.Contexts == config.ContextsIgnore:
		w.Context = nil
		by := "this application's wish for " + wanted + " is ignored"
		s.Rec.Decide(trace.Decision{About: "strength", Result: "not asked for", By: by})
	case s.App.Contexts == config.ContextsPrefer && !w.Preferred:
		w.Preferred = true
		s.Rec.Decide(trace.Decision{About: "strength", Result: "preferred", By: "this application's demand for " + wanted +
			" is taken as a preference"})
	}
}

// FailArrival is the answer where a message that came could not even be read.
// Flow is what it was about, provider the short name of whoever could have sent it, where the address tells that.
func (g *Room) FailArrival(ctx context.Context, b Browser, flow, provider string, err error) *Next {
	s := g.Begin(b, flow)
	if p, found := g.partners.Provider(ctx, provider); provider != "" && found == nil {
		s.Provider = p
		s.Rec.Begin(trace.Receive)
	}
	return g.Walk(ctx, s, Failing(err))
}
