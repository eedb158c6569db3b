package gate

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/keys"
	"innergate/core/oidc"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/store"
)

// oidcApplication answers applications that speak OpenID Connect: we are the OpenID provider.
type oidcApplication struct{ *Gate }

const (
	codeLife   = time.Minute
	pushedLife = 90 * time.Second
)

// AskOIDC takes an application's authentication request. How tells in which form it came.
func (g *Gate) AskOIDC(ctx context.Context, b Browser, raw, how string) *Next {
	s := g.begin(b, "sp")
	s.rec.Message(trace.Message{From: trace.Application, To: trace.Gate, Name: "Authentication request", Binding: how, Address: g.PublicURL + "/oidc/authorize", Raw: oidc.ShownParameters(raw)})
	if err := g.askOIDC(ctx, s, raw); err != nil {
		return g.failed(ctx, s, err)
	}
	return g.route(ctx, s, "")
}

// AskOIDCPosted goes on with a request that was posted.
func (g *Gate) AskOIDCPosted(ctx context.Context, b Browser, handle string) *Next {
	kept, err := g.takeArrival(ctx, handle, "authorize")
	if err != nil {
		return g.failed(ctx, g.begin(b, "sp"), err)
	}
	return g.AskOIDC(ctx, b, string(kept.Value), "form")
}

func (g *Gate) askOIDC(ctx context.Context, s *signIn, raw string) error {
	p, err := oidc.ReadParameters(raw)
	if err != nil {
		return err
	}
	app, err := g.applicationByClient(ctx, p["client_id"])
	if isNotFound(err) {
		app, err = g.rehearsedAs(ctx, s.browser, err, func(a *application) bool { return a.OIDC != nil && a.OIDC.ClientID == p["client_id"] })
	}
	if isNotFound(err) {
		return explain.New("oidc.client-unknown", explain.Fact("client ID", clipText(p["client_id"], 200)))
	}
	if err != nil {
		return err
	}
	s.app = app
	if err := g.joinRehearsal(ctx, s); err != nil {
		return err
	}
	app = s.app
	outside := p
	if p, err = g.request(ctx, s, p); err != nil {
		// What is wrong with a request object can be told where the parameters beside it name a registered address.
		if oidc.MatchRedirectURI(app.OIDC.RedirectURIs, outside["redirect_uri"], app.OIDC.Native) {
			s.state.Asked = &oidc.Request{ClientID: app.OIDC.ClientID, RedirectURI: outside["redirect_uri"], State: clipText(outside["state"], 8<<10)}
		}
		return err
	}
	q, err := oidc.ReadRequest(p, registered(app), s.rec)
	s.state.Asked = q
	if err != nil {
		return err
	}
	s.row.ApplicationID, s.row.RequestID = app.id, "oidc:"+s.id
	return g.wishOf(ctx, s, q)
}

func registered(app *application) oidc.Registered {
	o := app.OIDC
	return oidc.Registered{Partner: app.Name, ClientID: o.ClientID, RedirectURIs: o.RedirectURIs, Native: o.Native, RequirePKCE: !o.WithoutPKCE, Scopes: o.Scopes}
}

// request finds the parameters that count: those beside the client ID, those that were pushed beforehand, or those that the client has signed.
func (g *Gate) request(ctx context.Context, s *signIn, p oidc.Parameters) (oidc.Parameters, error) {
	if handle, ok := strings.CutPrefix(p["request_uri"], oidc.RequestURI); ok {
		pushed, err := g.takePushed(ctx, s.app, handle)
		if err != nil {
			return nil, err
		}
		s.rec.Decide(trace.Decision{About: "request", Result: "the pushed one", By: "request_uri; parameters beside it do not count"})
		return pushed, nil
	}
	if p["request"] == "" {
		return p, nil
	}
	return g.signedRequest(ctx, s.app, p, s.rec)
}

func (g *Gate) signedRequest(ctx context.Context, app *application, p oidc.Parameters, rec *trace.Recorder) (oidc.Parameters, error) {
	set, err := g.clientKeys(ctx, app, false)
	if err != nil {
		return nil, ofPartner(err, app.Name)
	}
	return oidc.ReadRequestObject(p["request"], oidc.ObjectRules{Partner: app.Name, ClientID: app.OIDC.ClientID, Issuer: g.Issuer(), Keys: set, Now: g.Now(), Skew: skew(app.OIDC.ClockSkewSeconds)}, rec)
}

