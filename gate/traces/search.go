package traces

import (
	"context"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/people"
	"innergate/core/trace"
	"innergate/gate/ground"
	"innergate/store"
)

// TraceEntries reads a trace and its entries by its reference.
func (g *Room) TraceEntries(ctx context.Context, reference string) (*store.Trace, []trace.Entry, error) {
	row, _, err := g.find(ctx, reference)
	if err != nil {
		return nil, nil, err
	}
	entries, err := g.Entries(row)
	return row, entries, err
}

// Record finds the trace with a reference.
func (g *Room) Record(ctx context.Context, reference string) (*store.Trace, error) {
	row, _, err := g.find(ctx, reference)
	return row, err
}

const settingTraces = "traces"

// traceSearch narrows a query by a text: a reference number, a code, a message's ID, or how a person's name, mail
// address or user name begins. Each is looked for by an index. Names are looked for only on behalf of those who may see
// them.
func (g *Room) traceSearch(ctx context.Context, db *gorm.DB, text string, names bool) (*gorm.DB, error) {
	if trace.ReferenceForm.MatchString(text) {
		return db.Where("reference = ?", strings.ToUpper(text)), nil
	}
	var ids []string
	if err := g.Store.Traces.Read(ctx).Model(&store.TraceID{}).Where("value = ?", text).Order("trace_id DESC").Limit(50).Pluck("trace_id",
		&ids).Error; err != nil {
		return nil, store.Clear(err)
	}
	if len(ids) > 0 {
		return db.Where("id IN ?", ids), nil
	}
	var one []string
	coded, err := g.byCode(ctx, g.Store.Traces.Read(ctx).Model(&store.Trace{}), text)
	if err != nil {
		return nil, err
	}
	if err := coded.Limit(1).Pluck("id", &one).Error; err != nil {
		return nil, store.Clear(err)
	}
	if len(one) > 0 {
		return g.byCode(ctx, db, text)
	}
	key := people.SortKey(text)
	if key == "" || !names {
		return db.Where("1 = 0"), nil
	}
	var known []string
	end := key + "\U0010FFFF"
	if err := g.Store.Read(ctx).Raw("SELECT id FROM (SELECT id FROM people WHERE name_key >= ? AND name_key < ? UNION ALL SELECT id "+
		"FROM people WHERE last_key >= ? AND last_key < ? UNION ALL SELECT id FROM people WHERE email_key >= ? AND email_key < ? UNION "+
		"ALL SELECT id FROM people WHERE username_key >= ? AND username_key < ?) LIMIT 200",
		key, end, key, end, key, end, key, end).Scan(&known).Error; err != nil {
		return nil, store.Clear(err)
	}
	// Names of people whom nobody stores, and of those who were refused, stand in the traces alone.
	db, _, err = g.Store.Traces.Narrow(ctx, db, "traces", ofPeople(text, known))
	return db, err
}

// rehearsed is the way to the traces of rehearsals.
var rehearsed = store.Way{IDs: "SELECT id FROM traces WHERE rehearsal_id <> ''", Holds: "+rehearsal_id <> ''"}

// ofPeople is the way to the traces of people whose name begins so, or who are known.
func ofPeople(text string, known []string) store.Way {
	w := store.Way{
		IDs:   "SELECT id FROM traces WHERE person >= ? COLLATE NOCASE AND person < ? COLLATE NOCASE",
		Holds: "(+person >= ? COLLATE NOCASE AND +person < ? COLLATE NOCASE",
		Args:  []any{text, text + "\U0010FFFF"},
	}
	if len(known) > 0 {
		marks := strings.TrimSuffix(strings.Repeat("?, ", len(known)), ", ")
		w.IDs, w.Holds = w.IDs+" UNION ALL SELECT id FROM traces WHERE person_id IN ("+marks+")", w.Holds+" OR +person_id IN ("+marks+")"
		for _, id := range known {
			w.Args = append(w.Args, id)
		}
	}
	w.Holds += ")"
	return w
}

// keptTraces is how long traces are kept.
type keptTraces struct {
	Days  int `json:"days"`
	Count int `json:"count"`
}

// Retention is how long and how many traces are kept.
func (g *Room) Retention(ctx context.Context) (keptTraces, error) {
	k := keptTraces{Days: 90, Count: g.KeepTraces}
	var row store.Setting
	if err := g.Store.Read(ctx).Where("name = ?", settingTraces).Limit(1).Find(&row).Error; err != nil || row.Name == "" {
		return k, store.Clear(err)
	}
	return ground.DecodeBody[keptTraces](row.Value)
}

