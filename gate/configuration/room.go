// Package configuration writes applications, providers, rule sets and reach, whole and checked, each with a
// revision, and tells beforehand who is touched.
package configuration

import (
	"context"

	"innergate/api"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/persons"
	"innergate/gate/sessions"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	partners *partners.Room
	sessions *sessions.Room
	persons  *persons.Room

	// Views show what was saved.
	Views Views
}

// Views shows objects with all that stands beside them.
type Views interface {
	Application(ctx context.Context, slug string) (*api.Application, error)
	Provider(ctx context.Context, slug string) (*api.Provider, error)
}

// New makes the room over those that it stands on.
func New(g *ground.Ground, partners *partners.Room, sessions *sessions.Room, persons *persons.Room) *Room {
	return &Room{Ground: g, partners: partners, sessions: sessions, persons: persons}
}
