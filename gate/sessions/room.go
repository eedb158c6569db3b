// Package sessions keeps the sessions of people at the gate and ends them: by hand, by age, by lying idle. What a
// session proves stands in its proofs, one for each provider (SAML Core, section 2.7.2; OpenID Connect Session
// Management 1.0).
package sessions

import (
	"time"

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

// Tidy deletes sessions that have been over for a month, with what stands beside them.
func (g *Room) Tidy(t *ground.Tidying) error {
	var ids []string
	over := t.Tx.Model(&store.Session{}).Where("expires_at < ?", t.Now.Add(-30*24*time.Hour)).Limit(ground.AtOnce)
	if err := over.Pluck("id", &ids).Error; err != nil {
		return err
	}
	t.More = len(ids) == ground.AtOnce
	if len(ids) > 0 {
		for _, stmt := range []string{"DELETE FROM session_proofs WHERE session_id IN ?", "DELETE FROM session_uses WHERE session_id IN ?",
			"DELETE FROM sessions WHERE id IN ?"} {
			if err := t.Tx.Exec(stmt, ids).Error; err != nil {
				return err
			}
		}
	}
	return t.Delete(ground.Over{Model: &store.GuardSession{}, Where: "expires_at < ?", Arg: t.Now})
}
