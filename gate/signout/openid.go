package signout

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/url"
	"slices"
	"time"

	"gorm.io/gorm"

	"innergate/core/bridge"
	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/oidc"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/grants"
	"innergate/gate/ground"
	"innergate/gate/issued"
	"innergate/gate/partners"
	"innergate/gate/sessions"
	"innergate/gate/signin"
	"innergate/store"
)

// EndSession is the end session endpoint (OpenID Connect RP-Initiated Logout 1.0, section 2). Without a valid hint the
// person is asked: anybody can send a browser here.
func (g *Room) EndSession(ctx context.Context, b signin.Browser, raw string, agreed bool) *signin.Next {
	s := g.signin.Begin(b, "slo")
	s.Rec.Message(trace.Message{
		From:    trace.Application,
		To:      trace.Gate,
		Name:    "Logout request",
		Binding: "query",
		Address: g.PublicURL + "/oidc/logout",
		Raw:     oidc.ShownParameters(raw),
	})
	return g.signin.Walk(ctx, s, func(ctx context.Context, s *signin.SignIn) (*signin.Next, error) {
		return g.endSession(ctx, s, raw, agreed)
	})
}

func (g *Room) endSession(ctx context.Context, s *signin.SignIn, raw string, agreed bool) (*signin.Next, error) {
	p, err := oidc.ReadParameters(raw)
	if err != nil {
		return nil, err
	}
	client := p["client_id"]
	if client == "" && p["id_token_hint"] != "" {
		if parsed, err := jose.Parse(p["id_token_hint"]); err == nil {
			if audience, _ := parsed.Claims.Texts("aud"); len(audience) == 1 {
				client = audience[0]
			}
		}
	}
	grant := ""
	if client != "" {
		app, err := g.partners.ApplicationByClient(ctx, client)
		if ground.IsNotFound(err) {
			return nil, explain.New(explain.OIDCClientUnknown, explain.Fact("client ID", words.Clip(client, 200)))
		}
		if err != nil {
			return nil, err
		}
		s.App = app
		if p["id_token_hint"] != "" {
			_, grant, err = g.grants.ReadHint(ctx, app, p["id_token_hint"])
			s.Rec.Check(trace.Check{
				Name:    "oidc.hint",
				Text:    "The hint is an ID token of ours for this client",
				Section: "RP-Initiated Logout 2",
				OK:      err == nil,
			})
		}
	}
	back, err := g.wayBack(s, p)
	if err != nil {
		return nil, err
	}
	if grant == "" && !agreed {
		return &signin.Next{
			To: &signin.SignOut{Ask: true, Title: "Sign out?", Text: "Somebody asked the gate to sign you out.", Request: raw},
		}, nil
	}
	o := &SignOut{By: "the person", Back: back, Began: g.Now().UTC(), Trace: s.ID, Reference: s.Reference}
	if s.App != nil {
		o.By = s.App.Name
		if back != "" {
			o.BackName = s.App.Name
		}
	}
	if grant == "" {
		// The person agreed to end what this browser has here.
		h, err := g.sessions.SessionByToken(ctx, s.Browser.Session)
		if err != nil {
			return nil, err
		}
		if h != nil {
			if err := g.SignOutOf(ctx, s, h, o, "", s.App == nil || s.App.SignsOutAtProvider()); err != nil {
				return nil, err
			}
		}
		return g.OnwardOut(ctx, s, o)
	}
	return g.endGrantOf(ctx, s, grant, o)
}

// wayBack is where the application wants the person afterwards; only an address that is registered, to the last
// character.
func (g *Room) wayBack(s *signin.SignIn, p oidc.Parameters) (string, error) {
	wanted := p["post_logout_redirect_uri"]
	if wanted == "" {
		return "", nil
	}
	if s.App == nil ||
		!s.Rec.Check(trace.Check{
			Name:    "oidc.post-logout",
			Text:    "The way back is registered",
			Section: "RP-Initiated Logout 3",
			Got:     words.Clip(wanted, 500),
			OK:      slices.Contains(s.App.OIDC.PostLogoutURIs, wanted),
		}) {
		f := explain.New(
			explain.OIDCPostLogoutUnregistered,
			explain.Pair("post_logout_redirect_uri", "none is registered", words.Clip(wanted, 500)),
		)
		if s.App != nil {
			f.Of(s.App.Name)
			if near := oidc.NearestRedirectURI(s.App.OIDC.PostLogoutURIs, wanted); near != "" {
				f.Evidence[0].Expected = near
			}
		}
		return "", f
	}
	if p["state"] == "" {
		return wanted, nil
	}
	u, err := url.Parse(wanted)
	if err != nil {
		return "", err
	}
	query := "state=" + url.QueryEscape(p["state"])
	if u.RawQuery != "" {
		query = u.RawQuery + "&" + query
	}
	u.RawQuery = query
	return u.String(), nil
}

