package gate

import (
	"context"
	"encoding/json"
	"errors"
	"net/url"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/store"
)

const (
	signOutLife = 10 * time.Minute
	// tellLimit bounds how long telling by the back channel may take, reachLimit how long a host is waited for before a browser is sent there.
	tellLimit  = 5 * time.Second
	reachLimit = 3 * time.Second
)

// SignOut is what a browser that signs out is shown.
type SignOut struct {
	Title, Text string
	Person      string // who is signed in, where they are asked
	// Ask is set where the person has to say that they want to sign out; Request is what came, to be agreed to.
	Ask     bool
	Request string
	// Told and Untold are the applications that know that the sign-in has ended, and those that may not.
	Told, Untold []string
	// Frames are addresses of applications that are told by way of the browser (OpenID Connect Front-Channel Logout 1.0).
	Frames []string
	// Onward is where the person goes next, Name what that is.
	Onward, Name string
}

// signOut is a sign-out on its way. It is kept sealed between two steps in the browser.
type signOut struct {
	ID        string `json:"-"`
	SessionID string `json:"session,omitempty"`
	// By is what began it, in words.
	By string `json:"by"`
	// Applications and Providers wait to be told by the browser; Asked is the one that is being asked now, by our request AskedID.
	Applications []string `json:"applications,omitempty"`
	Providers    []string `json:"providers,omitempty"`
	Asked        string   `json:"asked,omitempty"`
	AskedID      string   `json:"askedId,omitempty"`
	Told         []string `json:"told,omitempty"`
	Untold       []string `json:"untold,omitempty"`
	Frames       []string `json:"frames,omitempty"`
	// Whoever asked for it by a SAML message gets an answer in the end: an application or a provider, by its ID.
	Answer    string `json:"answer,omitempty"`
	RequestID string `json:"requestId,omitempty"`
	Relay     string `json:"relay,omitempty"`
	Binding   string `json:"binding,omitempty"`
	// Back is where the person wants to be afterwards.
	Back     string `json:"back,omitempty"`
	BackName string `json:"backName,omitempty"`
	Secret   string `json:"secret"`
	// Here is set where the session that ended is this browser's own.
	Here bool `json:"here,omitempty"`
	// Rehearsal is the one that this belongs to, if any.
	Rehearsal string    `json:"rehearsal,omitempty"`
	Began     time.Time `json:"began"`
	// Trace is where it is written down.
	Trace     string `json:"trace"`
	Reference string `json:"reference"`
}

func addName(list []string, name string) []string {
	if !slices.Contains(list, name) {
		list = append(list, name)
	}
	return list
}

// signOutOf ends a session and lays out who has to be told how. From is the application or provider that knows already, by ID.
func (g *Gate) signOutOf(ctx context.Context, s *signIn, h *heldSession, o *signOut, from string, towardsProvider bool) error {
	now := g.Now().UTC()
	o.SessionID, o.Began, o.Trace, o.Reference = h.ID, now, s.id, s.reference
	s.person.id, s.person.shown = h.PersonID, h.Person
	var uses []store.SessionUse
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := endSession(tx, h.ID, "signed out: "+o.By, now); err != nil {
			return err
		}
		if err := tx.Exec("UPDATE sessions SET told_at = ? WHERE id = ?", now, h.ID).Error; err != nil {
			return err
		}
		return tx.Where("session_id = ?", h.ID).Order("first_at").Find(&uses).Error
	})
	if err != nil {
		return err
	}
	s.rec.Decide(trace.Decision{About: "session", Result: "ended", By: o.By})
	var left []store.SessionUse
	for _, u := range uses {
		if u.ApplicationID != from {
			left = append(left, u)
		}
	}
	told := g.tellUses(ctx, h, left, s.rec)
	// Only in the session's own browser can the others be told by the browser.
	here := keys.SecretFits(h.TokenHash, s.browser.Session)
	o.Here = o.Here || here
	here = here || o.Rehearsal != "" && o.Rehearsal == h.RehearsalID
	for _, t := range told {
		framed := here && t.frame != ""
		if framed {
			o.Frames = append(o.Frames, t.frame)
		}
		switch {
		case t.how == toldWell, framed:
			o.Told = addName(o.Told, t.app.Name)
		case t.how == toldNothing:
			o.Untold = addName(o.Untold, t.app.Name)
		case t.how == toldByBrowser && here:
			o.Applications = append(o.Applications, t.app.id)
		default:
			o.Untold = addName(o.Untold, t.app.Name)
		}
	}
	if !towardsProvider || !here {
		return nil
	}
	for id := range h.body.Proofs {
		if id != from {
			o.Providers = append(o.Providers, id)
		}
	}
	slices.Sort(o.Providers)
	return nil
}