// TraceRetention is how long traces are kept, and how many there are.
func (g *Room) TraceRetention(ctx context.Context) (*api.TraceRetention, error) {
	k, err := g.Retention(ctx)
	if err != nil {
		return nil, err
	}
	v := &api.TraceRetention{Days: k.Days, Count: k.Count}
	var oldest store.Trace
	if err := g.Store.Traces.Read(ctx).Select("started_at").Order("id").Limit(1).Find(&oldest).Error; err != nil {
		return nil, store.Clear(err)
	}
	if !oldest.StartedAt.IsZero() {
		v.Oldest = &oldest.StartedAt
	}
	return v, nil
}

// SetTraceRetention says how long traces are kept: by age and by count, whichever is reached first.
func (g *Room) SetTraceRetention(ctx context.Context, who ground.Actor, in api.TraceRetention) (*api.TraceRetention, error) {
	if in.Days < 1 || in.Days > 3660 || in.Count < 1000 || in.Count > 10_000_000 {
		return nil, ground.BadRequest("retention", "Traces are kept for 1 to 3660 days, and 1,000 to 10,000,000 of them.", "")
	}
	before, err := g.Retention(ctx)
	if err != nil {
		return nil, err
	}
	fresh := keptTraces{Days: in.Days, Count: in.Count}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		return g.WriteSetting(tx, who, settingTraces, "how long traces are kept", before, fresh)
	})
	if err != nil {
		return nil, err
	}
	return g.TraceRetention(ctx)
}

// Tidy deletes some traces that are too old or too many. It does a part at a time, so that sign-ins don't wait for it.
func (g *Room) Tidy(t *ground.Tidying) error {
	tx := t.Tx
	now := t.Now
	k, err := g.Retention(tx.Statement.Context)
	if err != nil {
		return err
	}
	if err := tidyAdditions(tx, now); err != nil {
		return err
	}
	// Those of strangers go first, and have room of their own: however many there are, no other goes for them.
	if err := dropTraces(t, "SELECT id FROM traces WHERE stranger AND id <= (SELECT id FROM traces WHERE stranger ORDER BY id DESC "+
		"LIMIT 1 OFFSET ?) ORDER BY id LIMIT 500", strangersKept); err != nil {
		return err
	}
	if err := dropTraces(t, "SELECT id FROM traces WHERE id < ? ORDER BY id LIMIT 500", store.FirstID(now.AddDate(0, 0,
		-k.Days))); err != nil {
		return err
	}
	return dropTraces(t, "SELECT id FROM traces WHERE NOT stranger AND id <= (SELECT id FROM traces WHERE NOT stranger ORDER BY id DESC "+
		"LIMIT 1 OFFSET ?) ORDER BY id LIMIT 500", k.Count)
}

// strangersKept is how many traces are kept in which nobody has authenticated: the newest.
const strangersKept = 5000

// dropTraces deletes the traces that a query names, of which there are as many as one transaction may delete.
func dropTraces(t *ground.Tidying, query string, args ...any) error {
	var ids []string
	if err := t.Tx.Raw(query, args...).Scan(&ids).Error; err != nil {
		return err
	}
	t.More = t.More || len(ids) >= ground.AtOnce
	if len(ids) > 0 {
		for _, stmt := range []string{"DELETE FROM trace_ids WHERE trace_id IN ?", "DELETE FROM trace_additions WHERE trace_id IN ?",
			"DELETE FROM traces WHERE id IN ?"} {
			if err := t.Tx.Exec(stmt, ids).Error; err != nil {
				return fmt.Errorf("%s: %w", stmt, err)
			}
		}
	}
	return nil
}

// tidyAdditions deletes what was added to traces that are gone, and the middle of what is over its number.
func tidyAdditions(tx *gorm.DB, now time.Time) error {
	// Those of traces that are gone go with them. What came without one, or after it had gone, is looked for among those of
	// the last day alone.
	from, until := store.FirstID(now.Add(-25*time.Hour)), store.FirstID(now.Add(-time.Hour))
	const gone = "DELETE FROM trace_additions WHERE id IN (SELECT id FROM trace_additions WHERE id >= ? AND id < ? AND trace_id NOT IN " +
		"(SELECT id FROM traces) LIMIT ?)"
	if err := tx.Exec(gone, from, until, ground.AtOnce).Error; err != nil {
		return err
	}
	const crowded = "trace_id IN (SELECT trace_id FROM trace_additions WHERE trace_id IN (SELECT trace_id FROM trace_additions WHERE id " +
		">= ?) GROUP BY trace_id HAVING count(*) > ?)"
	return tx.Exec(
		"DELETE FROM trace_additions WHERE id IN (SELECT id FROM (SELECT id, "+AdditionPlace+" FROM trace_additions WHERE "+crowded+") "+
			"WHERE n > ? AND left >= ?)",
		store.FirstID(now.Add(-time.Hour)),
		FirstAdditions+LastAdditions,
		FirstAdditions,
		LastAdditions,
	).Error
}
