package sessions

import (
	"context"
	"slices"
	"strings"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/config"
	"innergate/core/keys"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/store"
)

// Filter narrows a list of sessions.
type Filter struct {
	Person, Provider, Application string // person by ID, the others by short name
	// Ended lists those that are over as well.
	Ended bool
}

// provedBy is the way to the sessions in which a provider vouched for somebody, usedFor to those that went to an application,
// searched to those of people whose name begins so, or of an address.
func provedBy(id string) store.Way {
	return store.Way{
		IDs:   "SELECT session_id FROM session_proofs WHERE provider_id = ?",
		Holds: "EXISTS (SELECT 1 FROM session_proofs p WHERE p.session_id = sessions.id AND p.provider_id = ?)",
		Args:  []any{id},
	}
}

func usedFor(id string) store.Way {
	return store.Way{
		IDs:   "SELECT session_id FROM session_uses WHERE application_id = ?",
		Holds: "EXISTS (SELECT 1 FROM session_uses u WHERE u.session_id = sessions.id AND u.application_id = ?)",
		Args:  []any{id},
	}
}

func searched(text string) store.Way {
	return store.Way{
		IDs: "SELECT id FROM sessions WHERE person >= ? COLLATE NOCASE AND person < ? COLLATE NOCASE UNION ALL SELECT id FROM sessions " +
			"WHERE address = ?",
		Holds: "(+person >= ? COLLATE NOCASE AND +person < ? COLLATE NOCASE OR +address = ?)",
		Args:  []any{text, text + "\U0010FFFF", text},
	}
}

// Sessions lists them, the newest first.
func (g *Room) Sessions(ctx context.Context, p store.Page, f Filter) (*api.List[api.Session], error) {
	db := g.Store.Read(ctx).Omit("sealed").Where("rehearsal_id = ''").Order("id DESC").Limit(ground.LimitOf(p) + 1)
	if p.After != "" {
		db = db.Where("id < ?", p.After)
	}
	if !f.Ended {
		limits, err := g.Limits(ctx)
		if err != nil {
			return nil, err
		}
		db = db.Where("ended_at IS NULL AND +expires_at > ? AND last_used > ?", g.Now().UTC(), g.Now().Add(-limits.Idle()).UTC())
	}
	var ways []store.Way
	if f.Person != "" {
		db = db.Where("person_id = ?", f.Person)
	}
	if f.Provider != "" {
		pr, err := g.partners.Provider(ctx, f.Provider)
		if err != nil {
			return nil, err
		}
		ways = append(ways, provedBy(pr.ID))
	}
	if f.Application != "" {
		a, err := g.partners.Application(ctx, f.Application)
		if err != nil {
			return nil, err
		}
		ways = append(ways, usedFor(a.ID))
	}
	if q := strings.TrimSpace(p.Search); q != "" {
		ways = append(ways, searched(q))
	}
	db, _, err := g.Store.Narrow(ctx, db, "sessions", ways...)
	if err != nil {
		return nil, err
	}
	var rows []store.Session
	if err := db.Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	return ground.PageOf(p, rows, func(s *store.Session) string { return s.ID }, func(s *store.Session) (*api.Session, error) {
		return g.sessionView(ctx, *s)
	})
}

