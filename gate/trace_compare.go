package gate

import (
	"context"
	"time"

	"innergate/api"
	"innergate/core/trace"
	"innergate/store"
)

// CompareTraces lays two records side by side, names the first difference that matters, and tells what was changed in the configuration between them. Without a second
// reference it takes the newest good sign-in before the first: of the same person where there is one, else of anybody through the same passage. The elder comes first.
func (g *Gate) CompareTraces(ctx context.Context, one, other string, personal bool) (*api.TraceComparison, error) {
	b, entriesB, err := g.traceEntries(ctx, one)
	if err != nil {
		return nil, err
	}
	if other == "" {
		if other, err = g.lastGood(ctx, b); err != nil {
			return nil, err
		}
	}
	a, entriesA, err := g.traceEntries(ctx, other)
	if err != nil {
		return nil, err
	}
	if a.ID == b.ID {
		return nil, badRequest("same-trace", "These are one and the same sign-in.", "Choose another to compare it with.")
	}
	if b.StartedAt.Before(a.StartedAt) {
		a, b, entriesA, entriesB = b, a, entriesB, entriesA
	}
	if !personal {
		for _, list := range [][]trace.Entry{entriesA, entriesB} {
			for i := range list {
				mask(&list[i])
			}
		}
	}
	for _, list := range [][]trace.Entry{entriesA, entriesB} {
		for i := range list { // the messages themselves stand in the traces
			if m := list[i].Message; m != nil {
				copied := *m
				copied.Raw = ""
				if copied.Opened != "" {
					copied.Opened = "encrypted"
				}
				list[i].Message = &copied
			}
		}
	}
	rows, first := trace.Compare(entriesA, entriesB, a.Subject != b.Subject || a.PersonID != b.PersonID)
	out := &api.TraceComparison{A: g.summary(ctx, *a), B: g.summary(ctx, *b), Rows: []api.ComparedRow{}, First: first, Configuration: []api.ConfigurationChange{}}
	if !personal {
		out.A.Person, out.B.Person = masked(out.A.Person), masked(out.B.Person)
	}
	for _, r := range rows {
		shown := api.ComparedRow{Step: r.Step, Kind: r.Kind, Name: r.Name, Difference: r.Difference, Matters: r.Matters}
		if r.A != nil {
			shown.A = &api.TraceEntry{Entry: *r.A}
		}
		if r.B != nil {
			shown.B = &api.TraceEntry{Entry: *r.B}
		}
		out.Rows = append(out.Rows, shown)
	}
	switch {
	case first >= 0:
		r := rows[first]
		out.Words = "The first difference that matters is at the step “" + string(r.Step) + "”, " + r.Kind + " " + r.Name + ". " + r.Difference
	case a.Outcome == b.Outcome:
		out.Words = "Both went the same way; only times, identifiers and personal values differ."
	default:
		out.Words = "Nothing that was recorded tells why they ended otherwise."
	}
	for _, o := range []struct{ kind, id string }{{"application", a.ApplicationID}, {"provider", a.ProviderID}, {"application", b.ApplicationID}, {"provider", b.ProviderID}} {
		if err := g.changedBetween(ctx, o.kind, o.id, a.StartedAt, b.StartedAt, out); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// lastGood finds the sign-in that a bad one is best compared with.
func (g *Gate) lastGood(ctx context.Context, t *store.Trace) (string, error) {
	var good store.Trace
	for _, person := range []string{t.PersonID, ""} {
		db := g.Store.Read(ctx).Select("reference").Where("application_id = ? AND outcome = 'signed-in' AND id < ?", t.ApplicationID, t.ID)
		if t.ProviderID != "" {
			db = db.Where("provider_id = ?", t.ProviderID)
		}
		if person != "" {
			db = db.Where("person_id = ?", person)
		}
		if err := db.Order("id DESC").Limit(1).Find(&good).Error; err != nil {
			return "", store.Clear(err)
		}
		if good.Reference != "" {
			return good.Reference, nil
		}
	}
	return "", conflict("no-good-one", "There is no earlier sign-in to this application that went well.", "Give the reference number of the one to compare with.")
}

// changedBetween adds what was changed of an object between two times, once.
func (g *Gate) changedBetween(ctx context.Context, kind, id string, from, until time.Time, out *api.TraceComparison) error {
	if id == "" {
		return nil
	}
	var rows []store.Revision
	if err := g.Store.Read(ctx).Where("object_id = ? AND at > ? AND at <= ?", id, from.UTC(), until.UTC()).Order("number").Limit(50).Find(&rows).Error; err != nil {
		return store.Clear(err)
	}
	if len(rows) == 0 {
		return nil
	}
	ref, err := g.reference(ctx, kind, id)
	if err != nil {
		return err
	}
	for _, r := range rows {
		var before store.Revision
		if err := g.Store.Read(ctx).Where("object_id = ? AND number = ?", id, r.Number-1).Limit(1).Find(&before).Error; err != nil {
			return store.Clear(err)
		}
		c := api.ConfigurationChange{Object: *ref, Revision: r.Number, By: r.Author, At: r.At, Changes: bodyChanges(before.Body, r.Body)}
		known := false
		for _, held := range out.Configuration {
			known = known || held.Object.Kind == kind && held.Object.Slug == ref.Slug && held.Revision == r.Number
		}
		if !known {
			out.Configuration = append(out.Configuration, c)
		}
	}
	return nil
}