// onwardOut takes a sign-out to its next step in the browser: an application, a provider, the answer to whoever asked, or the page at its end.
func (g *Gate) onwardOut(ctx context.Context, s *signIn, o *signOut) *Next {
	if len(o.Frames) > 0 {
		page := &SignOut{Title: "Signing out", Text: "Applications are being told. One moment, please.", Frames: o.Frames, Onward: g.PublicURL + "/sign-out", Name: "the next step"}
		o.Frames = nil
		next := &Next{SignedOut: page}
		if err := g.keepOut(ctx, s, o, next); err != nil {
			return g.failed(ctx, s, err)
		}
		return next
	}
	for len(o.Applications) > 0 {
		id := o.Applications[0]
		o.Applications = o.Applications[1:]
		app, err := g.applicationByID(ctx, id)
		if err != nil || app.SAML == nil {
			continue
		}
		next, err := g.askApplicationOut(ctx, s, o, app)
		if err != nil {
			s.rec.Decide(trace.Decision{About: "logout", Result: app.Name + " could not be told", By: err.Error()})
			o.Untold = addName(o.Untold, app.Name)
			continue
		}
		return next
	}
	for len(o.Providers) > 0 {
		id := o.Providers[0]
		o.Providers = o.Providers[1:]
		p, err := g.providerByID(ctx, id)
		if err != nil {
			continue
		}
		next, err := g.askProviderOut(ctx, s, o, p)
		if err != nil {
			s.rec.Decide(trace.Decision{About: "logout", Result: p.Name + " could not be asked", By: err.Error()})
			o.Untold = addName(o.Untold, p.Name)
			continue
		}
		if next != nil {
			return next
		}
	}
	next, err := g.answerOut(ctx, s, o)
	if err != nil {
		return g.failed(ctx, s, err)
	}
	next.DropSignOut, next.DropSession, next.DropRehearsal = o.ID, o.Here, o.Rehearsal != ""
	if o.ID != "" {
		err := g.Store.Write(ctx, func(tx *gorm.DB) error { return tx.Exec("DELETE FROM sign_outs WHERE id = ?", o.ID).Error })
		if err != nil {
			g.Log.ErrorContext(ctx, "a sign-out could not be ended", "error", err)
		}
	}
	g.keepTrace(ctx, s, "signed-out", "")
	return next
}

// keepOut keeps a sign-out for its next step, bound to the browser.
func (g *Gate) keepOut(ctx context.Context, s *signIn, o *signOut, next *Next) error {
	if o.ID == "" {
		o.ID, o.Secret = store.NewID(), keys.NewSecret()
	}
	plain, err := json.Marshal(o)
	if err != nil {
		return err
	}
	now := g.Now().UTC()
	record, err := g.traceRow(s, "open", "")
	if err != nil {
		return err
	}
	row := store.SignOut{ID: o.ID, BrowserHash: keys.HashSecret(o.Secret), Reference: s.reference, Sealed: g.Store.Sealer.Seal("sign-out/"+o.ID, plain), CreatedAt: o.Began, ExpiresAt: now.Add(signOutLife)}
	next.SetSignOut, next.Secret, next.DropSession = o.ID, o.Secret, o.Here
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		if _, err := store.Exec(tx, "INSERT INTO sign_outs (id, browser_hash, reference, sealed, created_at, expires_at) VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET sealed = excluded.sealed, expires_at = excluded.expires_at",
			row.ID, row.BrowserHash, row.Reference, row.Sealed, row.CreatedAt, row.ExpiresAt); err != nil {
			return err
		}
		if err := tx.Save(record).Error; err != nil {
			return err
		}
		s.known = true
		return nil
	})
}

// resumeOut finds a sign-out that this browser has under way. A partner that loses RelayState is forgiven where the browser has only one.
func (g *Gate) resumeOut(ctx context.Context, b Browser, id string) (*signIn, *signOut, error) {
	s := g.begin(b, "slo")
	if b.SignOuts[id] == "" && len(b.SignOuts) == 1 {
		for only := range b.SignOuts {
			id = only
		}
	}
	var row store.SignOut
	if err := g.Store.Read(ctx).Where("id = ?", id).Limit(1).Find(&row).Error; err != nil {
		return s, nil, store.Clear(err)
	}
	if row.ID == "" || !g.Now().Before(row.ExpiresAt) || !keys.SecretFits(row.BrowserHash, b.SignOuts[id]) {
		return s, nil, explain.New("logout.lost")
	}
	plain, err := g.Store.Sealer.Open("sign-out/"+row.ID, row.Sealed)
	o := &signOut{ID: row.ID}
	if err == nil {
		err = json.Unmarshal(plain, o)
	}
	if err != nil {
		return s, nil, err
	}
	s.id, s.reference, s.began, s.known = o.Trace, o.Reference, o.Began, true
	if o.Rehearsal != "" {
		s.rehearsal = &store.Rehearsal{ID: o.Rehearsal}
	}
	s.rec = trace.NewRecorder(o.Began, g.Now)
	g.replay(ctx, s)
	s.rec.Begin(trace.Receive)
	return s, o, nil
}

