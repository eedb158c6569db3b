// Package checkups looks through the whole configuration for what is wrong or will be, shows each object with its
// findings, and tells people of them by mail.
package checkups

import (
	"context"
	"sync"

	"innergate/core/checkup"
	"innergate/gate/configuration"
	"innergate/gate/exchange"
	"innergate/gate/ground"
	"innergate/gate/keyring"
	"innergate/gate/partners"
	"innergate/gate/sources"
	"innergate/gate/traces"
	"innergate/gate/watch"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	keyring       *keyring.Room
	partners      *partners.Room
	traces        *traces.Room
	configuration *configuration.Room
	watch         *watch.Room
	sources       *sources.Room
	exchange      *exchange.Room

	checking  sync.Mutex
	checkedAt string // the generation at which everything was last looked at; held by checking

	// Nodes is what is wrong with the nodes that keep the records together; it is nil where none of the rooms knows.
	Nodes func(context.Context) []checkup.Finding
	// Accounts is what has to be done about an application's accounts, by its ID.
	Accounts func(context.Context, string) ([]checkup.Finding, error)
}

// New makes the room over those that it stands on.
func New(
	g *ground.Ground,
	keyring *keyring.Room,
	partners *partners.Room,
	traces *traces.Room,
	configuration *configuration.Room,
	watch *watch.Room,
	sources *sources.Room,
	exchange *exchange.Room,
) *Room {
	return &Room{
		Ground:        g,
		keyring:       keyring,
		partners:      partners,
		traces:        traces,
		configuration: configuration,
		watch:         watch,
		sources:       sources,
		exchange:      exchange,
	}
}
