// Package ldapdir signs people in with directories on somebody's premises (LDAP, RFC 4511), and tries what is set for one.
package ldapdir

import (
	"sync"

	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/signin"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	partners *partners.Room
	signin   *signin.Room

	mu sync.Mutex
	// held are the connections to each directory, by the provider's ID.
	held map[string]*lines
	// kept are values that were looked up, by directory and filter.
	kept map[string]kept
	slow slowest
}

// New makes the room over those that it stands on.
func New(g *ground.Ground, partners *partners.Room, signin *signin.Room) *Room {
	return &Room{Ground: g, partners: partners, signin: signin, held: map[string]*lines{}, kept: map[string]kept{}}
}

// Side speaks to a directory where a provider is one.
type Side struct{ *Room }
