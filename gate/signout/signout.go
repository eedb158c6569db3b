package signout

import (
	"context"
	"encoding/json"
	"errors"
	"net/url"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/core/address"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/gate/fetch"
	"innergate/gate/keyring"
	"innergate/gate/partners"
	"innergate/gate/sessions"
	"innergate/gate/signin"
	"innergate/store"
)

const (
	signOutLife = 10 * time.Minute
	// tellLimit bounds how long telling by the back channel may take, reachLimit how long a host is waited for before a
	// browser is sent there.
	tellLimit  = 5 * time.Second
	reachLimit = 3 * time.Second
)

// SignOut is a sign-out on its way. It is kept sealed between two steps in the browser.
type SignOut struct {
	ID        string `json:"-"`
	SessionID string `json:"session,omitempty"`
	// By is what began it, in words.
	By string `json:"by"`
	// Applications and Providers wait to be told by the browser; Asked is the one that is being asked now, by our
	// request AskedID.
	Applications []string `json:"applications,omitempty"`
	Providers    []string `json:"providers,omitempty"`
	Asked        string   `json:"asked,omitempty"`
	AskedID      string   `json:"askedId,omitempty"`
	Told         []string `json:"told,omitempty"`
	Untold       []string `json:"untold,omitempty"`
	// Wordless are those that can't be told at all: they have no address for it.
	Wordless []string `json:"wordless,omitempty"`
	Frames   []string `json:"frames,omitempty"`
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
	// Other is whose sign-in ended where it is not this browser's, Own who stays signed in here.
	Other string `json:"other,omitempty"`
	Own   string `json:"own,omitempty"`
	// Rehearsal is the one that this belongs to, if any.
	Rehearsal string    `json:"rehearsal,omitempty"`
	Began     time.Time `json:"began"`
	// Trace is where it is written down.
	Trace     string `json:"trace"`
	Reference string `json:"reference"`
	// Said is what was recorded so far, where it may be gone on with at another node.
	Said []byte `json:"said,omitempty"`
}

func addName(list []string, name string) []string {
	if !slices.Contains(list, name) {
		list = append(list, name)
	}
	return list
}

// SignOutOf ends a session and lays out who has to be told how. From is the application or provider that knows already,
// by ID.
func (g *Room) SignOutOf(
	ctx context.Context,
	s *signin.SignIn,
	h *sessions.HeldSession,
	o *SignOut,
	from string,
	towardsProvider bool,
) error {
	now := g.Now().UTC()
	o.SessionID, o.Began, o.Trace, o.Reference = h.ID, now, s.ID, s.Reference
	s.Person.ID, s.Person.Shown = h.PersonID, h.Person
	var uses []store.SessionUse
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := sessions.EndSession(tx, h.ID, "signed out: "+o.By, now); err != nil {
			return err
		}
		if err := sessions.Told(tx, h.ID, now); err != nil {
			return err
		}
		return tx.Where("session_id = ?", h.ID).Order("first_at").Find(&uses).Error
	})
	if err != nil {
		return err
	}
	s.Rec.Decide(trace.Decision{About: "session", Result: "ended", By: o.By})
	var left []store.SessionUse
	for _, u := range uses {
		if u.ApplicationID != from {
			left = append(left, u)
		}
	}
	told := g.tellUses(ctx, h, left, s.Rec)
	// Only in the session's own browser can the others be told by the browser.
	here := keys.SecretFits(h.TokenHash, s.Browser.Session)
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
			o.Wordless = addName(o.Wordless, t.app.Name)
		case t.how == toldByBrowser && here:
			o.Applications = append(o.Applications, t.app.ID)
		default:
			o.Untold = addName(o.Untold, t.app.Name)
		}
	}
	if !towardsProvider || !here {
		return nil
	}
	for id := range h.Body.Proofs {
		if id != from {
			o.Providers = append(o.Providers, id)
		}
	}
	slices.Sort(o.Providers)
	return nil
}

