package sessions

import (
	"context"
	"time"

	"innergate/store"
)

// LastUse is when the application was last gone to in the session, if ever.
func (g *Room) LastUse(ctx context.Context, sessionID, applicationID string) (time.Time, error) {
	var row store.SessionUse
	err := g.Store.Read(ctx).
		Select("last_at").
		Where("session_id = ? AND application_id = ?", sessionID, applicationID).
		Limit(1).
		Find(&row).
		Error
	return row.LastAt, store.Clear(err)
}
