// Package readings reads people and their groups from directories into the gate, by hand and by schedule, and makes those inactive whom
// a directory no longer has.
package readings

import (
	"context"
	"sync"

	"innergate/gate/ground"
	"innergate/gate/ldapdir"
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
	ldap     *ldapdir.Room

	mu sync.Mutex
	// running are the readings at work in this process, by the provider's ID, with what ends them.
	running map[string]context.CancelFunc
}

// New makes the room over those that it stands on.
func New(g *ground.Ground, partners *partners.Room, persons *persons.Room, signin *signin.Room, ldap *ldapdir.Room) *Room {
	return &Room{Ground: g, partners: partners, persons: persons, signin: signin, ldap: ldap, running: map[string]context.CancelFunc{}}
}
