// Package watch takes the other side's metadata in and looks after it: versions, differences, what waits for a
// decision (SAML Metadata; OpenID Connect Discovery 1.0; RFC 8414).
package watch

import (
	"context"

	"innergate/gate/configuration"
	"innergate/gate/fetch"
	"innergate/gate/ground"
	"innergate/gate/partners"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	partners      *partners.Room
	configuration *configuration.Room

	// Sources find a partner in what was read of a federation.
	Sources Sources
	// Directories asks directories what they are about.
	Directories Directories
}

// Sources gives one entity's metadata out of a source.
type Sources interface {
	FromSource(ctx context.Context, slug, entityID string) (*fetch.Got, error)
}

// New makes the room over those that it stands on.
func New(g *ground.Ground, partners *partners.Room, configuration *configuration.Room) *Room {
	return &Room{Ground: g, partners: partners, configuration: configuration}
}
