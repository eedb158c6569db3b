// Package kerberos signs people in by the tickets of a Kerberos realm, which their browsers show at an address of the gate's own
// (RFC 4559).
package kerberos

import (
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/signin"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	partners *partners.Room
	signin   *signin.Room
}

// New makes the room over those that it stands on.
func New(g *ground.Ground, partners *partners.Room, signin *signin.Room) *Room {
	return &Room{Ground: g, partners: partners, signin: signin}
}

// Side asks browsers for tickets where a provider is a realm.
type Side struct{ *Room }