// OnwardOut takes a sign-out to its next step in the browser: an application, a provider, the answer to whoever asked,
// or the page at its end.
func (g *Room) OnwardOut(ctx context.Context, s *signin.SignIn, o *SignOut) (*signin.Next, error) {
	if len(o.Frames) > 0 {
		page := &signin.SignOut{
			Title:  "Signing out",
			Text:   "Applications are being told. One moment, please.",
			Frames: o.Frames,
			Onward: g.PublicURL + "/sign-out",
			Name:   "the next step",
		}
		o.Frames = nil
		next := &signin.Next{To: page}
		return next, g.keepOut(ctx, s, o, next)
	}
	for len(o.Applications) > 0 {
		id := o.Applications[0]
		o.Applications = o.Applications[1:]
		app, err := g.partners.ApplicationByID(ctx, id)
		if err != nil || app.SAML == nil {
			continue
		}
		next, err := g.askApplicationOut(ctx, s, o, app)
		if err != nil {
			s.Rec.Decide(trace.Decision{About: "logout", Result: app.Name + " could not be told", By: err.Error()})
			o.Untold = addName(o.Untold, app.Name)
			continue
		}
		return next, nil
	}
	for len(o.Providers) > 0 {
		id := o.Providers[0]
		o.Providers = o.Providers[1:]
		p, err := g.partners.ProviderByID(ctx, id)
		if err != nil {
			continue
		}
		next, err := g.askProviderOut(ctx, s, o, p)
		if err != nil {
			s.Rec.Decide(trace.Decision{About: "logout", Result: p.Name + " could not be asked", By: err.Error()})
			o.Untold = addName(o.Untold, p.Name)
			continue
		}
		if next != nil {
			return next, nil
		}
	}
	next, err := g.answerOut(ctx, s, o)
	if err != nil {
		return nil, err
	}
	next.DropSignOut, next.DropSession, next.DropRehearsal = o.ID, o.Here, o.Rehearsal != ""
	if o.ID != "" {
		err := g.Store.Write(ctx, func(tx *gorm.DB) error { return tx.Exec("DELETE FROM sign_outs WHERE id = ?", o.ID).Error })
		if err != nil {
			g.Log.ErrorContext(ctx, "a sign-out could not be ended", "error", err)
		}
	}
	g.signin.KeepTrace(ctx, s, "signed-out", "")
	return next, nil
}

// keepOut keeps a sign-out for its next step, bound to the browser.
func (g *Room) keepOut(ctx context.Context, s *signin.SignIn, o *SignOut, next *signin.Next) error {
	if o.ID == "" {
		o.ID, o.Secret = store.NewID(), keys.NewSecret()
	}
	var err error
	if o.Said, err = g.signin.Carried(s); err != nil {
		return err
	}
	plain, err := json.Marshal(o)
	if err != nil {
		return err
	}
	now := g.Now().UTC()
	row := store.SignOut{
		ID:          o.ID,
		BrowserHash: keys.HashSecret(o.Secret),
		Reference:   s.Reference,
		Sealed:      g.Store.Sealer.Seal(store.PlaceSignOut, o.ID, plain),
		CreatedAt:   o.Began,
		ExpiresAt:   now.Add(signOutLife),
	}
	next.SetSignOut, next.Secret, next.DropSession = o.ID, o.Secret, o.Here
	if err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		_, err := store.Exec(tx, "INSERT INTO sign_outs (id, browser_hash, reference, sealed, created_at, expires_at) VALUES (?, "+
			"?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET sealed = excluded.sealed, expires_at = excluded.expires_at",
			row.ID, row.BrowserHash, row.Reference, row.Sealed, row.CreatedAt, row.ExpiresAt)
		return err
	}); err != nil {
		return err
	}
	s.Known = true
	g.signin.KeepOpen(ctx, s)
	return nil
}

