package traces

import (
	"context"
	"time"

	"gorm.io/gorm"

	"innergate/core/explain"
	"innergate/store"
)

// What a trace says of how a sign-in went.
const (
	OutcomeOpen       = "open"         // the person is on the way
	OutcomeWaiting    = "waiting"      // an OpenID Connect application has its code, and did not come for its tokens yet
	OutcomeSignedIn   = "signed-in"    // the application has what it asked for
	OutcomeNotTakenUp = "not-taken-up" // the application did not come for its tokens
	OutcomeRefused    = "refused"
)

// takeUpWithin is how long an application has to come with its code until its sign-in counts as not taken up.
const takeUpWithin = time.Minute

// Ended says whether nothing more is to come of a sign-in by itself.
func Ended(outcome string) bool { return outcome != OutcomeOpen && outcome != OutcomeWaiting }

// TakenUp notes that the application got its tokens, whatever went wrong with its requests before, and says whether this is
// the first time.
func TakenUp(tx *gorm.DB, traceID string) (bool, error) {
	return settleOutcome(tx, traceID, OutcomeSignedIn, "", OutcomeWaiting, OutcomeNotTakenUp, OutcomeRefused)
}

// RefusedTaking notes that the application came with its code, and was refused.
func RefusedTaking(tx *gorm.DB, traceID string, code explain.Code) error {
	_, err := settleOutcome(tx, traceID, OutcomeRefused, string(code), OutcomeWaiting, OutcomeNotTakenUp)
	return err
}

// settleOutcome writes how a sign-in that an application must take up went, if it stands as one of those before. It is counted
// in the hour in which it began, so that what is counted already can be counted otherwise.
func settleOutcome(tx *gorm.DB, traceID, outcome, code string, before ...string) (bool, error) {
	var t store.Trace
	if err := tx.Omit("entries").Where("id = ? AND outcome IN ?", traceID, before).Limit(1).Find(&t).Error; err != nil || t.ID == "" {
		return false, err
	}
	if err := tx.Model(&store.Trace{ID: t.ID}).Updates(map[string]any{"outcome": outcome, "code": code}).Error; err != nil {
		return false, err
	}
	if t.RehearsalID != "" {
		return true, nil
	}
	hour := t.StartedAt.UTC().Truncate(time.Hour)
	if t.Outcome != OutcomeWaiting {
		_, err := store.Exec(
			tx,
			"UPDATE sign_in_counts SET count = count - 1 WHERE hour = ? AND application_id = ? AND provider_id = ? AND outcome = ? AND "+
				"code = ? AND count > 0",
			hour, t.ApplicationID, t.ProviderID, t.Outcome, t.Code,
		)
		if err != nil {
			return false, err
		}
	}
	t.Outcome, t.Code = outcome, code
	return true, count(tx, &t, hour)
}

// count adds a sign-in that has ended to those of its hour.
func count(tx *gorm.DB, t *store.Trace, hour time.Time) error {
	_, err := store.Exec(tx,
		"INSERT INTO sign_in_counts (hour, application_id, provider_id, outcome, code, count) VALUES (?, ?, ?, ?, ?, 1) ON CONFLICT "+
			"(hour, application_id, provider_id, outcome, code) DO UPDATE SET count = count + 1",
		hour, t.ApplicationID, t.ProviderID, t.Outcome, t.Code)
	return err
}

// EndUnfetched ends the sign-ins whose application did not come with its code within a minute, and writes that down of the
// application for its engineer.
func (g *Room) EndUnfetched(ctx context.Context) error {
	now := g.Now()
	var rows, over []store.Trace
	err := g.Store.Read(ctx).Omit("entries").Where("outcome = ? AND id < ?", OutcomeWaiting, store.FirstID(now.Add(-takeUpWithin))).
		Order("id").Limit(1000).Find(&rows).Error
	if err != nil {
		return store.Clear(err)
	}
	for _, t := range rows {
		if now.Sub(t.StartedAt.Add(time.Duration(t.Micros)*time.Microsecond)) > takeUpWithin {
			over = append(over, t)
		}
	}
	if len(over) == 0 {
		return nil
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		for _, t := range over {
			if _, err := settleOutcome(tx, t.ID, OutcomeNotTakenUp, string(explain.OIDCCodeUnfetched), OutcomeWaiting); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, t := range over {
		g.partners.See(ctx, t.ApplicationID, store.SeenCodeUnfetched, "through "+t.Provider, t.Reference)
	}
	return nil
}

// ReferenceOf is the reference of a trace, empty where it is gone.
func (g *Room) ReferenceOf(ctx context.Context, id string) string {
	var row store.Trace
	if g.Store.Read(ctx).Select("reference").Where("id = ?", id).Limit(1).Find(&row).Error != nil {
		return ""
	}
	return row.Reference
}
