package sessions

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"gorm.io/gorm"

	"innergate/core/bridge"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/gate/ground"
	"innergate/gate/issued"
	"innergate/store"
)

// TellSoon has the applications of sessions that have ended told at once, and not only at the next turn.
func (g *Room) TellSoon() {
	select {
	case g.Telling <- struct{}{}:
	default:
	}
}

const settingSessions = "sessions"

// Proof is what one provider vouched for in a session. It is kept sealed with it.
type Proof struct {
	Identity bridge.Identity `json:"identity"`
	// Came is what the provider's mapping made of it, Values what of the profile is for the session only; Profile is
	// the whole of it, where nobody is stored.
	Came    claims.Bag `json:"came,omitempty"`
	Values  claims.Bag `json:"values,omitempty"`
	Profile claims.Bag `json:"profile,omitempty"`
	Kind    string     `json:"kind,omitempty"` // the person type, where nobody is stored
	At      time.Time  `json:"at"`
}

// Since is when the person signed in, as far as it is known.
func (p *Proof) Since() time.Time {
	if p.Identity.AuthnInstant.IsZero() {
		return p.At
	}
	return p.Identity.AuthnInstant
}

// sessionBody is what is kept sealed with a session.
type sessionBody struct {
	Proofs map[string]Proof `json:"proofs"` // by provider's ID
	// Second is when the person last proved a second factor at the gate.
	Second time.Time `json:"second,omitzero"`
	// Holder keeps apart people whom the gate does not store.
	Holder string `json:"holder,omitempty"`
}

// HeldSession is a session that still counts.
type HeldSession struct {
	store.Session
	Body sessionBody
}

// Limits are the limits of sessions that are set.
func (g *Room) Limits(ctx context.Context) (config.Sessions, error) {
	c, err := g.Cache(ctx)
	if err != nil {
		return config.Sessions{}, err
	}
	if s := c.Sessions.Load(); s != nil {
		return *s, nil
	}
	row, err := store.One[store.Setting](g.Store.Read(ctx), "name = ?", settingSessions)
	if err != nil {
		return config.Sessions{}, err
	}
	s := config.UsualSessions
	if row.Value != "" {
		if err := json.Unmarshal([]byte(row.Value), &s); err != nil {
			return s, fmt.Errorf("the limits of sessions can't be read: %w", err)
		}
	}
	c.Sessions.Store(&s)
	return s, nil
}

// SessionByToken finds the session of a browser, or nothing where there is none that counts.
func (g *Room) SessionByToken(ctx context.Context, token string) (*HeldSession, error) {
	if len(token) < 20 || len(token) > 100 {
		return nil, nil
	}
	row, err := store.One[store.Session](g.Store.Read(ctx), "token_hash = ?", keys.HashSecret(token))
	if err != nil {
		return nil, err
	}
	if row.RehearsalID != "" {
		return nil, nil
	}
	return g.OpenSession(ctx, row)
}

// SessionByID finds a session that still counts; nil where there is none.
func (g *Room) SessionByID(ctx context.Context, id string) (*HeldSession, error) {
	row, err := store.One[store.Session](g.Store.Read(ctx), "id = ?", id)
	if err != nil {
		return nil, err
	}
	return g.OpenSession(ctx, row)
}

// OpenSession unseals a session, unless it is over.
func (g *Room) OpenSession(ctx context.Context, row store.Session) (*HeldSession, error) {
	now := g.Now()
	if row.ID == "" || row.EndedAt != nil || !now.Before(row.ExpiresAt) {
		return nil, nil
	}
	limits, err := g.Limits(ctx)
	if err != nil {
		return nil, err
	}
	if now.Sub(row.LastUsed) > limits.Idle() {
		return nil, nil
	}
	h := &HeldSession{Session: row}
	plain, err := g.Store.Sealer.Open(store.PlaceSession, row.ID, row.Sealed)
	if err != nil {
		// Sealed under a key that is no longer held: the person signs in anew.
		g.Log.WarnContext(ctx, "a session can't be opened and counts no more", "session", row.ID, "error", err)
		return nil, nil
	}
	return h, json.Unmarshal(plain, &h.Body)
}

// EndSession ends a session and every grant of it, besides those for access while the person is away. Who must be told
// is told by TellEnded.
func EndSession(tx *gorm.DB, id, why string, now time.Time) error {
	if _, err := store.Exec(tx, "UPDATE sessions SET ended_at = ?, ended_by = ? WHERE id = ? AND ended_at IS NULL", now, why,
		id); err != nil {
		return err
	}
	return issued.EndOfSession(tx, id, "", why, now)
}

// EndIdle ends sessions that nobody used for as long as is allowed, and those whose time is over, so that the applications in
// which they were used are told. It ends a part at a time.
func (g *Room) EndIdle(ctx context.Context) error {
	limits, err := g.Limits(ctx)
	if err != nil {
		return err
	}
	now := g.Now().UTC()
	idle := func(db *gorm.DB) (ids []string, err error) {
		const over = "SELECT id FROM sessions WHERE ended_at IS NULL AND last_used < ? UNION ALL SELECT id FROM sessions WHERE ended_at " +
			"IS NULL AND expires_at < ? LIMIT 500"
		err = db.Raw(over, now.Add(-limits.Idle()), now).Scan(&ids).Error
		return ids, store.Clear(err)
	}
	if ids, err := idle(g.Store.Read(ctx)); err != nil || len(ids) == 0 {
		return err
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		ids, err := idle(tx) // somebody may have come back meanwhile
		if err != nil {
			return err
		}
		for _, id := range ids {
			if err := EndSession(tx, id, "nobody used it for as long as is allowed", now); err != nil {
				return err
			}
		}
		return nil
	})
	g.TellSoon()
	return err
}

// EndSessionsOf ends all sessions of a person.
func EndSessionsOf(tx *gorm.DB, personID, why string, now time.Time) error {
	var ids []string
	if err := tx.Raw("SELECT id FROM sessions WHERE person_id = ? AND ended_at IS NULL", personID).Scan(&ids).Error; err != nil {
		return err
	}
	return endAll(tx, ids, why, now)
}

// EndVouched ends those sessions of a person in which a provider vouched for something.
func EndVouched(tx *gorm.DB, personID, providerID, why string, now time.Time) error {
	var ids []string
	if err := tx.Raw("SELECT id FROM sessions WHERE person_id = ? AND ended_at IS NULL AND id IN (SELECT session_id FROM session_proofs "+
		"WHERE provider_id = ?)", personID, providerID).Scan(&ids).Error; err != nil {
		return err
	}
	return endAll(tx, ids, why, now)
}

func endAll(tx *gorm.DB, ids []string, why string, now time.Time) error {
	for _, id := range ids {
		if err := EndSession(tx, id, why, now); err != nil {
			return err
		}
	}
	return nil
}

// NameIDOf reads the identifier that an application got.
func NameIDOf(u *store.SessionUse) (saml.NameID, error) {
	return ground.DecodeBody[saml.NameID](u.NameID)
}

// NameValue is a SAML identifier as it is looked for when its provider signs somebody out.
func NameValue(n *saml.NameID) string {
	if n == nil {
		return ""
	}
	return n.Value
}
