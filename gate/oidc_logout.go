package gate

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/url"
	"slices"
	"sync"
	"time"

	"gorm.io/gorm"

	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/oidc"
	"innergate/core/trace"
	"innergate/store"
)

// SignOut is what a browser that signs out is shown or sent to.
type SignOut struct {
	Title, Text string
	// Ask is set where the person has to say that they want to sign out.
	Ask bool
	// Frames are addresses of applications that are told by way of the browser (OpenID Connect Front-Channel Logout 1.0).
	Frames []string
	// Onward is where the person goes next, Name what that is.
	Onward, Name string
	Failure      *FailurePage
}

// EndSession is the end session endpoint (OpenID Connect RP-Initiated Logout 1.0, section 2). Without a valid hint the person is asked: anybody can send a browser
// here.
func (g *Gate) EndSession(ctx context.Context, b Browser, raw string, agreed bool) *SignOut {
	s := g.begin(b, "slo")
	s.rec.Message(trace.Message{From: trace.Application, To: trace.Gate, Name: "Logout request", Binding: "query", Address: g.PublicURL + "/oidc/logout", Raw: oidc.ShownParameters(raw)})
	out, err := g.endSession(ctx, s, raw, agreed)
	if err != nil {
		return &SignOut{Failure: g.failed(ctx, s, err).Failure}
	}
	if !out.Ask {
		g.keepTrace(ctx, s, "signed-out", "")
	}
	return out
}

func (g *Gate) endSession(ctx context.Context, s *signIn, raw string, agreed bool) (*SignOut, error) {
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
	out := &SignOut{Title: "You are signed out here"}
	session := ""
	if client != "" {
		app, err := g.applicationByClient(ctx, client)
		if isNotFound(err) {
			return nil, explain.New("oidc.client-unknown", explain.Fact("client ID", clipText(client, 200)))
		}
		if err != nil {
			return nil, err
		}
		s.app = app
		if p["id_token_hint"] != "" {
			_, session, err = g.readHint(ctx, app, p["id_token_hint"])
			s.rec.Check(trace.Check{Name: "oidc.hint", Text: "The hint is an ID token of ours for this client", Section: "RP-Initiated Logout 2", OK: err == nil})
		}
	}
	back, err := g.wayBack(s, p)
	if err != nil {
		return nil, err
	}
	if session == "" && !agreed {
		return &SignOut{Ask: true, Title: "Sign out?", Text: "Somebody asked the gate to sign you out."}, nil
	}
	out.Text = "Inner Gate has ended the sign-in."
	if back != "" {
		out.Onward, out.Name = back, s.app.Name
	}
	if session == "" {
		out.Text = "Inner Gate has forgotten what this browser had begun. It does not know which sign-in was meant, so the application may still know you."
		return out, nil
	}
	h, err := g.grantByID(ctx, session)
	if err != nil || h == nil || h.ApplicationID != s.app.id {
		return out, err
	}
	return out, g.endGrantOf(ctx, s, h, out)
}