// takePushed uses a pushed request up: once, and for its own client only.
func (g *Gate) takePushed(ctx context.Context, app *application, handle string) (oidc.Parameters, error) {
	var rows []store.PushedRequest
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Raw("DELETE FROM pushed_requests WHERE handle = ? AND application_id = ? AND expires_at > ? RETURNING *", handle, app.id, g.Now().UTC()).Scan(&rows).Error
	})
	if err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		return nil, explain.New("oidc.pushed-unknown").Of(app.Name)
	}
	sealed, err := g.Store.Sealer.Open("pushed/"+handle, rows[0].Sealed)
	if err != nil {
		return nil, err
	}
	return decodeBody[oidc.Parameters](string(sealed))
}

// wishOf puts what the application wants into words that no protocol owns.
func (g *Gate) wishOf(ctx context.Context, s *signIn, q *oidc.Request) error {
	w := &s.state.Wish
	*w = wish{Fresh: q.Fresh, Passive: q.Passive, Choose: q.Choose, MaxAge: q.MaxAge, LoginHint: q.LoginHint, Locales: q.UILocales}
	if q.MaxAge != nil && *q.MaxAge == 0 {
		w.Fresh = true
	}
	if w.Passive && w.Fresh {
		// Nobody can sign in anew without being asked.
		return explain.New("route.no-passive").Of(s.app.Name)
	}
	w.Context, w.Preferred = contextOf(q.ACRValues), true
	if wanted, ok := q.IDTokenClaims["acr"]; ok && len(wanted.Values) > 0 {
		w.Context, w.Preferred = contextOf(wanted.Values), !wanted.Essential
	}
	if wanted, ok := q.IDTokenClaims["sub"]; ok && len(wanted.Values) > 0 {
		w.Subject = &saml.NameID{Value: wanted.Values[0]}
	}
	if q.IDTokenHint == "" {
		return nil
	}
	subject, _, err := g.readHint(ctx, s.app, q.IDTokenHint)
	if err != nil {
		return explain.New("oidc.parameter-wrong", explain.Fact("parameter", "id_token_hint is not an ID token of ours for this client")).Of(s.app.Name)
	}
	if w.Subject != nil && w.Subject.Value != subject {
		return explain.New("oidc.parameter-wrong", explain.Fact("parameter", "id_token_hint and claims name different subjects")).Of(s.app.Name)
	}
	w.Subject = &saml.NameID{Value: subject}
	return nil
}

// readHint reads an ID token of ours that comes back as a hint. It may be over (OpenID Connect RP-Initiated Logout 1.0, section 2); it must be ours, and this
// client's.
func (g *Gate) readHint(ctx context.Context, app *application, hint string) (subject, session string, err error) {
	set, err := g.ourKeys(ctx)
	if err != nil {
		return "", "", err
	}
	parsed, err := jose.Parse(hint)
	if err != nil {
		return "", "", err
	}
	token, err := parsed.Verify(jose.Rules{Algorithms: []string{jose.RS256, jose.PS256, jose.ES256, jose.EdDSA}, Types: []string{jose.TypeID}, Keys: set})
	if err != nil {
		return "", "", err
	}
	issuer, _ := token.Claims.Text("iss")
	audience, _ := token.Claims.Texts("aud")
	subject, _ = token.Claims.Text("sub")
	session, _ = token.Claims.Text("sid")
	if issuer != g.Issuer() || subject == "" || token.Claims.Has("events") || !token.Claims.Has("exp") || !slices.Contains(audience, app.OIDC.ClientID) {
		return "", "", fmt.Errorf("the token is not an ID token for this client")
	}
	return subject, session, nil
}

func (g oidcApplication) start(_ context.Context, s *signIn, to string) (*Next, error) {
	if s.app.OIDC.InitiateLogin != "" {
		// OpenID Connect Core 1.0, section 4
		u, err := url.Parse(s.app.OIDC.InitiateLogin)
		if err != nil {
			return nil, err
		}
		query := u.Query()
		query.Set("iss", g.Issuer())
		if to != "" {
			if origin(to) != origin(s.app.OIDC.InitiateLogin) {
				return nil, explain.New("relay.refused", explain.Fact("deep link", to))
			}
			query.Set("target_link_uri", to)
		}
		u.RawQuery = query.Encode()
		return &Next{Redirect: u.String()}, nil
	}
	if s.app.StartURL == "" {
		return nil, explain.New("start.sp-only")
	}
	return &Next{Redirect: s.app.StartURL}, nil
}

