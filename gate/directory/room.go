// Package directory signs in the gate's own people: passwords, codes by time (RFC 6238), passkeys (WebAuthn Level
// 2), and second factors for those who came another way.
package directory

import (
	"time"

	"github.com/go-webauthn/webauthn/webauthn"
	"gorm.io/gorm"

	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/persons"
	"innergate/gate/signin"
	"innergate/store"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	partners *partners.Room
	persons  *persons.Room
	signin   *signin.Room

	// hashing holds as many as work on a hash at the same time.
	hashing chan struct{}
	party   *webauthn.WebAuthn
}

// New makes the room over those that it stands on.
func New(g *ground.Ground, partners *partners.Room, persons *persons.Room, signin *signin.Room) (*Room, error) {
	party, err := passkeyParty(g.PublicURL)
	return &Room{Ground: g, partners: partners, persons: persons, signin: signin, hashing: make(chan struct{}, 2), party: party}, err
}

// Tidy deletes one-time links that are over.
func (g *Room) Tidy(tx *gorm.DB, now time.Time) error {
	return ground.DeleteOver(tx, ground.Over{Model: &store.OneTimeLink{}, Where: "expires_at < ?", Arg: now})
}
