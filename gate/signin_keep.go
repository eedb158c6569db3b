package gate

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"gorm.io/gorm"

	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/trace"
	"innergate/store"
)

// keep writes the sign-in and its trace in one transaction, and binds it to the browser.
func (g *Gate) keep(ctx context.Context, s *signIn, next *Next) error {
	secret := s.browser.SignIns[s.id]
	if secret == "" {
		secret = keys.NewSecret()
	}
	s.row.BrowserHash = keys.HashSecret(secret)
	sealed, err := json.Marshal(s.state)
	if err != nil {
		return err
	}
	s.row.State = g.Store.Sealer.Seal("signin/"+s.id, sealed)
	now := g.Now().UTC()
	record, err := g.traceRow(s, "open", "")
	if err != nil {
		return err
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		if s.known {
			if err := tx.Save(&s.row).Error; err != nil {
				return err
			}
			return tx.Save(record).Error
		}
		if err := g.roomFor(tx, s, now); err != nil {
			return err
		}
		if err := tx.Create(&s.row).Error; err != nil {
			return err
		}
		return tx.Create(record).Error
	})
	if errors.Is(err, store.ErrDuplicate) {
		return g.repeated(ctx, s, next)
	}
	if err != nil {
		return err
	}
	s.known = true
	next.SetSignIn, next.Secret = s.id, secret
	n := 0
	for id := range s.browser.SignIns {
		if id != s.id {
			if n++; n >= cookiesKept {
				next.DropSignIns = append(next.DropSignIns, id)
			}
		}
	}
	return nil
}

func (g *Gate) roomFor(tx *gorm.DB, s *signIn, now time.Time) error {
	var count int64
	if err := tx.Raw("SELECT count(*) FROM (SELECT 1 FROM sign_ins WHERE address = ? AND finished_at IS NULL AND expires_at > ? LIMIT ?)", s.row.Address, now, g.InFlight).Scan(&count).Error; err != nil {
		return err
	}
	if count >= int64(g.InFlight) {
		return explain.New("gate.busy", explain.Fact("address", s.row.Address))
	}
	return nil
}

// repeated handles a request whose ID came before: from the same browser, and not answered yet, the sign-in starts again; else it is refused.
func (g *Gate) repeated(ctx context.Context, s *signIn, next *Next) error {
	var old store.SignIn
	if err := g.Store.Read(ctx).Where("application_id = ? AND request_id = ?", s.row.ApplicationID, s.row.RequestID).Take(&old).Error; err != nil {
		return store.Clear(err)
	}
	failure := explain.New("saml.request-repeated", explain.Fact("request", s.row.RequestID))
	s.row.BrowserHash = nil
	if old.FinishedAt != nil || !keys.SecretFits(old.BrowserHash, s.browser.SignIns[old.ID]) {
		return failure
	}
	s.rec.Decide(trace.Decision{About: "sign-in", Result: "begun again in the same browser", By: "the request came before and was not answered"})
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
	return g.keep(ctx, s, next)
}

// resume finds a sign-in in flight for the browser that began it. It returns a sign-in to fail with even where it fails.
func (g *Gate) resume(ctx context.Context, b Browser, id string) (*signIn, error) {
	stranger := g.begin(b, "sp")
	stranger.rec.Begin(trace.Receive)
	var row store.SignIn
	if err := g.Store.Read(ctx).Where("id = ?", id).Take(&row).Error; err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return stranger, explain.New("browser.lost")
		}
		return stranger, store.Clear(err)
	}
	stranger.row.Flow = row.Flow
	if app, err := g.applicationByID(ctx, row.ApplicationID); err == nil {
		stranger.app = app
	}
	if !keys.SecretFits(row.BrowserHash, b.SignIns[id]) {
		return stranger, explain.New("browser.lost", explain.Fact("sign-in", row.Reference))
	}
	if row.FinishedAt != nil {
		return stranger, explain.New("browser.finished", explain.Fact("sign-in", row.Reference))
	}
	s := &signIn{id: row.ID, reference: row.Reference, row: row, browser: b, known: true}
	sealed, err := g.Store.Sealer.Open("signin/"+row.ID, row.State)
	if err == nil {
		err = json.Unmarshal(sealed, &s.state)
	}
	if err != nil {
		return stranger, err
	}
	s.began = s.state.Began
	s.rec = trace.NewRecorder(s.began, g.Now)
	g.replay(ctx, s)
	if s.app, err = g.applicationByID(ctx, row.ApplicationID); err != nil {
		return stranger, err
	}
	if row.ProviderID != "" {
		if s.provider, err = g.providerByID(ctx, row.ProviderID); err != nil {
			return stranger, err
		}
	}
	s.rec.Begin(trace.Receive)
	if row.RehearsalID != "" {
		var r store.Rehearsal
		if err := g.Store.Read(ctx).Where("id = ?", row.RehearsalID).Take(&r).Error; err != nil {
			return s, explain.New("rehearsal.over")
		}
		s.rehearsal = &r
		if err := g.override(ctx, s, false); err != nil {
			return s, err
		}
	}
	if g.Now().After(row.ExpiresAt) {
		return s, explain.New("browser.expired", explain.Pair("age", signInLife.String(), g.Now().Sub(row.CreatedAt).Round(time.Second).String()))
	}
	return s, nil
}
