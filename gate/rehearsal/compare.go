package rehearsal

import (
	"context"
	"slices"
	"time"

	"innergate/api"
	"innergate/core/files"
	"innergate/core/redact"
	"innergate/core/trace"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/traces"
	"innergate/store"
)

// CompareTraces lays two records side by side, names the first difference that matters, and tells what was changed in
// the configuration between them. Without a second reference it takes the newest good sign-in before the first: of the
// same person where there is one, else of anybody through the same passage. The elder comes first.
func (g *Room) CompareTraces(ctx context.Context, one, other string, personal bool) (*api.TraceComparison, error) {
	b, entriesB, err := g.traces.TraceEntries(ctx, one)
	if err != nil {
		return nil, err
	}
	if other == "" {
		if other, err = g.lastGood(ctx, b); err != nil {
			return nil, err
		}
	}
	a, entriesA, err := g.traces.TraceEntries(ctx, other)
	if err != nil {
		return nil, err
	}
	if a.ID == b.ID {
		return nil, ground.BadRequest("same-trace", "These are one and the same sign-in.", "Choose another to compare it with.")
	}
	if b.StartedAt.Before(a.StartedAt) {
		a, b, entriesA, entriesB = b, a, entriesB, entriesA
	}
	if !personal {
		for _, list := range [][]trace.Entry{entriesA, entriesB} {
			for i := range list {
				redact.Mask(&list[i])
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
	out := &api.TraceComparison{
		A:             g.traces.Summary(ctx, *a),
		B:             g.traces.Summary(ctx, *b),
		Rows:          []api.ComparedRow{},
		First:         first,
		Configuration: []api.ConfigurationChange{},
	}
	if !personal {
		out.A.Person, out.B.Person = redact.Masked(out.A.Person), redact.Masked(out.B.Person)
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
		out.Words = "The first difference that matters is at the step “" + string(
			r.Step,
		) + "”, " + r.Kind + " " + r.Name + ". " + r.Difference
	case a.Outcome == b.Outcome:
		out.Words = "Both went the same way; only times, identifiers and personal values differ."
	default:
		out.Words = "Nothing that was recorded tells why they ended otherwise."
	}
	for _, o := range []struct{ kind, id string }{{"application", a.ApplicationID}, {"provider", a.ProviderID},
		{"application", b.ApplicationID}, {"provider", b.ProviderID}} {
		if err := g.changedBetween(ctx, o.kind, o.id, a.StartedAt, b.StartedAt, out); err != nil {
			return nil, err
		}
	}
	return out, g.changedBeside(ctx, a, b, out)
}

// changedBeside adds what else was changed between two sign-ins and can matter to them: routes and other settings, rule
// sets, groups' assignments to the application, keys and secrets.
func (g *Room) changedBeside(ctx context.Context, a, b *store.Trace, out *api.TraceComparison) error {
	from, until := a.StartedAt.UTC(), b.StartedAt.UTC()
	var rows []store.Revision
	if err := g.Store.Read(ctx).Where("at > ? AND at <= ? AND (kind = 'setting' AND slug IN ('routes', 'sessions', 'people') OR kind "+
		"= 'rule set' OR kind = 'assignment' AND object_id LIKE ?)", from, until,
		b.ApplicationID+"/%").Order("at").Limit(50).Find(&rows).Error; err != nil {
		return store.Clear(err)
	}
	for _, r := range rows {
		v, err := g.changes.RevisionView(ctx, r)
		if err != nil {
			return err
		}
		if r.Kind == files.RuleSet {
			users, err := partners.SetUsers(g.Store.Read(ctx), r.Slug)
			if err != nil {
				return err
			}
			if !slices.ContainsFunc(users, func(u api.Reference) bool { return u.Name == b.Application || u.Name == b.Provider }) {
				continue
			}
		}
		out.Configuration = append(
			out.Configuration,
			api.ConfigurationChange{
				Object:   api.Reference{Kind: r.Kind, Slug: r.Slug, Name: r.Name},
				Revision: r.Number,
				By:       r.Author,
				At:       r.At,
				Changes:  v.Changes,
			},
		)
	}
	var entries []store.JournalEntry
	if err := g.Store.Read(ctx).Where("at > ? AND at <= ? AND (kind = 'key' OR kind IN ('client secret', 'secret') AND object_id IN ?)",
		from, until, []string{a.ApplicationID, a.ProviderID, b.ApplicationID,
			b.ProviderID}).Order("number").Limit(50).Find(&entries).Error; err != nil {
		return store.Clear(err)
	}
	for _, e := range entries {
		out.Configuration = append(
			out.Configuration,
			api.ConfigurationChange{
				Object:  api.Reference{Kind: e.Kind, Name: e.Object},
				By:      e.Who,
				At:      e.At,
				Changes: []api.Change{{Field: e.Action, Before: e.Before, After: e.After}},
			},
		)
	}
	return nil
}

// lastGood finds the sign-in that a bad one is best compared with.
func (g *Room) lastGood(ctx context.Context, t *store.Trace) (string, error) {
	for _, person := range []string{t.PersonID, ""} {
		db := g.Store.Traces.Read(ctx).Model(&store.Trace{}).Select("reference", "id").Where("application_id = ? "+
			"AND outcome = 'signed-in' AND "+
			"id < ?", t.ApplicationID, t.ID)
		if t.ProviderID != "" {
			db = db.Where("provider_id = ?", t.ProviderID)
		}
		if person != "" {
			db = db.Where("person_id = ?", person)
		}
		good, err := traces.Gather(ctx, g.traces, db.Order("id DESC").Limit(1), traces.Newest)
		if err != nil {
			return "", err
		}
		if len(good) > 0 {
			return good[0].Reference, nil
		}
	}
	return "", ground.Conflict(
		"no-good-one", "There is no earlier sign-in to this application that went well.",
		"Give the reference number of the one to compare with.",
	)
}

// changedBetween adds what was changed of an object between two times, once.
func (g *Room) changedBetween(ctx context.Context, kind, id string, from, until time.Time, out *api.TraceComparison) error {
	if id == "" {
		return nil
	}
	var rows []store.Revision
	if err := g.Store.Read(ctx).Where("object_id = ? AND at > ? AND at <= ?", id, from.UTC(),
		until.UTC()).Order("number").Limit(50).Find(&rows).Error; err != nil {
		return store.Clear(err)
	}
	if len(rows) == 0 {
		return nil
	}
	ref, err := g.Reference(ctx, kind, id)
	if err != nil {
		return err
	}
	for _, r := range rows {
		before, err := store.One[store.Revision](g.Store.Read(ctx), "object_id = ? AND number = ?", id, r.Number-1)
		if err != nil {
			return err
		}
		c := api.ConfigurationChange{
			Object:   *ref,
			Revision: r.Number,
			By:       r.Author,
			At:       r.At,
			Changes:  ground.BodyChanges(before.Body, r.Body),
		}
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
