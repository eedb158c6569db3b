package signin

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"gorm.io/gorm"

	"innergate/core/bridge"
	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/oidc"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
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

// AskOIDCPosted goes on with a request that was posted.
func (g *Room) AskOIDCPosted(ctx context.Context, b Browser, handle string) *Next {
	kept, err := g.messages.TakeArrival(ctx, handle, "authorize")
	if err != nil {
		return g.FailArrival(ctx, b, err)
	}
	return g.AskOIDC(ctx, b, string(kept.Value), "form")
}

func (g *Room) askOIDC(ctx context.Context, s *SignIn, raw string) error {
	p, err := oidc.ReadParameters(raw)
	if err != nil {
		return err
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
	if p, err = g.request(ctx, s, p); err != nil {
		// What is wrong with a request object can be told where the parameters beside it name a registered address.
		if oidc.MatchRedirectURI(app.OIDC.RedirectURIs, outside["redirect_uri"], app.OIDC.Native) {
			s.State.Asked = &oidc.Request{
				ClientID:    app.OIDC.ClientID,
				RedirectURI: outside["redirect_uri"],
				State:       words.Clip(outside["state"], 8<<10),
			}
		}
		return err
	}
	q, err := oidc.ReadRequest(p, Registered(app), s.Rec)
	s.State.Asked = q
	if err != nil {
		return err
	}
	s.Row.ApplicationID, s.Row.RequestID = app.ID, "oidc:"+s.ID
	return g.wishOf(ctx, s, q)
}

// Registered is what requests of a client are held against.
func Registered(app *partners.Application) oidc.Registered {
	o := app.OIDC
	return oidc.Registered{
		Partner:      app.Name,
		ClientID:     o.ClientID,
		RedirectURIs: o.RedirectURIs,
		Native:       o.Native,
		RequirePKCE:  !o.WithoutPKCE,
		Scopes:       o.Scopes,
	}
}

// request finds the parameters that count: those beside the client ID, those that were pushed beforehand, or those that
// the client has signed.
func (g *Room) request(ctx context.Context, s *SignIn, p oidc.Parameters) (oidc.Parameters, error) {
	if handle, ok := strings.CutPrefix(p["request_uri"], oidc.RequestURI); ok {
		pushed, err := g.takePushed(ctx, s.App, handle)
		if err != nil {
			return nil, err
		}
		s.Rec.Decide(trace.Decision{About: "request", Result: "the pushed one", By: "request_uri; parameters beside it do not count"})
		return pushed, nil
	}
	if p["request"] == "" {
		return p, nil
	}
	return g.signedRequest(ctx, s.App, p, s.Rec)
}

// takePushed uses a pushed request up: once, and for its own client only.
func (g *Room) takePushed(ctx context.Context, app *partners.Application, handle string) (oidc.Parameters, error) {
	var rows []store.PushedRequest
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Raw("DELETE FROM pushed_requests WHERE handle = ? AND application_id = ? AND expires_at > ? RETURNING *", handle,
			app.ID, g.Now().UTC()).
			Scan(&rows).
			Error
	})
	if err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		return nil, explain.New(explain.OIDCPushedUnknown).Of(app.Name)
	}
	sealed, err := g.Store.Sealer.Open(store.PlacePushed, handle, rows[0].Sealed)
	if err != nil {
		return nil, err
	}
	return ground.DecodeBody[oidc.Parameters](string(sealed))
}

func (g *Room) signedRequest(
	ctx context.Context,
	app *partners.Application,
	p oidc.Parameters,
	rec *trace.Recorder,
) (oidc.Parameters, error) {
	set, err := g.partners.ClientKeys(ctx, app, false)
	if err != nil {
		return nil, explain.OfPartner(err, app.Name)
	}
	return oidc.ReadRequestObject(
		p["request"],
		oidc.ObjectRules{
			Partner:  app.Name,
			ClientID: app.OIDC.ClientID,
			Issuer:   g.partners.Issuer(),
			Keys:     set,
			Now:      g.Now(),
			Skew:     partners.Skew(app.OIDC.ClockSkewSeconds),
		},
		rec,
	)
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
	if wanted, ok := q.IDTokenClaims["sub"]; ok && len(wanted.Values) > 0 {
		w.Subject = &saml.NameID{Value: wanted.Values[0]}
	}
	if q.IDTokenHint == "" {
		return nil
	}
	subject, _, err := g.ReadHint(ctx, s.App, q.IDTokenHint)
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

// ReadHint reads an ID token of ours that comes back as a hint. It may be over (OpenID Connect RP-Initiated Logout 1.0,
// section 2); it must be ours, and this client's.
func (g *Room) ReadHint(ctx context.Context, app *partners.Application, hint string) (subject, session string, err error) {
	set, err := g.keyring.OurKeys(ctx)
	if err != nil {
		return "", "", err
	}
	parsed, err := jose.Parse(hint)
	if err != nil {
		return "", "", err
	}
	token, err := parsed.Verify(
		jose.Rules{Algorithms: []string{jose.RS256, jose.PS256, jose.ES256, jose.EdDSA}, Types: []string{jose.TypeID}, Keys: set},
	)
	if err != nil {
		return "", "", err
	}
	issuer, _ := token.Claims.Text("iss")
	audience, _ := token.Claims.Texts("aud")
	subject, _ = token.Claims.Text("sub")
	session, _ = token.Claims.Text("sid")
	if issuer != g.partners.Issuer() || subject == "" || token.Claims.Has("events") || !token.Claims.Has("exp") ||
		!slices.Contains(audience, app.OIDC.ClientID) {
		return "", "", fmt.Errorf("the token is not an ID token for this client")
	}
	return subject, session, nil
}
