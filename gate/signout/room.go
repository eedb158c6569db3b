// Package signout ends sessions everywhere: asked by the person, an application or a provider, it tells all others
// (SAML Core, section 3.7; OpenID Connect RP-Initiated, Front-Channel and Back-Channel Logout 1.0).
package signout

import (
	"innergate/gate/grants"
	"innergate/gate/ground"
	"innergate/gate/keyring"
	"innergate/gate/messages"
	"innergate/gate/partners"
	"innergate/gate/sessions"
	"innergate/gate/signin"
	"innergate/store"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	keyring  *keyring.Room
	partners *partners.Room
	messages *messages.Room
	sessions *sessions.Room
	grants   *grants.Room
	signin   *signin.Room
}

// New makes the room over those that it stands on.
func New(
	g *ground.Ground,
	keyring *keyring.Room,
	partners *partners.Room, messages *messages.Room,
	sessions *sessions.Room,
	grants *grants.Room,
	signin *signin.Room,
) *Room {
	return &Room{Ground: g, keyring: keyring, partners: partners, messages: messages, sessions: sessions, grants: grants, signin: signin}
}

// Tidy deletes sign-outs that are over.
func (g *Room) Tidy(t *ground.Tidying) error {
	now := t.Now
	return t.Delete(
		ground.Over{Model: &store.SignOut{}, Where: "expires_at < ?", Arg: now},
	)
}
