package signin

import (
	"time"

	"gorm.io/gorm"

	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/trace"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
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

// openConsole makes the console session behind a sign-in.
func (g *Room) openConsole(tx *gorm.DB, s *SignIn, grant *store.Grant, now time.Time) (string, error) {
	token := keys.NewSecret()
	row := store.ConsoleSession{
		TokenHash: keys.HashSecret(token),
		GrantID:   grant.ID,
		CSRF:      keys.NewSecret(),
		CreatedAt: now,
		LastUsed:  now,
		ExpiresAt: grant.ExpiresAt,
	}
	if err := tx.Create(&row).Error; err != nil {
		return "", err
	}
	return token, ground.Journal(
		tx,
		now,
		ground.Actor{Name: s.Person.Shown + " (" + s.Provider.Name + ")", From: s.Row.Address},
		"signed in",
		"administrator",
		s.Person.ID,
		s.Person.Shown,
		"",
		"",
	)
}
