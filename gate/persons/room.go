// Package persons keeps persons, groups and assignments, and takes them from files in three steps: read, looked
// at, made. Their attributes bear the names of OpenID Connect Core 1.0, section 5.1.
package persons

import (
	"context"
	"sync"

	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	partners *partners.Room
	// Traces finds the trace of a sign-in, wherever it is kept.
	Traces interface {
		Record(ctx context.Context, reference string) (*store.Trace, error)
	}

	importing sync.Map // import ID → whether it shall go on
}

// New makes the room over those that it stands on.
func New(g *ground.Ground, partners *partners.Room) *Room {
	return &Room{Ground: g, partners: partners}
}
