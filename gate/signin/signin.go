package signin

import (
	"time"

	"innergate/core/access"
	"innergate/core/address"
	"innergate/core/bridge"
	"innergate/core/oidc"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/gate/partners"
	"innergate/gate/sessions"
	"innergate/store"
)

const (
	// Life is how long a sign-in may take.
	Life        = 15 * time.Minute
	maxRelay    = 4096
	cookiesKept = 8
)

// Browser is what the server knows of the one who asks.
type Browser struct {
	Address string
	// SignIns are the secrets of sign-ins in flight that this browser holds, by sign-in ID.
	SignIns map[string]string
	// Rehearsal is the value of the rehearsal cookie.
	Rehearsal string
	// Way is the provider that the browser took the last time, by short name.
	Way string
	// Session is the token of the browser's session at the gate, Device what the browser says it is.
	Session, Device string
	// SignOuts are the secrets of sign-outs under way, by ID.
	SignOuts map[string]string
}

// SignIn is one sign-in on its way through the steps.
type SignIn struct {
	ID, Reference string
	Row           store.SignIn
	App           *partners.Application
	Provider      *partners.Provider
	Rehearsal     *store.Rehearsal
	Rec           *trace.Recorder
	Began         time.Time
	Person        Person
	State         state
	Browser       Browser
	Known         bool // its trace is in the store already
	// subject is what the provider vouched for, as links hold it.
	subject, subjectShown string
	// session is the session that was there, once somebody has looked; the others are of the one that the sign-in ends
	// in: its ID and end, its name towards the application, the identifier that goes there, and the token that the
	// browser gets.
	session      *sessions.HeldSession
	looked       bool
	SessionID    string
	sessionEnds  time.Time
	sessionIndex string
	sessionToken string
	relayLost    string // what the provider sent back in place of its RelayState, where the sign-in was found all the same
	sessionKept  bool
	sent         saml.NameID
	// evidence is what was proven, from the phase on that has it; asked is what the provider's answer must fit; chosen is
	// the provider that somebody chose.
	evidence bridge.Evidence
	asked    *awaiting
	chosen   string
	// Answer is what was written for the application's answer.
	Answer Answer
	// authenticated is set where the partner that asks has proven who it is.
	authenticated bool
	role          string             // what somebody may at the gate itself, if that is where they go
	agreed        bool               // the person who was found has agreed to what is handed on
	dry           bool               // nobody is changed by it
	Dropped       []string           // sign-ins that the browser is to forget
	routes        *access.Routes     // a draft that is asked about, in place of those that are live
	instead       *partners.Provider // a provider as a rehearsal has it, in place of what is set
}

// Answer is what Settle made and Issue hands out: the secret of a code or ticket, and that of a session in the console.
type Answer struct{ Secret, Console string }

// state is what must be known of a sign-in that waits: what the application asked, which stays the same, and the step at
// which it waits. It travels sealed.
type state struct {
	Request *saml.AuthnRequest `json:"request,omitempty"` // of the application, if it asked
	To      string             `json:"to,omitempty"`      // RelayState for an unsolicited response
	Wish    bridge.Wish        `json:"wish"`
	// Wished is what the application wants, where Wish differs from it for the provider that is asked now.
	Wished *bridge.Wish `json:"wished,omitempty"`
	Began  time.Time    `json:"began"`
	// Asked is the request of an OpenID Connect application.
	Asked *oidc.Request `json:"asked,omitempty"`
	// At is where the sign-in waits, with what belongs to that step alone.
	At place `json:"at"`
	// Device is the hash of the device code that this sign-in is for.
	Device []byte `json:"device,omitempty"`
	// Linked is set where a link brought its code, and nobody typed it.
	Linked bool `json:"linked,omitempty"`
	// Bind is the hash of what the browser keeps at a guarded application's host.
	Bind []byte `json:"bind,omitempty"`
	// Name is what the person gave to be recognised by, before they have proven anything.
	Name string `json:"name,omitempty"`
	// Unshown are the realms whose tickets the person could not show in this sign-in.
	Unshown []bridge.Unshown `json:"unshown,omitempty"`
	// Said is what was recorded so far, packed, where the sign-in may be gone on with at another node.
	Said []byte `json:"said,omitempty"`
	// Console is set where somebody comes in to the console.
	Console bool `json:"console,omitempty"`
}

// Begin starts the record of a sign-in.
func (g *Room) Begin(b Browser, flow string) *SignIn {
	g.Metrics.Begun.Add(1)
	now := g.Now()
	s := &SignIn{ID: store.NewIDAt(now), Reference: trace.NewReference(), Rec: trace.NewRecorder(now, g.Now), Began: now, Browser: b}
	s.Row = store.SignIn{
		ID:        s.ID,
		Reference: s.Reference,
		Address:   b.Address,
		Network:   address.Network(b.Address),
		Flow:      flow,
		CreatedAt: now.UTC(),
		ExpiresAt: now.Add(Life).UTC(),
	}
	s.State.Began = now
	return s
}

// Choose notes which provider somebody chose, by short name.
func (s *SignIn) Choose(provider string) { s.chosen = provider }
