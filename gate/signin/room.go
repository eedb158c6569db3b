// Package signin is the sign-in engine: ask, route, send, receive, match, decide, issue, the same for every pair
// of protocols. Engine.go lists the phases; each has a file; the sides speak SAML 2.0 (Core, Bindings and
// Profiles) and OpenID Connect Core 1.0.
package signin

import (
	"context"
	"time"

	"gorm.io/gorm"

	"innergate/core/bridge"
	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/saml"
	"innergate/gate/grants"
	"innergate/gate/ground"
	"innergate/gate/keyring"
	"innergate/gate/messages"
	"innergate/gate/partners"
	"innergate/gate/persons"
	"innergate/gate/sessions"
	"innergate/gate/traces"
	"innergate/store"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	keyring  *keyring.Room
	partners *partners.Room
	messages *messages.Room
	traces   *traces.Room
	sessions *sessions.Room
	persons  *persons.Room
	grants   *grants.Room

	// What rooms above do for a sign-in; all are set before the first one.
	Outcomes     Outcomes
	Consoles     Consoles
	SecondFactor SecondFactor
	Guarded      ApplicationSide  // of applications that the gate stands before
	Lookups      partners.Lookups // values from directories
	Links        ApplicationSide  // of plain addresses
	Own, LDAP    ProviderSide     // of the gate's own people, and of directories of others
	Tickets      ProviderSide     // of realms
}

// Consoles opens the console for somebody who has come in through a provider, and returns the token of that session.
type Consoles interface {
	OpenFor(tx *gorm.DB, grant *store.Grant, who ground.Actor, now time.Time) (string, error)
}

// Outcomes is told how sign-ins end.
type Outcomes interface {
	// SignedIn is told what an application got, or would have got where the rehearsal stops there.
	SignedIn(ctx context.Context, s *SignIn, subject saml.NameID, out []claims.Output)
	Failed(ctx context.Context, s *SignIn, f *explain.Failure, e explain.Explanation)
	// Stopped is where a browser goes whose rehearsal stops before the application.
	Stopped(s *SignIn) *Next
}

// SecondFactor asks people who came through another provider for the factor that they have at the gate; nil where they
// have none.
type SecondFactor interface {
	AskSecond(ctx context.Context, s *SignIn, who bridge.Identity) (*Next, error)
}

// New makes the room over those that it stands on.
func New(
	g *ground.Ground,
	keyring *keyring.Room,
	partners *partners.Room, messages *messages.Room,
	traces *traces.Room,
	sessions *sessions.Room,
	persons *persons.Room,
	grants *grants.Room,
) *Room {
	return &Room{Ground: g, keyring: keyring, partners: partners, messages: messages, traces: traces, sessions: sessions,
		persons: persons, grants: grants}
}

// Tidy deletes sign-ins and pushed requests that are over.
func (g *Room) Tidy(t *ground.Tidying) error {
	now := t.Now
	return t.Delete(
		ground.Over{Model: &store.SignIn{}, Where: "expires_at < ?", Arg: now.Add(-10 * time.Minute)},
		ground.Over{Model: &store.PushedRequest{}, Where: "expires_at < ?", Arg: now},
	)
}
