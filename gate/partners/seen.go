package partners

import (
	"context"
	"sync"
	"time"

	"gorm.io/gorm"

	"innergate/core/words"
	"innergate/store"
)

const (
	seenAgain = 10 * time.Minute // after which the same is written down again
	seenKept  = 30 * 24 * time.Hour
	seenMost  = 20 // of one kind, for one partner
	seenHeld  = 10_000
)

// seen remembers for a while what was written down of partners, so that a partner who does the same with each sign-in costs a
// write from time to time, and no more.
type seen struct {
	mu   sync.Mutex
	last map[string]time.Time
}

func (s *seen) due(key string, now time.Time) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if now.Sub(s.last[key]) < seenAgain {
		return false
	}
	if s.last == nil || len(s.last) >= seenHeld {
		s.last = map[string]time.Time{}
	}
	s.last[key] = now
	return true
}

// See writes down what a partner does that its engineer should know of: kind is one of the store's Seen… constants, detail what
// tells one case from another, reference the trace in which it stands. A sign-in goes on whether it can be written or not.
func (g *Room) See(ctx context.Context, ownerID, kind, detail, reference string) {
	now, detail := g.Now().UTC(), words.Clip(detail, 200)
	if ownerID == "" || !g.seen.due(ownerID+"\x1f"+kind+"\x1f"+detail, now) {
		return
	}
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("DELETE FROM seens WHERE last_at < ?", now.Add(-seenKept)).Error; err != nil {
			return err
		}
		return tx.Exec("INSERT INTO seens (owner_id, kind, detail, reference, first_at, last_at) SELECT ?, ?, ?, ?, ?, ? "+
			"WHERE (SELECT count(*) FROM seens WHERE owner_id = ? AND kind = ? AND detail <> ?) < ? "+
			"ON CONFLICT DO UPDATE SET reference = excluded.reference, last_at = excluded.last_at",
			ownerID, kind, detail, reference, now, now, ownerID, kind, detail, seenMost).Error
	})
	if err != nil {
		g.Log.WarnContext(ctx, "what a partner did could not be written down", "kind", kind, "error", err)
	}
}

// Seen lists what a partner did since a time, the newest first.
func (g *Room) Seen(ctx context.Context, ownerID string, since time.Time) ([]store.Seen, error) {
	var rows []store.Seen
	err := g.Store.Read(ctx).Where("owner_id = ? AND last_at > ?", ownerID, since).Order("last_at DESC").Find(&rows).Error
	return rows, store.Clear(err)
}