// resumeOut finds a sign-out that this browser has under way. A partner that loses RelayState is forgiven where the
// browser has only one.
func (g *Room) resumeOut(ctx context.Context, b signin.Browser, id string) (*signin.SignIn, *SignOut, error) {
	s := g.signin.Begin(b, "slo")
	if b.SignOuts[id] == "" && len(b.SignOuts) == 1 {
		for only := range b.SignOuts {
			id = only
		}
	}
	row, err := store.One[store.SignOut](g.Store.Read(ctx), "id = ?", id)
	if err != nil {
		return s, nil, err
	}
	if row.ID == "" || !g.Now().Before(row.ExpiresAt) || !keys.SecretFits(row.BrowserHash, b.SignOuts[id]) {
		return s, nil, explain.New(explain.LogoutLost)
	}
	plain, err := g.Store.Sealer.Open(store.PlaceSignOut, row.ID, row.Sealed)
	o := &SignOut{ID: row.ID}
	if err == nil {
		err = json.Unmarshal(plain, o)
	}
	if err != nil {
		return s, nil, err
	}
	s.ID, s.Reference, s.Began, s.Known = o.Trace, o.Reference, o.Began, true
	if o.Rehearsal != "" {
		s.Rehearsal = &store.Rehearsal{ID: o.Rehearsal}
	}
	s.Rec, s.State.Said = trace.NewRecorder(o.Began, g.Now), o.Said
	g.signin.Replay(ctx, s)
	s.Rec.Begin(trace.Receive)
	return s, o, nil
}

// askApplicationOut sends the browser to an application with a LogoutRequest (SAML Profiles, section 4.4.3.3).
func (g *Room) askApplicationOut(ctx context.Context, s *signin.SignIn, o *SignOut, app *partners.Application) (*signin.Next, error) {
	var use store.SessionUse
	if err := g.Store.Read(ctx).Where("session_id = ? AND application_id = ?", o.SessionID, app.ID).Take(&use).Error; err != nil {
		return nil, store.Clear(err)
	}
	who, err := sessions.NameIDOf(&use)
	if err != nil {
		return nil, err
	}
	endpoint := browserLogout(app.SAML.SLO)
	if err := g.reachable(ctx, endpoint.Location); err != nil {
		return nil, err
	}
	signer, err := g.keyring.Signer(ctx, app.Approval(), app.SAML.SignatureAlgorithm, app.SAML.DigestAlgorithm)
	if err != nil {
		return nil, err
	}
	l := saml.Logout{Issuer: g.partners.IDPEntity(app), EncryptNameID: logoutEncrypter(app)}
	next, err := g.logoutRequest(s, o, trace.Application, l, endpoint, who, []string{use.Index}, signer)
	if err != nil {
		return nil, err
	}
	o.Asked = app.ID
	return next, g.keepOut(ctx, s, o, next)
}

