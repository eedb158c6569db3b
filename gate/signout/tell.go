package signout

import (
	"context"
	"net/url"
	"sync"
	"time"

	"gorm.io/gorm"

	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/oidc"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/core/xmlsig"
	"innergate/gate/fetch"
	"innergate/gate/ground"
	"innergate/gate/keyring"
	"innergate/gate/partners"
	"innergate/gate/sessions"
	"innergate/store"
)

// TellAlways tells applications of sessions that have ended, at once where somebody says so, and every few seconds in
// case another process did.
func (g *Room) TellAlways(ctx context.Context) {
	tick := time.NewTicker(3 * time.Second)
	defer tick.Stop()
	for {
		if err := g.TellEnded(ctx); err != nil && ctx.Err() == nil {
			g.Log.ErrorContext(ctx, "applications could not be told of sessions that have ended", "error", err)
		}
		select {
		case <-g.sessions.Telling:
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}

type signerOf = *xmlsig.Signer

// How an application was told that a session has ended.
const (
	toldWell      = "told"
	toldFailed    = "failed"
	toldByBrowser = "browser" // it can be told by the browser only
	toldNothing   = "nothing" // it takes no word
)

// telling is one application that is told.
type telling struct {
	app    *partners.Application
	use    store.SessionUse
	grants []store.Grant
	how    string
	frame  string // an address for the browser, of one that is told so
	reason string
	rec    *trace.Recorder
}

// tellUses tells applications by the back channel that a session has ended, all at once and within a bound, and says of
// the others how they can be told.
func (g *Room) tellUses(ctx context.Context, h *sessions.HeldSession, uses []store.SessionUse, rec *trace.Recorder) []*telling {
	var list []*telling
	for _, u := range uses {
		app, err := g.partners.ApplicationByID(ctx, u.ApplicationID)
		if err != nil {
			continue
		}
		t := &telling{app: app, use: u, how: toldNothing, rec: trace.NewRecorder(g.Now(), g.Now)}
		if err := g.Store.Read(ctx).Where("session_id = ? AND session_id <> '' AND +application_id = ? AND NOT offline", h.ID,
			app.ID).Order("id DESC").Limit(20).Find(&t.grants).Error; err != nil {
			g.Log.ErrorContext(ctx, "the grants of a session could not be read", "error", err)
		}
		list = append(list, t)
	}
	limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), tellLimit)
	defer cancel()
	room := make(chan struct{}, 8)
	var all sync.WaitGroup
	for _, t := range list {
		all.Go(func() {
			room <- struct{}{}
			defer func() { <-room }()
			// The look at the configuration that comes with the context belongs to one goroutine.
			g.tellOne(ground.OneLook(limited), t)
		})
	}
	all.Wait()
	now := g.Now().UTC()
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		for _, t := range list {
			if err := sessions.ToldUse(tx, t.use.SessionID, t.use.ApplicationID, t.how); err != nil {
				return err
			}
		}
		return sessions.Told(tx, h.ID, now)
	})
	if err != nil {
		g.Log.ErrorContext(ctx, "who was told of a sign-out could not be written down", "error", err)
	}
	for _, t := range list {
		for _, e := range t.rec.Entries() {
			if e.Message != nil {
				rec.Message(*e.Message)
			}
		}
		words := map[string]string{toldWell: t.app.Name + " was told", toldFailed: t.app.Name + " could not be told",
			toldByBrowser: t.app.Name + " is told by the browser", toldNothing: t.app.Name + " takes no word of it"}[t.how]
		rec.Decide(trace.Decision{About: "logout", Result: words, By: t.reason})
	}
	return list
}

