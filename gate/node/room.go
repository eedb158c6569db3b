// Package node is about the nodes that keep the gate's records together: who they are, who joins, and who leads.
package node

import (
	"context"
	"encoding/json"
	"sync"
	"time"

	"innergate/gate/ground"
	"innergate/nodes"
	"innergate/store"
)

// Nodes is how this process speaks to the others.
type Nodes interface {
	Members(context.Context) ([]nodes.Member, error)
	Leads(context.Context) bool
	Relieve(context.Context) error
	Remove(context.Context, uint64) error
}

// Caller asks one of the others.
type Caller interface {
	Ask(ctx context.Context, address, name string, question any) (json.RawMessage, error)
}

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	// Together is nil where the gate keeps its records alone.
	Together Nodes
	// Caller asks the others; it is nil as long as nobody can be asked.
	Caller Caller

	own     nodes.Options
	errands *nodes.Errands
	began   time.Time
	held    struct {
		sync.Mutex
		others []store.NodeMember
	}
}

// New makes the room over what it stands on.
func New(g *ground.Ground) *Room { return &Room{Ground: g} }

// Leads says whether this process does what must be done once: it is alone, or its node leads.
func (g *Room) Leads(ctx context.Context) bool { return g.Together == nil || g.Together.Leads(ctx) }

// Tidy forgets invitations that nobody has taken up, certificates that are over, and what nobody looks up any more.
func (g *Room) Tidy(t *ground.Tidying) error {
	if err := t.Delete(ground.Over{Model: &store.NodeInvitation{}, Where: "expires_at < ?", Arg: t.Now}); err != nil {
		return err
	}
	if err := t.Delete(ground.Over{Model: &store.NodeMember{}, Where: "ends < ?", Arg: t.Now}); err != nil {
		return err
	}
	return t.Delete(ground.Over{Model: &store.NodeWrite{}, Where: "at < ?", Arg: t.Now.Add(-store.WritesKept)})
}