// wayBack is where the application wants the person afterwards; only an address that is registered, to the last character.
func (g *Gate) wayBack(s *signIn, p oidc.Parameters) (string, error) {
	wanted := p["post_logout_redirect_uri"]
	if wanted == "" {
		return "", nil
	}
	if s.app == nil || !s.rec.Check(trace.Check{Name: "oidc.post-logout", Text: "The way back is registered", Section: "RP-Initiated Logout 3", Got: clipText(wanted, 500), OK: slices.Contains(s.app.OIDC.PostLogoutURIs, wanted)}) {
		f := explain.New("oidc.redirect-unregistered", explain.Pair("post_logout_redirect_uri", "none is registered", clipText(wanted, 500)))
		if s.app != nil {
			f.Of(s.app.Name)
			if near := oidc.NearestRedirectURI(s.app.OIDC.PostLogoutURIs, wanted); near != "" {
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

// endGrantOf ends a grant and every other one of the same session at the provider, tells the applications, and leads on to the provider's own sign-out.
func (g *Gate) endGrantOf(ctx context.Context, s *signIn, h *heldGrant, out *SignOut) error {
	now := g.Now().UTC()
	var others []store.Grant
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		if h.ProviderSession != "" {
			if err := tx.Where("provider_id = ? AND provider_session = ? AND id <> ? AND ended_at IS NULL AND NOT offline", h.ProviderID, h.ProviderSession, h.ID).Limit(200).Find(&others).Error; err != nil {
				return err
			}
		}
		for _, o := range others {
			if err := endGrant(tx, o.ID, "signed out at "+s.app.Name, now); err != nil {
				return err
			}
		}
		if h.Offline {
			// The person asked for access that outlives the session: only what was for the session goes.
			return tx.Where("grant_id = ? AND kind = 'access'", h.ID).Delete(&store.Token{}).Error
		}
		return endGrant(tx, h.ID, "the person signed out", now)
	})
	if err != nil {
		return err
	}
	g.tellApplications(others)
	for _, o := range append(others, h.Grant) {
		app, err := g.applicationByID(ctx, o.ApplicationID)
		if err != nil || app.OIDC == nil || app.OIDC.FrontChannelLogout == "" {
			continue
		}
		if u, err := url.Parse(app.OIDC.FrontChannelLogout); err == nil {
			query := u.Query()
			query.Set("iss", g.Issuer())
			query.Set("sid", o.ID)
			u.RawQuery = query.Encode()
			out.Frames = append(out.Frames, u.String())
		}
	}
	if h.provider == nil || h.provider.OIDC == nil {
		return nil
	}
	c := h.provider.OIDC
	switch {
	case c.EndSessionEndpoint != "":
		u, err := url.Parse(c.EndSessionEndpoint)
		if err != nil {
			return nil
		}
		query := u.Query()
		query.Set("client_id", c.ClientID)
		query.Set("post_logout_redirect_uri", g.SignedOutLocation(h.provider.Slug))
		if h.body.ProviderHint != "" {
			query.Set("id_token_hint", h.body.ProviderHint)
		}
		query.Set("state", g.sealWayBack(wayBack{To: out.Onward, Name: out.Name, Until: now.Add(15 * time.Minute)}))
		s.rec.Message(trace.Message{From: trace.Gate, To: trace.Provider, Name: "Logout request", Binding: "query", Address: c.EndSessionEndpoint, Raw: oidc.Redacted(query)})
		u.RawQuery = query.Encode()
		out.Onward, out.Name = u.String(), h.provider.Name
	case c.SignOutURL != "" && out.Onward == "":
		out.Onward, out.Name = c.SignOutURL, h.provider.Name
	}
	return nil
}

// SignedOutLocation is where a provider sends people back when they have signed out there.
func (g *Gate) SignedOutLocation(provider string) string {
	return g.CallbackLocation(provider) + "/signed-out"
}

// wayBack is carried through a provider's sign-out, sealed, so that nobody can make one up.
type wayBack struct {
	To, Name string
	Until    time.Time
}

func (g *Gate) sealWayBack(w wayBack) string {
	return base64.RawURLEncoding.EncodeToString(g.Store.Sealer.Seal("way-back", []byte(mustJSON(w))))
}

// SignedOut goes on when a provider has signed the person out.
func (g *Gate) SignedOut(state string) *SignOut {
	out := &SignOut{Title: "You are signed out", Text: "Inner Gate and your provider have ended the sign-in."}
	sealed, err := base64.RawURLEncoding.DecodeString(state)
	if err != nil || state == "" {
		return out
	}
	plain, err := g.Store.Sealer.Open("way-back", sealed)
	if err != nil {
		return out
	}
	var w wayBack
	if json.Unmarshal(plain, &w) == nil && g.Now().Before(w.Until) {
		out.Onward, out.Name = w.To, w.Name
	}
	return out
}

// tellApplications tells applications by the back channel that a sign-in has ended (OpenID Connect Back-Channel Logout 1.0, section 2.5). A slow one holds nobody up.
func (g *Gate) tellApplications(ended []store.Grant) {
	if len(ended) == 0 {
		return
	}
	go func() {
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		room := make(chan struct{}, 8)
		var all sync.WaitGroup
		for _, e := range ended {
			room <- struct{}{}
			all.Add(1)
			go func() {
				defer func() { <-room; all.Done() }()
				if err := g.tellApplication(ctx, e); err != nil {
					g.Log.WarnContext(ctx, "an application could not be told that a sign-in has ended", "error", err)
				}
			}()
		}
		all.Wait()
	}()
}

func (g *Gate) tellApplication(ctx context.Context, e store.Grant) error {
	app, err := g.applicationByID(ctx, e.ApplicationID)
	if err != nil || app.OIDC == nil || app.OIDC.BackChannelLogout == "" {
		return err
	}
	signer, err := g.tokenSigner(ctx, purposeOf(app.OIDC.Algorithm), "", app.OIDC.Algorithm)
	if err != nil {
		return err
	}
	token, err := signer.Sign(jose.TypeLogout, oidc.LogoutClaims(g.Issuer(), app.OIDC.ClientID, e.Subject, e.ID, g.Now()))
	if err != nil {
		return err
	}
	_, err = g.Fetch.Do(ctx, Want{URL: app.OIDC.BackChannelLogout, Post: []byte(url.Values{"logout_token": {token}}.Encode()), ContentType: "application/x-www-form-urlencoded", MaxBytes: 64 << 10, Timeout: 5 * time.Second})
	return err
}

const logoutEndpoint = "back-channel logout"

// ProviderLogout takes a provider's logout token (OpenID Connect Back-Channel Logout 1.0, section 2.5) and ends what it names.
func (g *Gate) ProviderLogout(ctx context.Context, slug, raw, from string) *OAuthAnswer {
	x := &exchange{name: logoutEndpoint, rec: trace.NewRecorder(g.Now(), g.Now), from: from}
	x.rec.Begin(trace.Receive)
	x.rec.Message(trace.Message{From: trace.Provider, To: trace.Gate, Name: "Logout token", Binding: "POST", Address: g.CallbackLocation(slug) + "/logout", Raw: oidc.ShownParameters(raw)})
	if err := g.providerLogout(ctx, x, slug, raw); err != nil {
		return g.refusedExchange(ctx, x, err)
	}
	return &OAuthAnswer{Status: http.StatusOK}
}

func (g *Gate) providerLogout(ctx context.Context, x *exchange, slug, raw string) error {
	form, err := oidc.ReadParameters(raw)
	if err != nil {
		return err
	}
	p, err := g.provider(ctx, slug)
	if isNotFound(err) || err == nil && p.OIDC == nil {
		return explain.New("oidc.logout-token", explain.Fact("provider", "there is no such OpenID provider"))
	}
	if err != nil {
		return err
	}
	c := p.OIDC
	set, _, err := g.keySet(ctx, c.KeysURL, false)
	if err != nil {
		return ofPartner(err, p.Name)
	}
	l, err := oidc.CheckLogoutToken(form["logout_token"], oidc.LogoutRules{Partner: p.Name, Issuers: c.Issuers(), ClientID: c.ClientID, Keys: set, Now: g.Now(), Skew: skew(c.ClockSkewSeconds)}, x.rec)
	if err != nil {
		return err
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		made := tx.Exec("INSERT INTO used_ids (issuer, value, expires_at) VALUES (?, ?, ?) ON CONFLICT DO NOTHING", "logout/"+p.id, l.Used.ID, l.Used.Until.UTC())
		if made.Error == nil && made.RowsAffected == 0 {
			return explain.New("oidc.logout-token", explain.Fact("token", "it was used before")).Of(p.Name)
		}
		return made.Error
	})
	if err != nil {
		return err
	}
	subject := ""
	if l.Subject != "" {
		subject = "sub\x1f" + l.Subject
		if l.Issuer != c.Issuer {
			subject = "sub\x1f" + l.Issuer + "\x1f" + l.Subject
		}
	}
	n, err := g.endProviderGrants(ctx, p, subject, l.SessionID, "signed out at "+p.Name)
	g.Log.InfoContext(ctx, "a provider signed somebody out", "provider", p.Name, "ended", n)
	return err
}
