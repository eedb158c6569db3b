// Package guarded lets people visit applications that know no federation: tickets and sessions at their hosts,
// paths with rules, and what is handed on in headers.
package guarded

import (
	"sync"

	"gorm.io/gorm"

	"innergate/gate/ground"
	"innergate/gate/keyring"
	"innergate/gate/partners"
	"innergate/gate/persons"
	"innergate/gate/sessions"
	"innergate/gate/signin"
	"innergate/gate/signout"
	"innergate/store"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	keyring  *keyring.Room
	partners *partners.Room
	sessions *sessions.Room
	persons  *persons.Room
	signin   *signin.Room
	signout  *signout.Room

	guards  sync.Map // hash of a token at a guarded application → *heldGuard
	proxies proxyKey
}

// New makes the room over those that it stands on.
func New(
	g *ground.Ground,
	keyring *keyring.Room,
	partners *partners.Room,
	sessions *sessions.Room,
	persons *persons.Room,
	signin *signin.Room,
	signout *signout.Room,
) *Room {
	return &Room{Ground: g, keyring: keyring, partners: partners, sessions: sessions, persons: persons, signin: signin, signout: signout}
}

// Tidy forgets tickets and visits that are over.
func (g *Room) Tidy(t *ground.Tidying) error {
	now := t.Now
	g.guards.Range(func(key, h any) bool {
		if g.Now().Sub(h.(*heldGuard).at) > guardAgain {
			g.guards.Delete(key)
		}
		return true
	})
	return t.Delete(
		ground.Over{Model: &store.GuardTicket{}, Where: "expires_at < ?", Arg: now},
	)
}

// EndOfApplication ends the visits to an application behind the gate.
func EndOfApplication(tx *gorm.DB, applicationID string) error {
	for _, table := range []string{"guard_sessions", "guard_tickets"} {
		if err := tx.Exec("DELETE FROM "+table+" WHERE application_id = ?", applicationID).Error; err != nil {
			return err
		}
	}
	return nil
}
