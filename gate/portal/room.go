// Package portal is a person's own page: the tiles of applications that they may open, their sessions, passkeys
// and links.
package portal

import (
	"innergate/gate/directory"
	"innergate/gate/ground"
	"innergate/gate/ldapdir"
	"innergate/gate/partners"
	"innergate/gate/persons"
	"innergate/gate/sessions"
	"innergate/gate/signin"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	partners  *partners.Room
	sessions  *sessions.Room
	persons   *persons.Room
	signin    *signin.Room
	directory *directory.Room
	ldap      *ldapdir.Room
}

// New makes the room over those that it stands on.
func New(
	g *ground.Ground,
	partners *partners.Room,
	sessions *sessions.Room,
	persons *persons.Room,
	signin *signin.Room,
	directory *directory.Room,
	ldap *ldapdir.Room,
) *Room {
	return &Room{Ground: g, partners: partners, sessions: sessions, persons: persons, signin: signin, directory: directory, ldap: ldap}
}
