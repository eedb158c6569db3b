package gate

import (
	"context"
	"encoding/json"
	"net/url"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/store"
)

// GuardPath begins the paths that the guard keeps for itself at a guarded application's host.
const GuardPath = "/.gate/"

const ticketLife = time.Minute

// guardedApplication is an application that the gate stands in front of.
type guardedApplication struct{ *Gate }

// guardBody is what is kept sealed of somebody at a guarded application.
type guardBody struct {
	PersonID   string     `json:"personId,omitempty"`
	Shown      string     `json:"shown"`
	Subject    string     `json:"subject"`
	ProviderID string     `json:"providerId"`
	Came       claims.Bag `json:"came,omitempty"`
	Values     claims.Bag `json:"values,omitempty"`  // of the profile, for the session only
	Profile    claims.Bag `json:"profile,omitempty"` // of somebody who is not stored
	Groups     []string   `json:"groups,omitempty"`
	Kind       string     `json:"kind,omitempty"`
	Roles      []string   `json:"roles,omitempty"`
	AuthTime   time.Time  `json:"authTime,omitzero"`
	ACR        string     `json:"acr,omitempty"`
	Two        bool       `json:"two,omitempty"`
	Rehearsal  bool       `json:"rehearsal,omitempty"`
}

// start begins at the application's own host, which brings the person back to where they wanted to be.
func (g guardedApplication) start(_ context.Context, s *signIn, to string) (*Next, error) {
	if to == "" {
		to = s.app.Guarded.PublicURL + "/"
		if origin(s.app.StartURL) == origin(s.app.Guarded.PublicURL) {
			to = s.app.StartURL
		}
	}
	if !guardedPlace(s.app, to) {
		return nil, explain.New("relay.refused", explain.Fact("deep link", to))
	}
	return &Next{Redirect: to}, nil
}

// guardedPlace says whether an address lies in the application.
func guardedPlace(a *application, to string) bool {
	u, err := url.Parse(to)
	return err == nil && len(to) <= 4000 && u.User == nil && origin(to) == origin(a.Guarded.PublicURL) && !strings.ContainsAny(to, "\\\r\n\t ")
}

// EnterGuarded begins a sign-in for somebody whom the guard of an application sent here. Bind is the hash of what their browser keeps at the application's host.
func (g *Gate) EnterGuarded(ctx context.Context, b Browser, slug, to string, bind []byte) *Next {
	s := g.begin(b, "sp")
	app, err := g.application(ctx, slug)
	switch {
	case isNotFound(err) || err == nil && app.Guarded == nil:
		return g.failed(ctx, s, explain.New("saml.application-unknown", explain.Fact("short name", slug)))
	case err != nil:
		return g.failed(ctx, s, err)
	}
	s.app = app
	if !guardedPlace(app, to) || len(bind) != 32 {
		return g.failed(ctx, s, explain.New("relay.refused", explain.Fact("deep link", clipText(to, 500))))
	}
	s.rec.Message(trace.Message{From: trace.Application, To: trace.Gate, Name: "Visit", Binding: "GET", Address: to})
	s.state.To, s.state.Bind = to, bind
	s.row.ApplicationID, s.row.RequestID = app.id, "guard:"+s.id
	return g.route(ctx, s, "")
}

func (g guardedApplication) issue(ctx context.Context, s *signIn, who identity, subject saml.NameID, _ []claims.Output) (*Next, error) {
	now := g.Now().UTC()
	body := guardBody{PersonID: s.person.id, Shown: s.person.shown, Subject: subject.Value, ProviderID: s.provider.id, Came: s.person.came, Values: s.person.session, Groups: s.person.groups, Kind: s.person.kind, Roles: s.person.roles,
		AuthTime: who.AuthnInstant, ACR: who.Context, Two: g.twoFactor(s, who), Rehearsal: s.rehearsal != nil}
	if s.person.id == "" {
		body.Profile = s.person.profile
	}
	if len(s.state.Bind) == 0 { // nobody came from the application's own host: let them go there, and begin
		return g.start(ctx, s, s.state.To)
	}
	plain, err := json.Marshal(body)
	if err != nil {
		return nil, err
	}
	ticket := keys.NewSecret()
	row := store.GuardTicket{ID: keys.RandomID(), Hash: keys.HashSecret(ticket), ApplicationID: s.app.id, SessionID: s.sessionID, Bind: s.state.Bind, To: s.state.To, ExpiresAt: now.Add(ticketLife)}
	if end := s.sessionEnd(who, now); !end.IsZero() {
		row.Ends = &end
	}
	row.Sealed = g.Store.Sealer.Seal("guard/"+row.ID, plain)
	if err := g.Store.Write(ctx, func(tx *gorm.DB) error { return tx.Create(&row).Error }); err != nil {
		return nil, err
	}
	s.rec.Message(trace.Message{From: trace.Gate, To: trace.Application, Name: "Handing over", Binding: "ticket", Address: s.app.Guarded.PublicURL + GuardPath + "enter", Raw: "a one-time ticket (not shown), good for a minute, for the browser that began there"})
	return &Next{Redirect: s.app.Guarded.PublicURL + GuardPath + "enter?ticket=" + ticket}, nil
}

func (g guardedApplication) refuse(context.Context, *signIn, *explain.Failure) *Next { return nil }
