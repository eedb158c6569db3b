package traces

import (
	"context"
	"slices"
	"strings"
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
	return settleOutcome(tx, traceID, OutcomeSignedIn, "", takenUpFrom...)
}

// How a sign-in may stand whose application gets its tokens, and whose application is refused them.
var (
	takenUpFrom = []string{OutcomeWaiting, OutcomeNotTakenUp, OutcomeRefused}
	refusedFrom = []string{OutcomeWaiting, OutcomeNotTakenUp}
)

// KeepTakenUp notes that the application got its tokens, and what went over the back channel, and says whether this is the first
// time. The application has its tokens, whether that can be written or not.
func (g *Room) KeepTakenUp(ctx context.Context, traceID string, a *store.TraceAddition) bool {
	first := false
	if err := g.Store.Traces.Write(ctx, func(tx *gorm.DB) error {
		var err error
		if first, err = TakenUp(tx, traceID); err != nil {
			return err
		}
		return Add(tx, a)
	}); err != nil {
		g.Lost(ctx, err.Error())
		return false
	}
	if !first {
		g.settleElsewhere(ctx, settleQuestion{traceID, OutcomeSignedIn, "", takenUpFrom})
	}
	return first
}

// KeepAddition writes what happened on the back channel after a sign-in, where that can be written.
func (g *Room) KeepAddition(ctx context.Context, a *store.TraceAddition) {
	if err := g.Store.Traces.Write(ctx, func(tx *gorm.DB) error { return Add(tx, a) }); err != nil {
		g.Lost(ctx, err.Error())
	}
}

// KeepRefusedTaking notes that the application came with its code, and was refused, with what went over the back channel.
func (g *Room) KeepRefusedTaking(ctx context.Context, a *store.TraceAddition, code explain.Code) error {
	settled := false
	err := g.Store.Traces.Write(ctx, func(tx *gorm.DB) error {
		err := Add(tx, a)
		if err == nil {
			settled, err = settleOutcome(tx, a.TraceID, OutcomeRefused, string(code), refusedFrom...)
		}
		return err
	})
	if err == nil && !settled {
		g.settleElsewhere(ctx, settleQuestion{a.TraceID, OutcomeRefused, string(code), refusedFrom})
	}
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
	err := g.Store.Traces.Read(ctx).Omit("entries").Where("outcome = ? AND id < ?", OutcomeWaiting, store.FirstID(now.Add(-takeUpWithin))).
		Order("id").Limit(1000).Find(&rows).Error
	if err != nil {
		return store.Clear(err)
	}
	for _, t := range rows {
		if now.Sub(t.StartedAt.Add(time.Duration(t.Micros)*time.Microsecond)) > takeUpWithin {
			over = append(over, t)
		}
	}
	if over, err = g.leftOver(ctx, over); err != nil || len(over) == 0 {
		return err
	}
	err = g.Store.Traces.Write(ctx, func(tx *gorm.DB) error {
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

// leftOver are those of some sign-ins whose application did not come to another node either. Of those to which it did come, it is
// written how they went.
func (g *Room) leftOver(ctx context.Context, over []store.Trace) ([]store.Trace, error) {
	if g.Elsewhere == nil || len(over) == 0 {
		return over, nil
	}
	ids := make([]string, len(over))
	for i, t := range over {
		ids[i] = t.ID
	}
	came, err := Gather(ctx, g, g.Store.Traces.Read(ctx).Model(&store.TraceAddition{}).Omit("entries").Where("trace_id IN ?", ids),
		func(a, b store.TraceAddition) int { return strings.Compare(a.ID, b.ID) })
	if err != nil {
		return nil, err
	}
	for _, a := range came {
		q := settleQuestion{a.TraceID, OutcomeSignedIn, "", takenUpFrom}
		if a.Code != "" {
			q.Outcome, q.Code, q.Before = OutcomeRefused, a.Code, refusedFrom
		}
		if _, err := g.ownSettle(ctx, q); err != nil {
			return nil, err
		}
	}
	return slices.DeleteFunc(over, func(t store.Trace) bool {
		return slices.ContainsFunc(came, func(a store.TraceAddition) bool { return a.TraceID == t.ID })
	}), nil
}

// ReferenceOf is the reference of a trace, empty where it is gone.
func (g *Room) ReferenceOf(ctx context.Context, id string) string {
	rows, err := Gather(ctx, g, g.Store.Traces.Read(ctx).Model(&store.Trace{}).Select("reference").Where("id = ?", id).Limit(1), Newest)
	if err != nil || len(rows) == 0 {
		return ""
	}
	return rows[0].Reference
}
