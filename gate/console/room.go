// Package console says who may use the console and the API: administrators, API tokens, and people who come in
// through a provider by what was said of them.
package console

import (
	"sync/atomic"

	"innergate/gate/directory"
	"innergate/gate/grants"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	partners  *partners.Room
	grants    *grants.Room
	directory *directory.Room

	setupHash atomic.Pointer[[]byte]
}

// New makes the room over those that it stands on.
func New(g *ground.Ground, partners *partners.Room, grants *grants.Room, directory *directory.Room) *Room {
	return &Room{Ground: g, partners: partners, grants: grants, directory: directory}
}

// Tidy deletes sessions of the console that are over.
func (g *Room) Tidy(t *ground.Tidying) error {
	now := t.Now
	return t.Delete(
		ground.Over{Model: &store.ConsoleSession{}, Where: "expires_at < ?", Arg: now},
	)
}