// askProviderOut sends the browser to a provider to sign out there as well, or returns nothing where it takes no such
// word.
func (g *Room) askProviderOut(ctx context.Context, s *signin.SignIn, o *SignOut, p *partners.Provider) (*signin.Next, error) {
	h, err := g.endedSession(ctx, o.SessionID)
	if err != nil || h == nil {
		return nil, err
	}
	who := h.Body.Proofs[p.ID].Identity
	switch {
	case p.SAML != nil && browserLogout(p.SAML.SLO) != nil && who.NameID != nil:
		endpoint := browserLogout(p.SAML.SLO)
		if err := g.reachable(ctx, endpoint.Location); err != nil {
			return nil, err
		}
		signer, err := g.keyring.Signer(ctx, p.Approval(), p.SAML.SignatureAlgorithm, p.SAML.DigestAlgorithm)
		if err != nil {
			return nil, err
		}
		var sessions []string
		if who.Session != "" {
			sessions = []string{who.Session}
		}
		l := saml.Logout{Issuer: g.partners.SPEntity(p)}
		next, err := g.logoutRequest(s, o, trace.Provider, l, endpoint, *who.NameID, sessions, signer)
		if err != nil {
			return nil, err
		}
		o.Asked = p.ID
		return next, g.keepOut(ctx, s, o, next)
	case p.SAML != nil && p.SAML.SignOutURL != "":
		return g.plainOut(ctx, s, o, p, p.SAML.SignOutURL)
	case p.OIDC != nil && p.OIDC.EndSessionEndpoint != "":
		if err := g.reachable(ctx, p.OIDC.EndSessionEndpoint); err != nil {
			return nil, err
		}
		next := &signin.Next{}
		if err := g.keepOut(ctx, s, o, next); err != nil {
			return nil, err
		}
		back := wayBack{To: g.PublicURL + "/sign-out", Name: "Inner Gate", Until: g.Now().Add(signOutLife)}
		location, err := g.endSessionAt(s, p, who.Hint, back)
		if err != nil {
			return nil, err
		}
		next.To = signin.Redirect(location)
		o.Asked, o.Told = p.ID, addName(o.Told, p.Name)
		return next, g.keepOut(ctx, s, o, next)
	case p.OIDC != nil && p.OIDC.SignOutURL != "":
		return g.plainOut(ctx, s, o, p, p.OIDC.SignOutURL)
	}
	return nil, nil
}