// reply sends an answer to the redirect URI, in the form that was asked for.
func (g oidcApplication) reply(s *signIn, r oidc.Reply) (*Next, error) {
	q := s.state.Asked
	r.Issuer = g.Issuer()
	binding := "query"
	if q.FormPost {
		binding = "form_post"
	}
	shown := url.Values{}
	for _, f := range r.Fields(q) {
		shown.Set(f[0], f[1])
	}
	s.rec.Message(trace.Message{From: trace.Gate, To: trace.Application, Name: "Authentication response", Binding: binding, Address: q.RedirectURI, Raw: oidc.Redacted(shown), RelayState: q.State})
	if q.FormPost {
		return &Next{Form: &Form{Action: q.RedirectURI, Fields: r.Fields(q)}}, nil
	}
	location, err := r.Location(q)
	return &Next{Redirect: location}, err
}

func (g oidcApplication) refuse(_ context.Context, s *signIn, f *explain.Failure) *Next {
	e := f.Explain()
	if s.state.Asked == nil || s.rec.Step() == trace.Ask && e.OAuth == "" {
		return nil
	}
	if s.state.Asked.RedirectURI == "" {
		return nil // for another device, or for the console
	}
	next, err := g.reply(s, oidc.Reply{Error: e.OAuthCode(), Description: e.Person + " (reference " + s.reference + ")"})
	if err != nil {
		return nil
	}
	return next
}

// issue gives a code out, behind which stands what the tokens will say.
func (g oidcApplication) issue(ctx context.Context, s *signIn, who identity, subject saml.NameID, out []claims.Output) (*Next, error) {
	q, now := s.state.Asked, g.Now().UTC()
	o := s.app.OIDC
	body := grantBody{Subject: subject.Value, TraceID: s.id, ProviderSession: who.Session, Scopes: q.Scopes, RedirectURI: q.RedirectURI, Challenge: q.Challenge, Nonce: q.Nonce, AuthTime: who.AuthnInstant, ACR: who.Context, AMR: who.AMR, Shown: s.person.shown,
		IDTokenClaims: wantedNames(q.IDTokenClaims), UserInfoClaims: wantedNames(q.UserInfoClaims), ProviderHint: who.Hint}
	if s.person.id == "" {
		body.Profile = s.outbound() // of a rehearsal, which makes nobody, or of somebody who is passed through
	}
	body.Session = s.person.session
	if s.app.id == consoleID {
		body.Came = s.person.came
	}
	grant := &store.Grant{ID: store.NewID(), ApplicationID: s.app.id, ProviderID: s.provider.id, ProviderSubject: who.Subject, ProviderSession: who.Session, PersonID: s.person.id, Subject: subject.Value, TraceID: s.id, Rehearsal: s.rehearsal != nil, CreatedAt: now}
	grant.ExpiresAt = now.Add(hours(o.SessionHours, 12))
	if end := s.sessionEnd(who, now); !end.IsZero() && end.Before(grant.ExpiresAt) {
		grant.ExpiresAt = end.UTC()
	}
	grant.SessionID = s.sessionID
	if slices.Contains(q.Scopes, "offline_access") {
		grant.Offline, grant.ExpiresAt = true, now.Add(hours(24*o.OfflineDays, 24*60))
	}
	sealed, err := g.sealGrant(grant.ID, body)
	if err != nil {
		return nil, err
	}
	grant.Sealed = sealed
	code := keys.NewSecret()
	if len(s.state.Device) == 0 && !s.state.Console {
		grant.CodeHash, grant.CodeEnds = keys.HashSecret(code), now.Add(codeLife)
	}
	next := &Next{Redirect: g.PublicURL + "/console/"}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		if s.state.Console {
			var err error
			if next.Console, err = g.openConsole(tx, s, grant, now); err != nil {
				return err
			}
		}
		if err := keepConsent(tx, s, g.Gate); err != nil {
			return err
		}
		if err := g.grantDevice(tx, s, grant); err != nil {
			return err
		}
		return insertGrant(tx, grant)
	})
	if err != nil {
		return nil, err
	}
	if s.state.Console {
		return next, nil
	}
	if len(s.state.Device) > 0 {
		return &Next{Done: "You are signed in on your device. You may close this page."}, nil
	}
	return g.reply(s, oidc.Reply{Code: code})
}

func hours(set, usual int) time.Duration {
	if set == 0 {
		set = usual
	}
	return time.Duration(set) * time.Hour
}

func wantedNames(wanted map[string]oidc.Wanted) []string {
	var out []string
	for name := range wanted {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}
