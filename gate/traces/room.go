// Package traces keeps the records of sign-ins, finds them again, and counts from them. What is shown of them is
// masked (core/redact).
package traces

import (
	"sync"

	"innergate/gate/ground"
	"innergate/gate/partners"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	partners *partners.Room
	// Elsewhere is nil where the gate is alone.
	Elsewhere Elsewhere

	strangers ground.Budgets
	losses    struct {
		sync.Mutex
		traceLoss
	}
}

// New makes the room over those that it stands on.
func New(g *ground.Ground, partners *partners.Room) *Room {
	return &Room{Ground: g, partners: partners}
}
