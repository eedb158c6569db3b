package signout

import (
	"context"

	"gorm.io/gorm"

	"innergate/gate/issued"
	"innergate/gate/partners"
	"innergate/gate/sessions"
	"innergate/store"
)

// EndGrants ends the grants of a provider's session, or of its subject where no session is named, and tells the
// applications.
func (g *Room) endProviderGrants(ctx context.Context, p *partners.Provider, subject, session, why string) (int, error) {
	now := g.Now().UTC()
	var ended []store.Grant
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		query := tx.Where("provider_id = ? AND ended_at IS NULL AND expires_at > ? AND NOT offline", p.ID, now)
		if subject != "" {
			query = query.Where("provider_subject = ?", subject)
		}
		if session != "" {
			query = query.Where("provider_session = ? AND provider_session <> ''", session)
		}
		if err := query.Limit(1000).Find(&ended).Error; err != nil {
			return err
		}
		for _, e := range ended {
			if err := issued.EndGrant(tx, e.ID, why, now); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return 0, err
	}
	var alone []store.Grant
	for _, e := range ended {
		if e.SessionID == "" {
			alone = append(alone, e)
		}
	}
	g.tellApplications(alone)
	return len(ended), g.endProviderSessions(ctx, p, subject, session, why)
}

// endProviderSessions ends the sessions at the gate in which a provider vouched for a subject, or in which its own
// session has this name. Their applications are told by the back channel.
func (g *Room) endProviderSessions(ctx context.Context, p *partners.Provider, subject, session, why string) error {
	query := g.Store.Read(ctx).Model(&store.SessionProof{}).Where("provider_id = ?", p.ID)
	if subject != "" {
		query = query.Where("subject = ?", subject)
	}
	if session != "" {
		query = query.Where("provider_session = ? AND provider_session <> ''", session)
	}
	var ids []string
	if err := query.Limit(1000).Pluck("session_id", &ids).Error; err != nil {
		return store.Clear(err)
	}
	if len(ids) == 0 {
		return nil
	}
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		for _, id := range ids {
			if err := sessions.EndSession(tx, id, why, g.Now().UTC()); err != nil {
				return err
			}
		}
		return nil
	})
	g.sessions.TellSoon()
	return err
}