// askApplicationOut sends the browser to an application with a LogoutRequest (SAML Profiles, section 4.4.3.3).
func (g *Gate) askApplicationOut(ctx context.Context, s *signIn, o *signOut, app *application) (*Next, error) {
	var use store.SessionUse
	if err := g.Store.Read(ctx).Where("session_id = ? AND application_id = ?", o.SessionID, app.id).Take(&use).Error; err != nil {
		return nil, store.Clear(err)
	}
	who, err := nameIDOf(&use)
	if err != nil {
		return nil, err
	}
	endpoint := browserLogout(app.SAML.SLO)
	if err := g.reachable(ctx, endpoint.Location); err != nil {
		return nil, err
	}
	signer, err := g.signer(ctx, app.id, app.SAML.SignatureAlgorithm, app.SAML.DigestAlgorithm)
	if err != nil {
		return nil, err
	}
	next, err := g.logoutRequest(s, o, trace.Application, g.idpEntity(app), endpoint, who, []string{use.Index}, signer)
	if err != nil {
		return nil, err
	}
	o.Asked = app.id
	return next, g.keepOut(ctx, s, o, next)
}

// askProviderOut sends the browser to a provider to sign out there as well, or returns nothing where it takes no such word.
func (g *Gate) askProviderOut(ctx context.Context, s *signIn, o *signOut, p *provider) (*Next, error) {
	h, err := g.endedSession(ctx, o.SessionID)
	if err != nil || h == nil {
		return nil, err
	}
	who := h.body.Proofs[p.id].Identity
	switch {
	case p.SAML != nil && browserLogout(p.SAML.SLO) != nil && who.NameID != nil:
		endpoint := browserLogout(p.SAML.SLO)
		if err := g.reachable(ctx, endpoint.Location); err != nil {
			return nil, err
		}
		signer, err := g.signer(ctx, p.id, p.SAML.SignatureAlgorithm, p.SAML.DigestAlgorithm)
		if err != nil {
			return nil, err
		}
		var sessions []string
		if who.Session != "" {
			sessions = []string{who.Session}
		}
		next, err := g.logoutRequest(s, o, trace.Provider, g.spEntity(p), endpoint, *who.NameID, sessions, signer)
		if err != nil {
			return nil, err
		}
		o.Asked = p.id
		return next, g.keepOut(ctx, s, o, next)
	case p.SAML != nil && p.SAML.SignOutURL != "":
		return g.plainOut(ctx, s, o, p, p.SAML.SignOutURL)
	case p.OIDC != nil && p.OIDC.EndSessionEndpoint != "":
		if err := g.reachable(ctx, p.OIDC.EndSessionEndpoint); err != nil {
			return nil, err
		}
		next := &Next{}
		if err := g.keepOut(ctx, s, o, next); err != nil {
			return nil, err
		}
		if next.Redirect, err = g.endSessionAt(s, p, who.Hint, wayBack{To: g.PublicURL + "/sign-out", Name: "Inner Gate", Until: g.Now().Add(signOutLife)}); err != nil {
			return nil, err
		}
		o.Asked, o.Told = p.id, addName(o.Told, p.Name)
		return next, g.keepOut(ctx, s, o, next)
	case p.OIDC != nil && p.OIDC.SignOutURL != "":
		return g.plainOut(ctx, s, o, p, p.OIDC.SignOutURL)
	}
	return nil, nil
}

// plainOut ends the way at a provider's plain sign-out address, which sends nobody back. It is only taken where nobody waits for an answer.
func (g *Gate) plainOut(ctx context.Context, s *signIn, o *signOut, p *provider, address string) (*Next, error) {
	if o.Answer != "" || o.Back != "" || len(o.Providers) > 0 {
		return nil, errors.New("its plain sign-out address sends nobody back, and somebody waits for an answer")
	}
	o.Back, o.BackName = address, p.Name
	return nil, nil
}