// tellOne tells one application by the back channel, if it has one.
func (g *Room) tellOne(ctx context.Context, t *telling) {
	a := t.app
	if a.OIDC != nil && a.OIDC.FrontChannelLogout != "" && len(t.grants) > 0 {
		t.frame = frontChannel(a.OIDC.FrontChannelLogout, g.partners.Issuer(), t.grants[0].ID)
	}
	switch {
	case a.Guarded != nil:
		t.how, t.reason = toldWell, "the gate stands in front of it"
	case a.SAML != nil && soapLogout(a.SAML.SLO) != nil:
		t.how, t.reason = toldWell, "SOAP"
		if err := g.tellBySOAP(ctx, t); err != nil {
			t.how, t.reason = toldFailed, err.Error()
			if browserLogout(a.SAML.SLO) != nil {
				t.how = toldByBrowser
			}
		}
	case a.SAML != nil && browserLogout(a.SAML.SLO) != nil:
		t.how, t.reason = toldByBrowser, "it has no address for the back channel"
	case a.OIDC != nil && a.OIDC.BackChannelLogout != "":
		t.how, t.reason = toldWell, "back channel"
		for _, e := range t.grants {
			if err := g.tellApplication(ctx, e); err != nil {
				t.how, t.reason = toldFailed, err.Error()
			}
		}
	case a.OIDC != nil && a.OIDC.FrontChannelLogout != "":
		t.how, t.reason = toldByBrowser, "front channel"
	}
}

func frontChannel(address, issuer, session string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	query := u.Query()
	query.Set("iss", issuer)
	query.Set("sid", session)
	u.RawQuery = query.Encode()
	return u.String()
}

// tellBySOAP sends an application a LogoutRequest by the back channel and checks its answer (SAML Profiles, section
// 4.4.3).
func (g *Room) tellBySOAP(ctx context.Context, t *telling) error {
	a := t.app
	endpoint := soapLogout(a.SAML.SLO)
	who, err := sessions.NameIDOf(&t.use)
	if err != nil {
		return err
	}
	signer, err := g.keyring.Signer(ctx, a.Approval(), a.SAML.SignatureAlgorithm, a.SAML.DigestAlgorithm)
	if err != nil {
		return err
	}
	id, doc, err := saml.Logout{
		Issuer:      g.partners.IDPEntity(a),
		Destination: endpoint.Location,
		Now:         g.Now(),
		Signer:      signer,
		SOAP:        true,

		EncryptNameID: logoutEncrypter(a),
	}.Request(
		who,
		[]string{t.use.Index},
	)
	if err != nil {
		return err
	}
	t.rec.Message(trace.Message{
		From:      trace.Gate,
		To:        trace.Application,
		Name:      "LogoutRequest",
		Binding:   "SOAP",
		Address:   endpoint.Location,
		Raw:       string(doc),
		Signature: "signed",
	})
	got, err := g.Fetch.Do(
		ctx,
		fetch.Want{
			URL:         endpoint.Location,
			Post:        doc,
			ContentType: "text/xml; charset=utf-8",
			MaxBytes:    saml.MaxMessage,
			Timeout:     tellLimit,
			Header:      map[string]string{"SOAPAction": `"http://www.oasis-open.org/committees/security"`, "Accept": "text/xml"},
		},
	)
	if err != nil {
		return err
	}
	t.rec.Message(trace.Message{
		From:    trace.Application,
		To:      trace.Gate,
		Name:    "LogoutResponse",
		Binding: "SOAP",
		Address: endpoint.Location,
		Raw:     string(got.Body),
	})
	in, err := saml.OpenLogoutResponse(&saml.Received{Binding: saml.BindingSOAP, XML: got.Body, Location: ""})
	if err != nil {
		return err
	}
	done, _, err := in.Check(id, g.logoutRulesOf(a, ""), t.rec)
	if err == nil && !done {
		err = explain.New(explain.LogoutRefused).Of(a.Name)
	}
	return err
}

// logoutEncrypter encrypts identifiers in our LogoutRequests to an application that gets none in the clear.
func logoutEncrypter(app *partners.Application) *xmlsig.Encrypter {
	if app.SAML.Encrypt == "" {
		return nil
	}
	return app.SAML.Encrypter()
}

