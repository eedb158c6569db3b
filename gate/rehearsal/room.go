// Package rehearsal tries things without effect on anybody: test sign-ins by link, previews of mappings, judging
// of pasted messages, and two traces side by side.
package rehearsal

import (
	"time"

	"innergate/gate/accounts"
	"innergate/gate/changes"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/persons"
	"innergate/gate/sessions"
	"innergate/gate/signin"
	"innergate/gate/signout"
	"innergate/gate/traces"
	"innergate/store"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	partners *partners.Room
	traces   *traces.Room
	sessions *sessions.Room
	persons  *persons.Room
	signin   *signin.Room
	signout  *signout.Room
	changes  *changes.Room
	accounts *accounts.Room
}

// New makes the room over those that it stands on.
func New(
	g *ground.Ground,
	partners *partners.Room,
	traces *traces.Room,
	sessions *sessions.Room,
	persons *persons.Room,
	signin *signin.Room,
	signout *signout.Room,
	changes *changes.Room,
	accounts *accounts.Room,
) *Room {
	return &Room{
		Ground:   g,
		partners: partners,
		traces:   traces,
		sessions: sessions,
		persons:  persons,
		signin:   signin,
		signout:  signout,
		changes:  changes,
		accounts: accounts,
	}
}

// Tidy deletes rehearsals that have been over for a day.
func (g *Room) Tidy(t *ground.Tidying) error {
	now := t.Now
	return t.Delete(
		ground.Over{Model: &store.Rehearsal{}, Where: "expires_at < ?", Arg: now.Add(-24 * time.Hour)},
	)
}
