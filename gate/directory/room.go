// Package directory signs in the gate's own people: passwords, codes by time (RFC 6238), passkeys (WebAuthn Level
// 2), and second factors for those who came another way.
package directory

import (
	"sync/atomic"

	"github.com/go-webauthn/webauthn/webauthn"

	"innergate/core/passwords"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/persons"
	"innergate/gate/signin"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	partners *partners.Room
	persons  *persons.Room
	signin   *signin.Room

	// hashing holds as many as work on a hash at the same time.
	hashing chan struct{}
	waiting atomic.Int64 // how many wait for their turn, or have it
	slowest atomic.Int64 // nanoseconds that a wrong password takes at least
	party   *webauthn.WebAuthn
}

// New makes the room over those that it stands on.
func New(g *ground.Ground, partners *partners.Room, persons *persons.Room, signin *signin.Room) (*Room, error) {
	party, err := passkeyParty(g.PublicURL)
	d := &Room{Ground: g, partners: partners, persons: persons, signin: signin, hashing: make(chan struct{}, 2), party: party}
	if g.PasswordCost == passwords.Usual {
		d.slowest.Store(int64(usualFloor))
	}
	return d, err
}