// logoutRulesOf is what an application's logout messages are held against.
func (g *Room) logoutRulesOf(app *partners.Application, location string) saml.RequestRules {
	a := app.SAML
	return saml.RequestRules{
		Partner: app.Name, Issuer: saml.EntityID(a.EntityID), Location: location, MaxAge: 10 * time.Minute,
		Skew: partners.Skew(a.ClockSkewSeconds), Now: g.Now(),
		Trust: app.Trust(), UnsignedLogout: a.UnsignedLogout,
	}
}

// logoutRulesOfProvider is the same for a provider's.
func (g *Room) logoutRulesOfProvider(p *partners.Provider, location string) saml.RequestRules {
	c := p.SAML
	return saml.RequestRules{
		Partner: p.Name, Issuer: saml.EntityID(c.EntityID), Location: location, MaxAge: 10 * time.Minute,
		Skew: partners.Skew(c.ClockSkewSeconds), Now: g.Now(),
		Trust: p.Trust(), UnsignedLogout: c.UnsignedLogout,
	}
}

// tellApplication tells an application by the back channel that one grant has ended (OpenID Connect Back-Channel Logout
// 1.0, section 2.5).
func (g *Room) tellApplication(ctx context.Context, e store.Grant) error {
	app, err := g.partners.ApplicationByID(ctx, e.ApplicationID)
	if err != nil || app.OIDC == nil || app.OIDC.BackChannelLogout == "" {
		return err
	}
	signer, err := g.keyring.TokenSigner(ctx, app.Approval(), keyring.PurposeOf(app.OIDC.Algorithm), app.OIDC.Algorithm)
	if err != nil {
		return err
	}
	token, err := signer.Sign(jose.TypeLogout, oidc.LogoutClaims(g.partners.Issuer(), app.OIDC.ClientID, e.Subject, e.ID, g.Now()))
	if err != nil {
		return err
	}
	_, err = g.Fetch.Do(
		ctx,
		fetch.Want{
			URL:         app.OIDC.BackChannelLogout,
			Post:        []byte(url.Values{"logout_token": {token}}.Encode()),
			ContentType: "application/x-www-form-urlencoded",
			MaxBytes:    64 << 10,
			Timeout:     tellLimit,
		},
	)
	return err
}

// tellApplications tells of grants that belong to no session. A slow one holds nobody up.
func (g *Room) tellApplications(ended []store.Grant) {
	if len(ended) == 0 {
		return
	}
	go func() {
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		for _, e := range ended {
			if err := g.tellApplication(ctx, e); err != nil {
				g.Log.WarnContext(ctx, "an application could not be told that a sign-in has ended", "error", err)
			}
		}
	}()
}

// TellEnded tells the applications of sessions that have ended without their browser: by an administrator, a provider,
// or because the person was deactivated. A process that stops in between leaves the rest to the next one.
func (g *Room) TellEnded(ctx context.Context) error {
	now := g.Now().UTC()
	var rows []store.Session
	err := g.Store.Read(ctx).
		Where("ended_at > ? AND (told_at IS NULL OR told_at < ? AND EXISTS (SELECT 1 FROM session_uses u WHERE u.session_id = "+
			"sessions.id AND u.told = ''))", now.Add(-time.Hour), now.Add(-time.Minute)).
		Order("ended_at").
		Limit(50).
		Find(&rows).
		Error
	if err != nil {
		return store.Clear(err)
	}
	for _, row := range rows {
		var mine int64
		err := g.Store.Write(ctx, func(tx *gorm.DB) error {
			var err error
			mine, err = sessions.TakeTelling(tx, row.ID, now)
			return err
		})
		if err != nil || mine == 0 {
			return err
		}
		var uses []store.SessionUse
		if err := g.Store.Read(ctx).Where("session_id = ? AND told = ''", row.ID).Find(&uses).Error; err != nil {
			return store.Clear(err)
		}
		for _, t := range g.tellUses(ctx, &sessions.HeldSession{Session: row}, uses, nil) {
			if t.how == toldFailed {
				g.Log.WarnContext(
					ctx, "an application could not be told that a session has ended", "application", t.app.Name,
					"reason", t.reason,
				)
			}
		}
	}
	return nil
}