// endGrantOf ends the session that a grant belongs to, or, where it belongs to none, the grant and every other one of
// the same session at the provider.
func (g *Room) endGrantOf(ctx context.Context, s *signin.SignIn, id string, o *SignOut) (*signin.Next, error) {
	h, err := g.grants.GrantByID(ctx, id)
	if err != nil {
		return nil, err
	}
	if h == nil || h.ApplicationID != s.App.ID {
		return g.OnwardOut(ctx, s, o)
	}
	session, err := g.sessionOfGrant(ctx, id)
	if err != nil {
		return nil, err
	}
	if session != nil {
		if err := g.tellOfOther(ctx, s, session, o); err != nil {
			return nil, err
		}
		if err := g.OutOf(ctx, s, session, o); err != nil {
			return nil, err
		}
	}
	now := g.Now().UTC()
	var others []store.Grant
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		if h.ProviderSession != "" && session == nil {
			if err := tx.Where("provider_id = ? AND provider_session = ? AND provider_session <> '' AND id <> ? AND ended_at IS NULL AND "+
				"NOT offline", h.ProviderID, h.ProviderSession, h.ID).Limit(200).Find(&others).Error; err != nil {
				return err
			}
		}
		for _, other := range others {
			if err := issued.EndGrant(tx, other.ID, "signed out at "+s.App.Name, now); err != nil {
				return err
			}
		}
		if h.Offline {
			// The person asked for access that outlives the session: only what was for the session goes.
			return issued.DeleteAccess(tx, h.ID)
		}
		return issued.EndGrant(tx, h.ID, "the person signed out", now)
	})
	if err != nil {
		return nil, err
	}
	g.tellApplications(others)
	if session != nil {
		return g.OnwardOut(ctx, s, o)
	}
	for _, e := range append(others, h.Grant) {
		if app, err := g.partners.ApplicationByID(ctx, e.ApplicationID); err == nil && app.OIDC != nil &&
			app.OIDC.FrontChannelLogout != "" {
			o.Frames = append(o.Frames, frontChannel(app.OIDC.FrontChannelLogout, g.partners.Issuer(), e.ID))
		}
	}
	p := h.Provider
	switch {
	case p == nil || p.OIDC == nil || !s.App.SignsOutAtProvider():
	case p.OIDC.EndSessionEndpoint != "":
		to := wayBack{To: o.Back, Name: o.BackName, Until: now.Add(15 * time.Minute)}
		location, err := g.endSessionAt(s, p, h.Body.ProviderHint, to)
		if err != nil {
			return nil, err
		}
		o.Back, o.BackName = location, p.Name
	case p.OIDC.SignOutURL != "" && o.Back == "":
		o.Back, o.BackName = p.OIDC.SignOutURL, p.Name
	}
	return g.OnwardOut(ctx, s, o)
}

// tellOfOther notes whose session ends where it is another one than this browser's, so that nobody takes it for their own.
func (g *Room) tellOfOther(ctx context.Context, s *signin.SignIn, ends *sessions.HeldSession, o *SignOut) error {
	own, err := g.sessions.SessionByToken(ctx, s.Browser.Session)
	if err != nil || own == nil || own.ID == ends.ID {
		return err
	}
	o.Other, o.Own = words.OrNone(ends.Person), own.Person
	s.Rec.Decide(trace.Decision{About: "session", Result: "another one than this browser's", By: "the hint is an ID token of it; the " +
		"session of this browser goes on"})
	return nil
}

// sessionOfGrant is the session that a grant belongs to, if it still counts.
func (g *Room) sessionOfGrant(ctx context.Context, id string) (*sessions.HeldSession, error) {
	var row store.Grant
	if err := g.Store.Read(ctx).Select("session_id").Where("id = ?", id).Limit(1).Find(&row).Error; err != nil || row.SessionID == "" {
		return nil, store.Clear(err)
	}
	return g.sessions.SessionByID(ctx, row.SessionID)
}

