// Package grants is what an OpenID Connect application holds after a sign-in: grants and tokens, at the token
// endpoint (RFC 6749, RFC 7636, RFC 8628), UserInfo (OpenID Connect Core 1.0, section 5.3), introspection (RFC
// 7662) and revocation (RFC 7009).
package grants

import (
	"sync"

	"innergate/core/trace"
	"innergate/gate/ground"
	"innergate/gate/keyring"
	"innergate/gate/partners"
	"innergate/gate/persons"
	"innergate/gate/traces"
	"innergate/store"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	strangers ground.Budgets // what those have opened who proved nothing
	keyring   *keyring.Room
	partners  *partners.Room
	traces    *traces.Room
	persons   *persons.Room
	used      struct {
		sync.Mutex
		tokens map[[32]byte]bool
	}

	// Refusals records what was refused.
	Refusals Refusals
}

// Refusals makes the record of a client whose request was refused before a sign-in could be found to it.
type Refusals interface {
	ClientTrace(from string, rec *trace.Recorder, app *partners.Application, authenticated bool, code string) (*store.Trace, error)
}

// New makes the room over those that it stands on.
func New(g *ground.Ground, keyring *keyring.Room, partners *partners.Room, traces *traces.Room, persons *persons.Room) *Room {
	return &Room{Ground: g, keyring: keyring, partners: partners, traces: traces, persons: persons}
}