// browserLogout is the address at which a partner takes logout messages from a browser.
func browserLogout(list []saml.Endpoint) *saml.Endpoint {
	for _, b := range []string{saml.BindingRedirect, saml.BindingPost} {
		if e := saml.DefaultEndpoint(list, b); e != nil && e.Binding == b {
			return e
		}
	}
	return nil
}

func soapLogout(list []saml.Endpoint) *saml.Endpoint {
	for i := range list {
		if list[i].Binding == saml.BindingSOAP {
			return &list[i]
		}
	}
	return nil
}

// reachable asks a host for a sign of life before a browser is sent there, so that one that is down holds nobody up. What the gate itself may not reach is left to the browser.
func (g *Gate) reachable(ctx context.Context, address string) error {
	_, err := g.Fetch.Do(ctx, Want{URL: origin(address) + "/", Head: true, Stay: true, AnyStatus: true, Timeout: reachLimit})
	if err == nil || strings.Contains(err.Error(), errPrivate.Error()) {
		return nil
	}
	return err
}

// logoutRequest makes the way to a partner with our LogoutRequest, and notes it in the trace.
func (g *Gate) logoutRequest(s *signIn, o *signOut, to trace.Party, issuer saml.EntityID, endpoint *saml.Endpoint, who saml.NameID, sessions []string, signer signerOf) (*Next, error) {
	if o.ID == "" {
		o.ID, o.Secret = store.NewID(), keys.NewSecret()
	}
	l := saml.Logout{Issuer: issuer, Destination: endpoint.Location, Now: g.Now()}
	if endpoint.Binding == saml.BindingPost {
		l.Signer = signer
	}
	id, doc, err := l.Request(who, sessions)
	if err != nil {
		return nil, err
	}
	o.AskedID = id
	s.rec.Message(trace.Message{From: trace.Gate, To: to, Name: "LogoutRequest", Binding: saml.BindingName(endpoint.Binding), Address: endpoint.Location, Raw: string(doc), RelayState: o.ID, Signature: "signed"})
	return logoutWay(endpoint.Binding, endpoint.Location, saml.ParamRequest, doc, o.ID, signer)
}

// logoutWay sends a logout message by the browser.
func logoutWay(binding, location, param string, doc []byte, relay string, signer signerOf) (*Next, error) {
	if binding == saml.BindingPost {
		f := &Form{Action: location, Fields: [][2]string{{param, saml.EncodePost(doc)}}}
		if relay != "" {
			f.Fields = append(f.Fields, [2]string{"RelayState", relay})
		}
		return &Next{Form: f}, nil
	}
	redirect, err := saml.EncodeRedirect(location, param, doc, relay, signer)
	return &Next{Redirect: redirect}, err
}

// answerOut is the end of a sign-out: the answer to whoever asked by a message, or the page or place for the person.
func (g *Gate) answerOut(ctx context.Context, s *signIn, o *signOut) (*Next, error) {
	if o.Answer == "" {
		page := &SignOut{Title: "You are signed out", Text: "Inner Gate has ended the sign-in.", Told: o.Told, Untold: o.Untold, Onward: o.Back, Name: o.BackName}
		if len(o.Untold) > 0 {
			page.Title = "You are signed out, but not everywhere"
		}
		return &Next{SignedOut: page}, nil
	}
	var list []saml.Endpoint
	var issuer saml.EntityID
	var owner, algorithm, digest, name string
	to := trace.Application
	if app, err := g.applicationByID(ctx, o.Answer); err == nil && app.SAML != nil {
		list, issuer, owner, algorithm, digest, name = app.SAML.SLO, g.idpEntity(app), app.id, app.SAML.SignatureAlgorithm, app.SAML.DigestAlgorithm, app.Name
	} else if p, err := g.providerByID(ctx, o.Answer); err == nil && p.SAML != nil {
		list, issuer, owner, algorithm, digest, name, to = p.SAML.SLO, g.spEntity(p), p.id, p.SAML.SignatureAlgorithm, p.SAML.DigestAlgorithm, p.Name, trace.Provider
	} else {
		return &Next{SignedOut: &SignOut{Title: "You are signed out", Text: "Inner Gate has ended the sign-in.", Told: o.Told, Untold: o.Untold}}, nil
	}
	endpoint := saml.DefaultEndpoint(list, o.Binding)
	if endpoint == nil || endpoint.Binding != saml.BindingRedirect && endpoint.Binding != saml.BindingPost {
		if endpoint = browserLogout(list); endpoint == nil {
			return &Next{SignedOut: &SignOut{Title: "You are signed out", Text: "Inner Gate has ended the sign-in.", Told: addName(o.Told, name), Untold: o.Untold}}, nil
		}
	}
	location := endpoint.ResponseLocation
	if location == "" {
		location = endpoint.Location
	}
	signer, err := g.signer(ctx, owner, algorithm, digest)
	if err != nil {
		return nil, err
	}
	l := saml.Logout{Issuer: issuer, Destination: location, Now: g.Now()}
	if endpoint.Binding == saml.BindingPost {
		l.Signer = signer
	}
	doc, err := l.Response(o.RequestID, len(o.Untold) > 0, partialWords(o))
	if err != nil {
		return nil, err
	}
	s.rec.Begin(trace.Issue)
	s.rec.Message(trace.Message{From: trace.Gate, To: to, Name: "LogoutResponse", Binding: saml.BindingName(endpoint.Binding), Address: location, Raw: string(doc), RelayState: o.Relay, Signature: "signed"})
	return logoutWay(endpoint.Binding, location, saml.ParamResponse, doc, o.Relay, signer)
}

