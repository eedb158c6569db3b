package signin

import (
	"context"

	"innergate/core/explain"
	"innergate/core/trace"
	"innergate/gate/partners"
)

// mayLookAfter refuses people to whom no rule gives a role, where they want to come in to the gate itself.
func (g *Room) mayLookAfter(ctx context.Context, s *SignIn) error {
	if s.App.ID != partners.ConsoleID {
		return nil
	}
	role, counts, err := g.partners.RoleAt(ctx, s.App.Rules, s.Provider, s.Person.Came)
	switch {
	case err != nil:
		return err
	case !counts:
		return explain.New(explain.ConsoleUnconfirmed).Of(s.Provider.Name)
	case role == "":
		return explain.New(explain.ConsoleNoRole, explain.Fact("person", s.Person.Shown)).Of(s.Provider.Name)
	}
	s.role = role
	s.Rec.Decide(trace.Decision{About: "role", Result: role, By: "rules for the console"})
	return nil
}
