package demo

import (
	"context"
	"math/rand/v2"
	"time"

	"gorm.io/gorm"

	"innergate/core/trace"
	"innergate/gate/traces"
	"innergate/store"
)

// perHour is how many people sign in within an hour of a working day at Saltmere: the early watch, the office, the late
// ferries.
var perHour = [24]int{0: 2, 1: 1, 4: 6, 5: 34, 6: 52, 7: 71, 8: 64, 9: 38, 10: 27, 11: 22, 12: 41, 13: 36, 14: 23, 15: 19, 16: 26,
	17: 33, 18: 18, 19: 11, 20: 14, 21: 7, 22: 4, 23: 3}

// Rhythm fills the week that Week made with some thousands of sign-ins, so that charts and lists look as they do in a
// company: each is a copy of one of the week's own, of the same day where one was refused there, with a time of its own.
// Where there are more than the week's own already it does nothing.
func (w *World) Rhythm(ctx context.Context) error {
	good, bad, some, err := w.originals(ctx)
	if err != nil || some >= 200 || len(good) == 0 {
		return err
	}
	r := rand.New(rand.NewPCG(7, 1924)) // the same week each time
	today := time.Now().Truncate(time.Hour)
	for back := 7 * 24; back >= 1; back-- {
		hour := today.Add(-time.Duration(back) * time.Hour)
		if err := w.store.Traces.Write(ctx, func(tx *gorm.DB) error { return w.fill(tx, r, hour, good, bad) }); err != nil {
			return err
		}
	}
	return nil
}

// original is one of the week's own sign-ins, and its entries as they are packed.
type original struct {
	row    store.Trace
	packed []byte
}

// originals are the sign-ins that really were made here, those that went well and those that were refused, and how many
// traces were looked at for them.
func (w *World) originals(ctx context.Context) (good, bad []original, looked int, err error) {
	var rows []store.Trace
	if err := w.store.Traces.Read(ctx).Order("id").Limit(200).Find(&rows).Error; err != nil {
		return nil, nil, 0, store.Clear(err)
	}
	for _, t := range rows {
		if t.RehearsalID != "" || !traces.Ended(t.Outcome) {
			continue
		}
		plain, err := w.store.Sealer.Open(store.PlaceTrace, t.ID, t.Entries)
		if err != nil {
			return nil, nil, 0, err
		}
		if o := (original{t, plain}); t.Outcome == traces.OutcomeSignedIn {
			good = append(good, o)
		} else {
			bad = append(bad, o)
		}
	}
	return good, bad, len(rows), nil
}

// fill adds an hour's sign-ins.
func (w *World) fill(tx *gorm.DB, r *rand.Rand, hour time.Time, good, bad []original) error {
	n := perHour[hour.Hour()]
	if day := hour.Weekday(); day == time.Saturday || day == time.Sunday {
		n /= 3
	}
	for range n {
		from := good
		// One of fifty is refused, and more of them in the hours in which something was wrong.
		for _, b := range bad {
			if d := b.row.StartedAt.Sub(hour); d >= -time.Hour && d < 2*time.Hour && r.IntN(3) == 0 {
				from = []original{b}
			}
		}
		if len(bad) > 0 && r.IntN(50) == 0 {
			from = bad
		}
		o := from[r.IntN(len(from))]
		t, at := o.row, hour.Add(time.Duration(r.IntN(3600))*time.Second)
		t.ID, t.Reference, t.StartedAt = store.NewIDAt(at), trace.NewReference(), at
		t.Entries = w.store.Sealer.Seal(store.PlaceTrace, t.ID, o.packed)
		if err := traces.Insert(tx, &t); err != nil {
			return err
		}
		if err := traces.NoteEnd(tx, nil, &t, at); err != nil {
			return err
		}
	}
	return nil
}
