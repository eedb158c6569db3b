// Package sessions keeps the sessions of people at the gate and ends them: by hand, by age, by lying idle. What a
// session proves stands in its proofs, one for each provider (SAML Core, section 2.7.2; OpenID Connect Session
// Management 1.0).
package sessions

import (
	"time"

	"gorm.io/gorm"

	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

// Room holds what the package needs of the gate; see the package.
type Room struct {
	*ground.Ground
	partners *partners.Room

	// Telling takes a word whenever somebody ended sessions whose applications are to be told.
	Telling chan struct{}
}

// New makes the room over those that it stands on.
func New(g *ground.Ground, partners *partners.Room) *Room {
	return &Room{Ground: g, partners: partners, Telling: make(chan struct{}, 1)}
}

// Tidy deletes sessions that have been over for a month, and what stood beside them.
func (g *Room) Tidy(tx *gorm.DB, now time.Time) error {
	return ground.DeleteOver(tx,
		ground.Over{Model: &store.Session{}, Where: "expires_at < ?", Arg: now.Add(-30 * 24 * time.Hour)},
		ground.Over{Model: &store.SessionProof{}, Where: "session_id NOT IN (SELECT id FROM sessions) AND at < ?", Arg: now},
		ground.Over{Model: &store.GuardSession{}, Where: "expires_at < ?", Arg: now},
		ground.Over{Model: &store.SessionUse{}, Where: "session_id NOT IN (SELECT id FROM sessions) AND first_at < ?", Arg: now},
	)
}
