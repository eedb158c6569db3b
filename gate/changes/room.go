// Package changes is the history of the configuration and the ways to change it as a whole: revisions and their
// return, files that are previewed and loaded, and proposals that wait for a second person.
package changes

import (
	"innergate/gate/configuration"
	"innergate/gate/console"
	"innergate/gate/grants"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/persons"
	"innergate/gate/sources"
	"innergate/gate/watch"
	"innergate/store"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	partners      *partners.Room
	persons       *persons.Room
	grants        *grants.Room
	console       *console.Room
	configuration *configuration.Room
	watch         *watch.Room
	sources       *sources.Room

	// Shadow is this room over another store, with which it is found out what a change would do.
	Shadow func(s *store.Store) (*Room, error)
}

// New makes the room over those that it stands on.
func New(
	g *ground.Ground,
	partners *partners.Room,
	persons *persons.Room,
	grants *grants.Room,
	console *console.Room,
	configuration *configuration.Room,
	watch *watch.Room,
	sources *sources.Room,
) *Room {
	return &Room{
		Ground:        g,
		partners:      partners,
		persons:       persons,
		grants:        grants,
		console:       console,
		configuration: configuration,
		watch:         watch,
		sources:       sources,
	}
}
