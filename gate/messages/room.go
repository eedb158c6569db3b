// Package messages is about SAML messages on their way: those that the browser posts, and responses behind artifacts, which wait
// until somebody asks for them (SAML Bindings, sections 3.5 and 3.6).
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
	return t.Delete(ground.Over{Model: &store.Artifact{}, Where: "expires_at < ?", Arg: now})
}
