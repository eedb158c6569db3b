package guarded

import (
	"context"
	"encoding/json"
	"net/url"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/core/address"
	"innergate/core/bridge"
	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/redact"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/signin"
	"innergate/store"
)

// GuardPath begins the paths that the guard keeps for itself at a guarded application's host.
const GuardPath = "/.gate/"

const ticketLife = time.Minute

// Side is an application that the gate stands in front of.
type Side struct{ *Room }

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

// Start begins at the application's own host, which brings the person back to where they wanted to be.
func (g Side) Start(_ context.Context, s *signin.SignIn, to string) (*signin.Next, error) {
	if to == "" {
		to = s.App.Guarded.PublicURL + "/"
		if address.Origin(s.App.StartURL) == address.Origin(s.App.Guarded.PublicURL) {
			to = s.App.StartURL
		}
	}
	if !guardedPlace(s.App, to) {
		return nil, explain.New(explain.RelayRefused, explain.Fact("deep link", to))
	}
	return &signin.Next{To: signin.Redirect(to)}, nil
}

// guardedPlace says whether an address lies in the application.
func guardedPlace(a *partners.Application, to string) bool {
	u, err := url.Parse(to)
	return err == nil && len(to) <= 4000 && u.User == nil && address.Origin(to) == address.Origin(a.Guarded.PublicURL) &&
		!strings.ContainsAny(to, "\\\r\n\t ")
}

// EnterGuarded begins a sign-in for somebody whom the guard of an application sent here. Bind is the hash of what their
// browser keeps at the application's host.
func (g *Room) EnterGuarded(ctx context.Context, b signin.Browser, slug, to string, bind []byte) *signin.Next {
	s := g.signin.Begin(b, "sp")
	return g.signin.Walk(ctx, s, signin.Failing(g.askGuarded(ctx, s, slug, to, bind)), g.signin.Outward)
}

func (g *Room) askGuarded(ctx context.Context, s *signin.SignIn, slug, to string, bind []byte) error {
	app, err := g.partners.Application(ctx, slug)
	switch {
	case ground.IsNotFound(err) || err == nil && app.Guarded == nil:
		return explain.New(explain.SAMLApplicationUnknown, explain.Fact("short name", slug))
	case err != nil:
		return err
	}
	s.App = app
	if !guardedPlace(app, to) || len(bind) != 32 {
		return explain.New(explain.RelayRefused, explain.Fact("deep link", words.Clip(to, 500)))
	}
	s.Rec.Message(trace.Message{From: trace.Application, To: trace.Gate, Name: "Visit", Binding: "GET", Address: redact.CutQuery(to)})
	s.State.To, s.State.Bind = to, bind
	s.Row.ApplicationID, s.Row.RequestID = app.ID, "guard:"+s.ID
	return nil
}

// Settle writes a ticket with which the browser enters at the application's host.
func (g Side) Settle(tx *gorm.DB, s *signin.SignIn, _ partners.Approved, who bridge.Identity, subject saml.NameID) error {
	if len(s.State.Bind) == 0 { // nobody came from the application's own host: they go there, and begin
		return nil
	}
	now := g.Now().UTC()
	body := guardBody{
		PersonID:   s.Person.ID,
		Shown:      s.Person.Shown,
		Subject:    subject.Value,
		ProviderID: s.Provider.ID,
		Came:       s.Person.Came,
		Values:     s.Person.Session,
		Groups:     s.Person.Groups,
		Kind:       s.Person.Kind,
		Roles:      s.Person.Roles,
		AuthTime:   who.AuthnInstant,
		ACR:        who.Told(s.State.Wish.Context),
		Two:        g.signin.TwoFactor(s, who),
		Rehearsal:  s.Rehearsal != nil,
	}
	if s.Person.ID == "" {
		body.Profile = s.Person.Profile
	}
	plain, err := json.Marshal(body)
	if err != nil {
		return err
	}
	s.Answer.Secret = keys.NewSecret()
	row := store.GuardTicket{
		ID:            keys.RandomID(),
		Hash:          keys.HashSecret(s.Answer.Secret),
		ApplicationID: s.App.ID,
		SessionID:     s.SessionID,
		Bind:          s.State.Bind,
		To:            s.State.To,
		ExpiresAt:     now.Add(ticketLife),
	}
	if end := s.SessionEnd(who, now); !end.IsZero() {
		row.Ends = &end
	}
	row.Sealed = g.Store.Sealer.Seal(store.PlaceGuard, row.ID, plain)
	return tx.Create(&row).Error
}

// Issue sends the browser to the application's host with its ticket.
func (g Side) Issue(
	ctx context.Context, s *signin.SignIn, _ partners.Approved, _ bridge.Identity, _ saml.NameID, _ []claims.Output,
) (*signin.Next, error) {
	if len(s.State.Bind) == 0 {
		return g.Start(ctx, s, s.State.To)
	}
	s.Rec.Message(trace.Message{
		From:    trace.Gate,
		To:      trace.Application,
		Name:    "Handing over",
		Binding: "ticket",
		Address: s.App.Guarded.PublicURL + GuardPath + "enter",
		Raw:     "a one-time ticket (not shown), good for a minute, for the browser that began there",
	})
	return &signin.Next{To: signin.Redirect(s.App.Guarded.PublicURL + GuardPath + "enter?ticket=" + s.Answer.Secret)}, nil
}

// Refuse has no answer: the person is told at the gate.
func (g Side) Refuse(context.Context, *signin.SignIn, *explain.Failure) *signin.Next { return nil }
