// Package exchange gives the other side's engineer what they need, and takes what they leave: exchange sheets, our
// metadata (SAML Metadata), handover links, and client registration (RFC 7591).
package exchange

import (
	"innergate/gate/changes"
	"innergate/gate/configuration"
	"innergate/gate/console"
	"innergate/gate/grants"
	"innergate/gate/ground"
	"innergate/gate/keyring"
	"innergate/gate/partners"
	"innergate/gate/rehearsal"
	"innergate/gate/signout"
	"innergate/gate/traces"
	"innergate/gate/watch"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	keyring       *keyring.Room
	partners      *partners.Room
	traces        *traces.Room
	grants        *grants.Room
	console       *console.Room
	signout       *signout.Room
	configuration *configuration.Room
	watch         *watch.Room
	changes       *changes.Room
	rehearsal     *rehearsal.Room
}

// New makes the room over those that it stands on.
func New(
	g *ground.Ground,
	keyring *keyring.Room,
	partners *partners.Room,
	traces *traces.Room,
	grants *grants.Room,
	console *console.Room,
	signout *signout.Room,
	configuration *configuration.Room,
	watch *watch.Room,
	changes *changes.Room,
	rehearsal *rehearsal.Room,
) *Room {
	return &Room{
		Ground:        g,
		keyring:       keyring,
		partners:      partners,
		traces:        traces,
		grants:        grants,
		console:       console,
		signout:       signout,
		configuration: configuration,
		watch:         watch,
		changes:       changes,
		rehearsal:     rehearsal,
	}
}
