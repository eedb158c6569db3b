package traces

import (
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"innergate/core/trace"
	"innergate/store"
)

// Insert writes a new trace.
func Insert(tx *gorm.DB, t *store.Trace) error { return tx.Create(t).Error }

// Save writes a trace, new or as it is now.
func Save(tx *gorm.DB, t *store.Trace) error { return tx.Save(t).Error }

// Settle writes how a sign-in went: as a new trace, or over what was written of it when the person was sent to the provider.
func Settle(tx *gorm.DB, t *store.Trace) error {
	return tx.Clauses(clause.OnConflict{
		Columns: []clause.Column{{Name: "id"}},
		DoUpdates: clause.AssignmentColumns([]string{"person_id", "person", "outcome", "code", "entries", "micros",
			"provider_id", "provider",
			"subject", "subject_shown", "stranger"}),
		// What failed because another answer was quicker doesn't write over how the sign-in went.
		Where: clause.Where{Exprs: []clause.Expression{gorm.Expr("traces.outcome = 'open' OR excluded.outcome <> 'refused'")}},
	}).Create(t).Error
}

// Add writes what happened on the back channel after a sign-in.
func Add(tx *gorm.DB, a *store.TraceAddition) error {
	_, err := store.Exec(tx, "INSERT INTO trace_additions (id, trace_id, code, entries, at) VALUES (?, ?, ?, ?, ?)", a.ID, a.TraceID,
		a.Code, a.Entries, a.At)
	return err
}

// NoteEnd writes what leads to a trace that has ended, and counts it by the hour.
func NoteEnd(tx *gorm.DB, entries []trace.Entry, t *store.Trace, now time.Time) error {
	for _, id := range trace.IDsIn(entries) {
		if _, err := store.Exec(tx, "INSERT INTO trace_ids (value, trace_id) VALUES (?, ?) ON CONFLICT DO NOTHING", id, t.ID); err != nil {
			return err
		}
	}
	if t.RehearsalID != "" || !Ended(t.Outcome) {
		return nil
	}
	return count(tx, t, now.UTC().Truncate(time.Hour))
}
