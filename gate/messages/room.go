// Package messages keeps messages that wait: those that another site had the browser post, until its next, same-site
// request (only that one carries our cookies), and responses behind artifacts, until somebody asks for them (SAML
// Bindings, sections 3.5 and 3.6).
package messages

import (
	"innergate/gate/ground"
	"innergate/gate/keyring"
	"innergate/gate/partners"
	"innergate/store"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	keyring  *keyring.Room
	partners *partners.Room
}

// New makes the room over those that it stands on.
func New(g *ground.Ground, keyring *keyring.Room, partners *partners.Room) *Room {
	return &Room{Ground: g, keyring: keyring, partners: partners}
}

// Tidy deletes what nobody has come for in time.
func (g *Room) Tidy(t *ground.Tidying) error {
	now := t.Now
	return t.Delete(
		ground.Over{Model: &store.Arrival{}, Where: "created_at < ?", Arg: now.Add(-arrivalLife)},
		ground.Over{Model: &store.Artifact{}, Where: "expires_at < ?", Arg: now},
	)
}
