package signin

import (
	"context"
	"strings"

	"innergate/core/bridge"
	"innergate/core/explain"
	"innergate/core/oidc"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/grants"
	"innergate/gate/ground"
	"innergate/gate/partners"
)

// AskOIDC takes an application's authentication request. How tells in which form it came.
func (g *Room) AskOIDC(ctx context.Context, b Browser, raw, how string) *Next {
	s := g.Begin(b, "sp")
	s.Rec.Message(trace.Message{
		From:    trace.Application,
		To:      trace.Gate,
		Name:    "Authentication request",
		Binding: how,
		Address: g.PublicURL + "/oidc/authorize",
		Raw:     oidc.ShownParameters(raw),
	})
	return g.Walk(ctx, s, Failing(g.askOIDC(ctx, s, raw)), g.Outward)
}

func (g *Room) askOIDC(ctx context.Context, s *SignIn, raw string) error {
	p, unclear := oidc.ReadParameters(raw)
	if unclear != nil && p == nil {
		return unclear
	}
	app, err := g.partners.ApplicationByClient(ctx, p["client_id"])
	if ground.IsNotFound(err) {
		app, err = g.rehearsedAs(
			ctx,
			s.Browser,
			err,
			func(a *partners.Application) bool { return a.OIDC != nil && a.OIDC.ClientID == p["client_id"] },
		)
	}
	if ground.IsNotFound(err) {
		return explain.New(explain.OIDCClientUnknown, explain.Fact("client ID", words.Clip(p["client_id"], 200)))
	}
	if err != nil {
		return err
	}
	s.App = app
	if err := g.JoinRehearsal(ctx, s); err != nil {
		return err
	}
	app = s.App
	outside := p
	if err = unclear; err == nil {
		p, err = g.request(ctx, s, p)
	}
	if err != nil {
		// What is wrong with a request object, or stands twice, can be told where the parameters name a registered address.
		if oidc.MatchRedirectURI(app.OIDC.RedirectURIs, outside["redirect_uri"], app.OIDC.Native) {
			s.State.Asked = &oidc.Request{
				ClientID:    app.OIDC.ClientID,
				RedirectURI: outside["redirect_uri"],
				State:       words.Clip(outside["state"], 8<<10),
			}
		}
		return err
	}
	q, err := oidc.ReadRequest(p, grants.Registered(app), s.Rec)
	s.State.Asked = q
	if err != nil {
		return err
	}
	s.Row.ApplicationID, s.Row.RequestID = app.ID, "oidc:"+s.ID
	return g.wishOf(ctx, s, q)
}

// request finds the parameters that count: those beside the client ID, those that were pushed beforehand, or those that
// the client has signed.
func (g *Room) request(ctx context.Context, s *SignIn, p oidc.Parameters) (oidc.Parameters, error) {
	if handle, ok := strings.CutPrefix(p["request_uri"], oidc.RequestURI); ok {
		pushed, err := g.grants.TakePushed(ctx, s.App, handle)
		if err != nil {
			return nil, err
		}
		s.Rec.Decide(trace.Decision{About: "request", Result: "the pushed one", By: "request_uri; parameters beside it do not count"})
		return pushed, nil
	}
	if p["request"] == "" {
		return p, nil
	}
	return g.grants.SignedRequest(ctx, s.App, p, s.Rec)
}

// wishOf puts what the application wants into words that no protocol owns.
func (g *Room) wishOf(ctx context.Context, s *SignIn, q *oidc.Request) error {
	w := &s.State.Wish
	*w = bridge.Wish{Fresh: q.Fresh, Passive: q.Passive, Choose: q.Choose, MaxAge: q.MaxAge, LoginHint: q.LoginHint, Locales: q.UILocales}
	if q.MaxAge != nil && *q.MaxAge == 0 {
		w.Fresh = true
	}
	if w.Passive && w.Fresh {
		// Nobody can sign in anew without being asked.
		return explain.New(explain.RouteNoPassive).Of(s.App.Name)
	}
	w.Context, w.Preferred = bridge.ContextOf(q.ACRValues), true
	if wanted, ok := q.IDTokenClaims["acr"]; ok && len(wanted.Values) > 0 {
		w.Context, w.Preferred = bridge.ContextOf(wanted.Values), !wanted.Essential
	}
	s.heedContext()
	if wanted, ok := q.IDTokenClaims["sub"]; ok && len(wanted.Values) > 0 {
		w.Subject = &saml.NameID{Value: wanted.Values[0]}
	}
	if q.IDTokenHint == "" {
		return nil
	}
	subject, _, err := g.grants.ReadHint(ctx, s.App, q.IDTokenHint)
	if err != nil {
		return explain.New(explain.OIDCParameterWrong,
			explain.Fact("parameter", "id_token_hint is not an ID token of ours for this client")).
			Of(s.App.Name)
	}
	if w.Subject != nil && w.Subject.Value != subject {
		return explain.New(explain.OIDCParameterWrong, explain.Fact("parameter", "id_token_hint and claims name different subjects")).
			Of(s.App.Name)
	}
	w.Subject = &saml.NameID{Value: subject}
	return nil
}
