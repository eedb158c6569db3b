// Package moves plans and runs moves of applications from one provider to another: readiness, both ways side by
// side, and waves that open by plan and go back by themselves.
package moves

import (
	"time"

	"innergate/gate/changes"
	"innergate/gate/configuration"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/persons"
	"innergate/gate/rehearsal"
	"innergate/gate/traces"
	"innergate/store"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	partners      *partners.Room
	traces        *traces.Room
	persons       *persons.Room
	configuration *configuration.Room
	changes       *changes.Room
	rehearsal     *rehearsal.Room
}

// New makes the room over those that it stands on.
func New(
	g *ground.Ground,
	partners *partners.Room,
	traces *traces.Room,
	persons *persons.Room,
	configuration *configuration.Room,
	changes *changes.Room,
	rehearsal *rehearsal.Room,
) *Room {
	return &Room{
		Ground:        g,
		partners:      partners,
		traces:        traces,
		persons:       persons,
		configuration: configuration,
		changes:       changes,
		rehearsal:     rehearsal,
	}
}

// Tidy deletes trials, runs and samples that are over.
func (g *Room) Tidy(t *ground.Tidying) error {
	now := t.Now
	return t.Delete(
		ground.Over{Model: &store.MoveTrial{}, Where: "expires_at < ?", Arg: now},
		ground.Over{Model: &store.MoveRun{}, Where: "expires_at < ?", Arg: now.Add(-time.Hour)},
		ground.Over{Model: &store.MoveSample{}, Where: "at < ? AND move_id NOT IN (SELECT id FROM moves WHERE state = 'open')", Arg: now},
	)
}
