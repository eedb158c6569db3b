// Package partners makes applications and providers ready for use: the stored configuration, compiled once for
// each generation of it, with keys, key sets, clients and secrets. Whoever needs an application or a provider in a
// sign-in gets it here (SAML metadata, section 2.4; OpenID Connect Discovery 1.0, section 3; RFC 7591).
package partners

import (
	"sync"

	"innergate/gate/ground"
	"innergate/gate/keyring"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	keyring *keyring.Room

	usedSecrets sync.Map // secret ID → time.Time, until it is written down
	keySets     keySets
	seen        seen
}

// New makes the room over those that it stands on.
func New(g *ground.Ground, keyring *keyring.Room) *Room {
	return &Room{Ground: g, keyring: keyring}
}