// plainOut ends the way at a provider's plain sign-out address, which sends nobody back. It is only taken where nobody
// waits for an answer.
func (g *Room) plainOut(ctx context.Context, s *signin.SignIn, o *SignOut, p *partners.Provider, address string) (*signin.Next, error) {
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

// reachable asks a host for a sign of life before a browser is sent there, so that one that is down holds nobody up.
// What the gate itself may not reach is left to the browser.
func (g *Room) reachable(ctx context.Context, addr string) error {
	_, err := g.Fetch.Do(ctx, fetch.Want{URL: address.Origin(addr) + "/", Head: true, Stay: true, AnyStatus: true, Timeout: reachLimit})
	if err == nil || strings.Contains(err.Error(), fetch.ErrPrivate.Error()) {
		return nil
	}
	return err
}

// logoutRequest makes the way to a partner with our LogoutRequest, and notes it in the trace.
func (g *Room) logoutRequest(
	s *signin.SignIn,
	o *SignOut,
	to trace.Party,
	l saml.Logout,
	endpoint *saml.Endpoint,
	who saml.NameID,
	sessions []string,
	signer signerOf,
) (*signin.Next, error) {
	if o.ID == "" {
		o.ID, o.Secret = store.NewID(), keys.NewSecret()
	}
	l.Destination, l.Now = endpoint.Location, g.Now()
	if endpoint.Binding == saml.BindingPost {
		l.Signer = signer
	}
	id, doc, err := l.Request(who, sessions)
	if err != nil {
		return nil, err
	}
	o.AskedID = id
	s.Rec.Message(trace.Message{
		From:       trace.Gate,
		To:         to,
		Name:       "LogoutRequest",
		Binding:    saml.BindingName(endpoint.Binding),
		Address:    endpoint.Location,
		Raw:        string(doc),
		RelayState: o.ID,
		Signature:  "signed",
	})
	return logoutWay(endpoint.Binding, endpoint.Location, saml.ParamRequest, doc, o.ID, signer)
}

// logoutWay sends a logout message by the browser.
func logoutWay(binding, location, param string, doc []byte, relay string, signer signerOf) (*signin.Next, error) {
	if binding == saml.BindingPost {
		f := &signin.Form{Action: location, Fields: [][2]string{{param, saml.EncodePost(doc)}}}
		if relay != "" {
			f.Fields = append(f.Fields, [2]string{"RelayState", relay})
		}
		return &signin.Next{To: f}, nil
	}
	redirect, err := saml.EncodeRedirect(location, param, doc, relay, signer)
	return &signin.Next{To: signin.Redirect(redirect)}, err
}

// answerOut is the end of a sign-out: the answer to whoever asked by a message, or the page or place for the person.
func (g *Room) answerOut(ctx context.Context, s *signin.SignIn, o *SignOut) (*signin.Next, error) {
	if o.Answer == "" {
		page := &signin.SignOut{
			Title:  "You are signed out",
			Text:   "Inner Gate has ended the sign-in.",
			Told:   o.Told,
			Untold: o.Untold,
			Onward: o.Back,
			Name:   o.BackName,

			Wordless: o.Wordless,
		}
		if o.Other != "" {
			page.Title, page.Text = "A sign-in elsewhere has ended", ""
			page.Other, page.Person = o.Other, o.Own
		}
		if len(o.Untold)+len(o.Wordless) > 0 && o.Other == "" {
			page.Title = "You are signed out, but not everywhere"
		}
		return &signin.Next{To: page}, nil
	}
	var list []saml.Endpoint
	var issuer saml.EntityID
	var algorithm, digest, name string
	var approval keyring.Approval
	to := trace.Application
	if app, err := g.partners.ApplicationByID(ctx, o.Answer); err == nil && app.SAML != nil {
		list, issuer, approval, name = app.SAML.SLO, g.partners.IDPEntity(app), app.Approval(), app.Name
		algorithm, digest = app.SAML.SignatureAlgorithm, app.SAML.DigestAlgorithm
	} else if p, err := g.partners.ProviderByID(ctx, o.Answer); err == nil && p.SAML != nil {
		list, issuer, approval, name, to = p.SAML.SLO, g.partners.SPEntity(p), p.Approval(), p.Name, trace.Provider
		algorithm, digest = p.SAML.SignatureAlgorithm, p.SAML.DigestAlgorithm
	} else {
		return &signin.Next{To: &signin.SignOut{Title: "You are signed out", Text: "Inner Gate has ended the sign-in.",
			Told: o.Told, Untold: o.Untold, Wordless: o.Wordless}}, nil
	}
	endpoint := saml.DefaultEndpoint(list, o.Binding)
	if endpoint == nil || endpoint.Binding != saml.BindingRedirect && endpoint.Binding != saml.BindingPost {
		if endpoint = browserLogout(list); endpoint == nil {
			return &signin.Next{
				To: &signin.SignOut{
					Title:  "You are signed out",
					Text:   "Inner Gate has ended the sign-in.",
					Told:   addName(o.Told, name),
					Untold: o.Untold,

					Wordless: o.Wordless,
				},
			}, nil
		}
	}
	location := endpoint.ResponseLocation
	if location == "" {
		location = endpoint.Location
	}
	signer, err := g.keyring.Signer(ctx, approval, algorithm, digest)
	if err != nil {
		return nil, err
	}
	l := saml.Logout{Issuer: issuer, Destination: location, Now: g.Now()}
	if endpoint.Binding == saml.BindingPost {
		l.Signer = signer
	}
	doc, err := l.Response(o.RequestID, o.partly(), partialWords(o))
	if err != nil {
		return nil, err
	}
	s.Rec.Begin(trace.Issue)
	s.Rec.Message(trace.Message{
		From:       trace.Gate,
		To:         to,
		Name:       "LogoutResponse",
		Binding:    saml.BindingName(endpoint.Binding),
		Address:    location,
		Raw:        string(doc),
		RelayState: o.Relay,
		Signature:  "signed",
	})
	return logoutWay(endpoint.Binding, location, saml.ParamResponse, doc, o.Relay, signer)
}

func partialWords(o *SignOut) string {
	var parts []string
	if len(o.Wordless) > 0 {
		parts = append(parts, "Not told, since they have no address for it: "+strings.Join(o.Wordless, ", "))
	}
	if len(o.Untold) > 0 {
		parts = append(parts, "No answer came of: "+strings.Join(o.Untold, ", "))
	}
	return strings.Join(parts, ". ")
}

// partly says whether somebody may still know the person.
func (o *SignOut) partly() bool { return len(o.Untold)+len(o.Wordless) > 0 }

// SignOutHere is the plain sign-out address. A sign-out that is under way goes on; else the person is asked, and,
// having agreed, signed out of everything in this browser's session.
func (g *Room) SignOutHere(ctx context.Context, b signin.Browser, agreed bool) *signin.Next {
	for id := range b.SignOuts {
		s, o, err := g.resumeOut(ctx, b, id)
		if err != nil {
			continue
		}
		// Whoever was asked and did not send the person back has not answered.
		if o.Asked != "" {
			if app, err := g.partners.ApplicationByID(ctx, o.Asked); err == nil {
				o.Untold = addName(o.Untold, app.Name)
			} else if p, err := g.partners.ProviderByID(ctx, o.Asked); err == nil && p.SAML != nil {
				o.Untold = addName(o.Untold, p.Name)
			}
			o.Asked, o.AskedID = "", ""
		}
		return g.signin.Walk(ctx, s, g.onward(o))
	}
	return g.signin.Walk(ctx, g.signin.Begin(b, "slo"), func(ctx context.Context, s *signin.SignIn) (*signin.Next, error) {
		return g.leave(ctx, s, agreed)
	})
}

// onward is OnwardOut as a phase.
func (g *Room) onward(o *SignOut) signin.Phase {
	return func(ctx context.Context, s *signin.SignIn) (*signin.Next, error) { return g.OnwardOut(ctx, s, o) }
}

// leave ends everything in the browser's session, once the person has agreed.
func (g *Room) leave(ctx context.Context, s *signin.SignIn, agreed bool) (*signin.Next, error) {
	b := s.Browser
	for id := range b.SignIns {
		s.Dropped = append(s.Dropped, id)
	}
	h, err := g.sessions.SessionByToken(ctx, b.Session)
	if err != nil {
		return nil, err
	}
	if h == nil {
		return &signin.Next{
			Cookies: signin.Cookies{DropSignIns: s.Dropped, DropSession: b.Session != ""},
			To: &signin.SignOut{
				Title: "You are signed out here",
				Text: "Inner Gate holds no session of this browser, and has forgotten every sign-in that it had begun. Your provider " +
					"may still know you: sign out there as well, or close the browser.",
			},
		}, nil
	}
	if !agreed {
		return &signin.Next{To: &signin.SignOut{Ask: true, Title: "Sign out?", Person: h.Person}}, nil
	}
	o := &SignOut{By: "the person, at the gate"}
	if err := g.SignOutOf(ctx, s, h, o, "", true); err != nil {
		return nil, err
	}
	next, err := g.OnwardOut(ctx, s, o)
	if err != nil {
		return nil, err
	}
	next.DropSignIns = append(next.DropSignIns, s.Dropped...)
	return next, nil
}

// endedSession reads a session whether it has ended or not.
func (g *Room) endedSession(ctx context.Context, id string) (*sessions.HeldSession, error) {
	var row store.Session
	if err := g.Store.Read(ctx).Where("id = ?", id).Limit(1).Find(&row).Error; err != nil || row.ID == "" {
		return nil, store.Clear(err)
	}
	plain, err := g.Store.Sealer.Open(store.PlaceSession, row.ID, row.Sealed)
	if err != nil {
		return nil, nil
	}
	h := &sessions.HeldSession{Session: row}
	return h, json.Unmarshal(plain, &h.Body)
}

// endSessionAt is a provider's end session endpoint with our request (OpenID Connect RP-Initiated Logout 1.0, section
// 2).
func (g *Room) endSessionAt(s *signin.SignIn, p *partners.Provider, hint string, back wayBack) (string, error) {
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
	s.Rec.Message(trace.Message{
		From:    trace.Gate,
		To:      trace.Provider,
		Name:    "Logout request",
		Binding: "query",
		Address: p.OIDC.EndSessionEndpoint,
		Raw:     shownQuery(query),
	})
	u.RawQuery = query.Encode()
	return u.String(), nil
}
