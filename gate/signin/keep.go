package signin

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"gorm.io/gorm"

	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/span"
	"innergate/core/trace"
	"innergate/store"
)

// Keep writes the sign-in and then its trace, and binds it to the browser.
func (g *Room) Keep(ctx context.Context, s *SignIn, next *Next) error {
	secret := s.Browser.SignIns[s.ID]
	if secret == "" {
		secret = keys.NewSecret()
	}
	s.Row.BrowserHash = keys.HashSecret(secret)
	var err error
	if s.State.Said, err = g.Carried(s); err != nil {
		return err
	}
	sealed, err := json.Marshal(s.State)
	if err != nil {
		return err
	}
	s.Row.State = g.Store.Sealer.Seal(store.PlaceSignIn, s.ID, sealed)
	now := g.Now().UTC()
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		if s.Known {
			return tx.Save(&s.Row).Error
		}
		if err := g.roomFor(tx, s, now); err != nil {
			return err
		}
		return tx.Create(&s.Row).Error
	})
	if errors.Is(err, store.ErrDuplicate) {
		return g.repeated(ctx, s, next)
	}
	if err != nil {
		return err
	}
	s.Known = true
	g.KeepOpen(ctx, s)
	next.SetSignIn, next.Secret = s.ID, secret
	n := 0
	for id := range s.Browser.SignIns {
		if id != s.ID {
			if n++; n >= cookiesKept {
				next.DropSignIns = append(next.DropSignIns, id)
			}
		}
	}
	return nil
}

// roomFor refuses a network that has begun too many sign-ins of late in which nobody was vouched for. Those that have
// ended count as well: whoever only begins and ends them must not have any number.
func (g *Room) roomFor(tx *gorm.DB, s *SignIn, now time.Time) error {
	var count int64
	if err := tx.Raw("SELECT count(*) FROM (SELECT 1 FROM sign_ins WHERE network = ? AND created_at > ? AND NOT vouched LIMIT ?)",
		s.Row.Network, now.Add(-Life), g.InFlight).Scan(&count).Error; err != nil {
		return err
	}
	if count >= int64(g.InFlight) {
		return explain.New(explain.GateBusy, explain.Fact("address", s.Row.Address))
	}
	return nil
}

// repeated handles a request whose ID came before: from the same browser, and not answered yet, the sign-in starts
// again; else it is refused.
func (g *Room) repeated(ctx context.Context, s *SignIn, next *Next) error {
	var old store.SignIn
	if err := g.Store.Read(ctx).Where("application_id = ? AND request_id = ?", s.Row.ApplicationID,
		s.Row.RequestID).Take(&old).Error; err != nil {
		return store.Clear(err)
	}
	failure := explain.New(explain.SAMLRequestRepeated, explain.Fact("request", s.Row.RequestID))
	s.Row.BrowserHash = nil
	if old.FinishedAt != nil || !keys.SecretFits(old.BrowserHash, s.Browser.SignIns[old.ID]) {
		return failure
	}
	s.Rec.Decide(
		trace.Decision{About: "sign-in", Result: "begun again in the same browser", By: "the request came before and was not answered"},
	)
	// The old one gives way: its answer, should it still come, finds nothing.
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		gone := tx.Where("id = ? AND finished_at IS NULL", old.ID).Delete(&store.SignIn{})
		if gone.Error == nil && gone.RowsAffected == 0 {
			return failure
		}
		return gone.Error
	})
	if err != nil {
		return err
	}
	next.DropSignIns = append(next.DropSignIns, old.ID)
	return g.Keep(ctx, s, next)
}

// Resume finds a sign-in in flight for the browser that began it. It returns a sign-in to fail with even where it
// fails.
func (g *Room) Resume(ctx context.Context, b Browser, id string) (*SignIn, error) {
	stranger := g.Begin(b, "sp")
	stranger.Rec.Begin(trace.Receive)
	var row store.SignIn
	if err := g.Store.Read(ctx).Where("id = ?", id).Take(&row).Error; err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return stranger, explain.New(explain.BrowserLost)
		}
		return stranger, store.Clear(err)
	}
	stranger.Row.Flow = row.Flow
	if app, err := g.partners.ApplicationByID(ctx, row.ApplicationID); err == nil {
		stranger.App = app
	}
	if !keys.SecretFits(row.BrowserHash, b.SignIns[id]) {
		return stranger, explain.New(explain.BrowserLost, explain.Fact("sign-in", row.Reference))
	}
	if row.FinishedAt != nil {
		return stranger, explain.New(explain.BrowserFinished, explain.Fact("sign-in", row.Reference))
	}
	s := &SignIn{ID: row.ID, Reference: row.Reference, Row: row, Browser: b, Known: true}
	sealed, err := g.Store.Sealer.Open(store.PlaceSignIn, row.ID, row.State)
	if err == nil {
		err = json.Unmarshal(sealed, &s.State)
	}
	if err != nil {
		return stranger, err
	}
	s.Began = s.State.Began
	s.Rec = trace.NewRecorder(s.Began, g.Now)
	g.Replay(ctx, s)
	if s.App, err = g.partners.ApplicationByID(ctx, row.ApplicationID); err != nil {
		return stranger, err
	}
	if row.ProviderID != "" {
		if s.Provider, err = g.partners.ProviderByID(ctx, row.ProviderID); err != nil {
			return stranger, err
		}
	}
	if err := s.consistent(); err != nil {
		return s, err
	}
	s.Rec.Begin(trace.Receive)
	if row.RehearsalID != "" {
		var r store.Rehearsal
		if err := g.Store.Read(ctx).Where("id = ?", row.RehearsalID).Take(&r).Error; err != nil {
			return s, explain.New(explain.RehearsalOver)
		}
		s.Rehearsal = &r
		if err := g.override(ctx, s, false); err != nil {
			return s, err
		}
	}
	if g.Now().After(row.ExpiresAt) {
		return s, explain.New(explain.BrowserExpired,
			explain.Pair("age", span.Words(Life), span.Words(g.Now().Sub(row.CreatedAt))))
	}
	return s, nil
}