func (g *Room) sessionView(ctx context.Context, row store.Session) (*api.Session, error) {
	v := &api.Session{
		ID:           row.ID,
		PersonID:     row.PersonID,
		Person:       row.Person,
		Address:      row.Address,
		Device:       words.Device(row.Device),
		Began:        row.CreatedAt,
		LastUsed:     row.LastUsed,
		Ends:         row.ExpiresAt,
		Persistent:   row.Persistent,
		Providers:    []api.SessionProvider{},
		Applications: []api.SessionApplication{},
		Ended:        row.EndedAt,
		EndedBy:      row.EndedBy,
	}
	var proofs []store.SessionProof
	if err := g.Store.Read(ctx).Where("session_id = ?", row.ID).Order("at").Find(&proofs).Error; err != nil {
		return nil, store.Clear(err)
	}
	for _, p := range proofs {
		one := api.SessionProvider{Name: "a provider that was deleted", At: p.At, Strength: p.Strength}
		if held, err := g.partners.ProviderByID(ctx, p.ProviderID); err == nil {
			one.Name, one.Slug = held.Name, held.Slug
		}
		v.Providers = append(v.Providers, one)
	}
	var uses []store.SessionUse
	if err := g.Store.Read(ctx).Where("session_id = ?", row.ID).Order("last_at DESC").Limit(200).Find(&uses).Error; err != nil {
		return nil, store.Clear(err)
	}
	for _, u := range uses {
		one := api.SessionApplication{Name: "an application that was deleted", At: u.LastAt, Told: u.Told}
		if a, err := g.partners.ApplicationByID(ctx, u.ApplicationID); err == nil {
			one.Name, one.Slug = a.Name, a.Slug
		}
		v.Applications = append(v.Applications, one)
	}
	return v, nil
}

// EndSessionByID ends a session for an administrator, and has its applications told.
func (g *Room) EndSessionByID(ctx context.Context, who ground.Actor, id string) error {
	now := g.Now().UTC()
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		var row store.Session
		if err := tx.Omit("sealed").Where("id = ? AND rehearsal_id = ''", id).Take(&row).Error; err != nil {
			return ground.Missing(err, "session", id)
		}
		if err := EndSession(tx, id, "ended by "+who.Name, now); err != nil {
			return err
		}
		return ground.Journal(
			tx, now, who, "ended a session of", "person", row.PersonID, row.Person,
			words.Device(row.Device)+", "+row.Address, "",
		)
	})
	if err == nil {
		g.TellSoon()
	}
	return err
}

// EndSessionsOf ends all sessions of a person, and everything that came of them; access while the person is away goes
// on.
func (g *Room) EndSessionsOf(ctx context.Context, who ground.Actor, personID string) error {
	now := g.Now().UTC()
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		var p store.Person
		if err := tx.Where("id = ?", personID).Take(&p).Error; err != nil {
			return ground.Missing(err, "person", personID)
		}
		if err := EndSessionsOf(tx, personID, "ended by "+who.Name, now); err != nil {
			return err
		}
		return ground.Journal(tx, now, who, "ended all sessions of", "person", p.ID, p.Name, "", "")
	})
	if err == nil {
		g.TellSoon()
	}
	return err
}

// SessionLimits are the gate's own limits.
func (g *Room) SessionLimits(ctx context.Context) (*api.SessionLimits, error) {
	s, err := g.Limits(ctx)
	return &s, err
}

// SetSessionLimits replaces them. They count at once, for the sessions that are open as well; only when those end at
// the latest stays as it was.
func (g *Room) SetSessionLimits(ctx context.Context, who ground.Actor, s config.Sessions) (*api.SessionLimits, error) {
	if err := s.Validate(); err != nil {
		return nil, ground.Invalid(err)
	}
	before, err := g.Limits(ctx)
	if err != nil {
		return nil, err
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		return g.WriteSetting(tx, who, settingSessions, "limits of sessions", before, s)
	})
	if err != nil {
		return nil, err
	}
	return &s, nil
}

// OwnSessions lists the sessions of whoever a browser's session is of, for the person; nothing where there is none.
func (g *Room) OwnSessions(ctx context.Context, h *HeldSession, token string) ([]api.Session, error) {
	if h.PersonID == "" {
		v, err := g.sessionView(ctx, h.Session)
		if err != nil {
			return nil, err
		}
		v.Here = true
		return []api.Session{*v}, nil
	}
	list, err := g.Sessions(ctx, store.Page{Limit: 50}, Filter{Person: h.PersonID})
	if err != nil {
		return nil, err
	}
	for i := range list.Items {
		list.Items[i].Here = list.Items[i].ID == h.ID && keys.SecretFits(h.TokenHash, token)
	}
	slices.SortStableFunc(list.Items, func(a, b api.Session) int {
		if a.Here != b.Here && a.Here {
			return -1
		}
		return 0
	})
	return list.Items, nil
}
