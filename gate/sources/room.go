// Package sources reads many partners at once: federations' metadata as a stream (SAML Metadata, section 2.3.1),
// lists for batches, and templates to start from.
package sources

import (
	"sync"

	"innergate/gate/configuration"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/watch"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	partners      *partners.Room
	configuration *configuration.Room
	watch         *watch.Room

	sourceJobs sync.Map // source ID → *sourceJob
	batching   sync.Map // batch ID → true, while its rows are looked at
}

// New makes the room over those that it stands on.
func New(g *ground.Ground, partners *partners.Room, configuration *configuration.Room, watch *watch.Room) *Room {
	return &Room{Ground: g, partners: partners, configuration: configuration, watch: watch}
}