func shownQuery(q url.Values) string { return oidc.Redacted(q) }

// SignedOutLocation is where a provider sends people back when they have signed out there.
func (g *Room) SignedOutLocation(provider string) string {
	return g.CallbackLocation(provider) + "/signed-out"
}

// wayBack is carried through a provider's sign-out, sealed, so that nobody can make one up.
type wayBack struct {
	To, Name string
	Until    time.Time
}

func (g *Room) sealWayBack(w wayBack) string {
	return base64.RawURLEncoding.EncodeToString(g.Store.Sealer.Seal(store.PlaceWayBack, "", []byte(ground.MustJSON(w))))
}

// SignedOut goes on when a provider has signed the person out.
func (g *Room) SignedOut(state string) *signin.SignOut {
	out := &signin.SignOut{Title: "You are signed out", Text: "Inner Gate and your provider have ended the sign-in."}
	sealed, err := base64.RawURLEncoding.DecodeString(state)
	if err != nil || state == "" {
		return out
	}
	plain, err := g.Store.Sealer.Open(store.PlaceWayBack, "", sealed)
	if err != nil {
		return out
	}
	var w wayBack
	if json.Unmarshal(plain, &w) == nil && g.Now().Before(w.Until) {
		out.Onward, out.Name = w.To, w.Name
	}
	return out
}

// ProviderLogout takes a provider's logout token (OpenID Connect Back-Channel Logout 1.0, section 2.5) and ends what it
// names.
func (g *Room) ProviderLogout(ctx context.Context, slug, raw, from string) *grants.OAuthAnswer {
	x := &grants.Exchange{Name: grants.LogoutEndpoint, Rec: trace.NewRecorder(g.Now(), g.Now), From: from}
	x.Rec.Begin(trace.Receive)
	x.Rec.Message(trace.Message{
		From:    trace.Provider,
		To:      trace.Gate,
		Name:    "Logout token",
		Binding: "POST",
		Address: g.CallbackLocation(slug) + "/logout",
		Raw:     oidc.ShownParameters(raw),
	})
	if err := g.providerLogout(ctx, x, slug, raw); err != nil {
		return g.grants.RefusedExchange(ctx, x, err)
	}
	return &grants.OAuthAnswer{Status: http.StatusOK}
}

func (g *Room) providerLogout(ctx context.Context, x *grants.Exchange, slug, raw string) error {
	form, err := oidc.ReadParameters(raw)
	if err != nil {
		return err
	}
	p, err := g.partners.Provider(ctx, slug)
	if ground.IsNotFound(err) || err == nil && p.OIDC == nil {
		return explain.New(explain.OIDCLogoutToken, explain.Fact("provider", "there is no such OpenID provider"))
	}
	if err != nil {
		return err
	}
	c := p.OIDC
	set, _, err := g.partners.KeySet(ctx, c.KeysURL, false)
	if err != nil {
		return explain.OfPartner(err, p.Name)
	}
	l, err := oidc.CheckLogoutToken(
		form["logout_token"],
		oidc.LogoutRules{
			Partner:  p.Name,
			Issuers:  c.Issuers(),
			ClientID: c.ClientID,
			Keys:     set,
			Now:      g.Now(),
			Skew:     partners.Skew(c.ClockSkewSeconds),
		},
		x.Rec,
	)
	if err != nil {
		return err
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		fresh, err := ground.UseOnce(tx, "logout/"+p.ID, l.Used.ID, l.Used.Until)
		if err == nil && !fresh {
			return explain.New(explain.OIDCLogoutToken, explain.Fact("token", "it was used before")).Of(p.Name)
		}
		return err
	})
	if err != nil {
		return err
	}
	subject := ""
	if l.Subject != "" {
		if subject, err = bridge.OpenIDLink(c.Issuer, l.Issuer, "", l.Subject); err != nil {
			return explain.New(explain.OIDCLogoutToken, explain.Fact("token", err.Error())).Of(p.Name)
		}
	}
	n, err := g.endProviderGrants(ctx, p, subject, l.SessionID, "signed out at "+p.Name)
	g.Log.InfoContext(ctx, "a provider signed somebody out", "provider", p.Name, "ended", n)
	return err
}
