package signin

import (
	"innergate/core/explain"
	"innergate/core/trace"
	"innergate/gate/partners"
)

// mayLookAfter refuses people to whom no rule gives a role, where they want to come in to the gate itself.
func (g *Room) mayLookAfter(s *SignIn) error {
	if s.App.ID != partners.ConsoleID {
		return nil
	}
	role := partners.RoleOf(s.App.Rules, s.Provider.Slug, s.Person.Came)
	if role == "" {
		return explain.New(explain.ConsoleNoRole, explain.Fact("person", s.Person.Shown)).Of(s.Provider.Name)
	}
	s.Rec.Decide(trace.Decision{About: "role", Result: role, By: "rules for the console"})
	return nil
}