func partialWords(o *signOut) string {
	if len(o.Untold) == 0 {
		return ""
	}
	return "Not told, or no answer came: " + strings.Join(o.Untold, ", ")
}

// SignOutHere is the plain sign-out address. A sign-out that is under way goes on; else the person is asked, and, having agreed, signed out of everything in this
// browser's session.
func (g *Gate) SignOutHere(ctx context.Context, b Browser, agreed bool) *Next {
	for id := range b.SignOuts {
		s, o, err := g.resumeOut(ctx, b, id)
		if err != nil {
			continue
		}
		// Whoever was asked and did not send the person back has not answered.
		if o.Asked != "" {
			if app, err := g.applicationByID(ctx, o.Asked); err == nil {
				o.Untold = addName(o.Untold, app.Name)
			} else if p, err := g.providerByID(ctx, o.Asked); err == nil && p.SAML != nil {
				o.Untold = addName(o.Untold, p.Name)
			}
			o.Asked, o.AskedID = "", ""
		}
		return g.onwardOut(ctx, s, o)
	}
	s := g.begin(b, "slo")
	for id := range b.SignIns {
		s.dropped = append(s.dropped, id)
	}
	h, err := g.sessionByToken(ctx, b.Session)
	if err != nil {
		return g.failed(ctx, s, err)
	}
	if h == nil {
		return &Next{DropSignIns: s.dropped, DropSession: b.Session != "", SignedOut: &SignOut{Title: "You are signed out here", Text: "Inner Gate holds no session of this browser, and has forgotten every sign-in that it had begun. Your provider may still know you: sign out there as well, or close the browser."}}
	}
	if !agreed {
		return &Next{SignedOut: &SignOut{Ask: true, Title: "Sign out?", Person: h.Person}}
	}
	o := &signOut{By: "the person, at the gate"}
	if err := g.signOutOf(ctx, s, h, o, "", true); err != nil {
		return g.failed(ctx, s, err)
	}
	next := g.onwardOut(ctx, s, o)
	next.DropSignIns = append(next.DropSignIns, s.dropped...)
	return next
}

// endedSession reads a session whether it has ended or not.
func (g *Gate) endedSession(ctx context.Context, id string) (*heldSession, error) {
	var row store.Session
	if err := g.Store.Read(ctx).Where("id = ?", id).Limit(1).Find(&row).Error; err != nil || row.ID == "" {
		return nil, store.Clear(err)
	}
	plain, err := g.Store.Sealer.Open("session/"+row.ID, row.Sealed)
	if err != nil {
		return nil, nil
	}
	h := &heldSession{Session: row}
	return h, json.Unmarshal(plain, &h.body)
}

// signsOutAtProvider says whether a sign-out at this application goes on to the provider.
func (a *application) signsOutAtProvider() bool {
	return a.SignOut == "" || a.SignOut == config.SignOutProvider
}

// endSessionAt is a provider's end session endpoint with our request (OpenID Connect RP-Initiated Logout 1.0, section 2).
func (g *Gate) endSessionAt(s *signIn, p *provider, hint string, back wayBack) (string, error) {
	u, err := url.Parse(p.OIDC.EndSessionEndpoint)
	if err != nil {
		return "", err
	}
	query := u.Query()
	query.Set("client_id", p.OIDC.ClientID)
	query.Set("post_logout_redirect_uri", g.SignedOutLocation(p.Slug))
	if hint != "" {
		query.Set("id_token_hint", hint)
	}
	query.Set("state", g.sealWayBack(back))
	s.rec.Message(trace.Message{From: trace.Gate, To: trace.Provider, Name: "Logout request", Binding: "query", Address: p.OIDC.EndSessionEndpoint, Raw: shownQuery(query)})
	u.RawQuery = query.Encode()
	return u.String(), nil
}
