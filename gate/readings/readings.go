package readings

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

// How a reading stands.
const (
	Looking   = "looking" // it is read, and nothing is written
	Looked    = "looked"  // what would come of it is known
	Writing   = "writing"
	Asking    = "asking" // more are gone than may be at once; somebody has to agree
	Done      = "done"
	Stopped   = "stopped" // it failed, or the service was stopped; it can be begun again
	Cancelled = "cancelled"
)

// kept is how many readings of a directory are kept.
const kept = 50

// New begins a reading: it looks what would come of it, or writes, which it does only where somebody has looked before.
func (g *Room) New(ctx context.Context, who ground.Actor, slug string, in api.NewReading) (*api.Reading, error) {
	p, err := g.provider(ctx, slug)
	if err != nil {
		return nil, err
	}
	before, err := g.lastDone(ctx, p.ID, false)
	if err != nil {
		return nil, err
	}
	if in.Write && before.ID == "" {
		return nil, ground.Conflict("not-looked", "Nobody was read from "+p.Name+" yet.",
			"Look first what would come of it, and then write what was looked at.")
	}
	now := g.Now().UTC()
	row := &store.Reading{ID: store.NewID(), ProviderID: p.ID, State: Looking, OnlyChanged: in.Changed, By: who.Name, Problems: "[]",
		GoneNames: "[]", StartedAt: now, UpdatedAt: now}
	if in.Write {
		row.State = Writing
	}
	if in.Changed {
		if before.ID == "" {
			return nil, ground.Conflict("not-whole", "Nobody was read from "+p.Name+" yet, so it is not known what changed since.",
				"Read the whole of it first.")
		}
		if before.Newest == "" {
			return nil, ground.Conflict("no-changes", "No entry of "+p.Name+" says when it was changed ("+p.LDAP.Reading.ChangedBy+").",
				"Let the gate's own entry read that attribute, choose another one, or read the whole each time.")
		}
		row.Since = before.Newest
	}
	return g.begin(ctx, who, p, row)
}

// Write writes what was looked at, goes on with what was stopped, or agrees that so many are gone.
func (g *Room) Write(ctx context.Context, who ground.Actor, slug, id string) (*api.Reading, error) {
	p, err := g.provider(ctx, slug)
	if err != nil {
		return nil, err
	}
	row, err := g.row(ctx, p.ID, id)
	if err == nil {
		row, err = g.settled(ctx, row)
	}
	if err != nil {
		return nil, err
	}
	if !slices.Contains([]string{Looked, Asking, Stopped}, row.State) && !g.dead(row) {
		return nil, ground.Conflict("reading-state", "This reading is "+row.State+".", "Begin another one.")
	}
	if row.State == Asking {
		row.Agreed = row.Gone
	}
	fresh := &store.Reading{ID: row.ID, ProviderID: p.ID, State: Writing, OnlyChanged: row.OnlyChanged, Since: row.Since, By: row.By,
		Agreed: row.Agreed, Problems: "[]", GoneNames: "[]", StartedAt: row.StartedAt, UpdatedAt: g.Now().UTC()}
	return g.begin(ctx, who, p, fresh)
}

// begin sets a reading to work, unless one of the same directory is, here or at another node.
func (g *Room) begin(ctx context.Context, who ground.Actor, p *partners.Provider, row *store.Reading) (*api.Reading, error) {
	var others []store.Reading
	if err := g.Store.Read(ctx).Where("provider_id = ? AND state IN ? AND id <> ?", p.ID, []string{Looking, Writing},
		row.ID).Find(&others).Error; err != nil {
		return nil, store.Clear(err)
	}
	if slices.ContainsFunc(others, func(o store.Reading) bool { return !g.dead(&o) }) {
		return nil, busyReading(p.Name)
	}
	work, stop := context.WithCancel(context.WithoutCancel(ctx))
	g.mu.Lock()
	_, busy := g.running[p.ID]
	if !busy {
		g.running[p.ID] = stop
	}
	g.mu.Unlock()
	if busy {
		stop()
		return nil, busyReading(p.Name)
	}
	ended := func() {
		stop()
		g.mu.Lock()
		defer g.mu.Unlock()
		delete(g.running, p.ID)
	}
	if err := g.save(ctx, row); err != nil {
		ended()
		return nil, err
	}
	view := g.view(row)
	go func() {
		defer ended()
		j := &job{Room: g, p: p, row: row, who: who}
		if err := j.run(work); err != nil {
			row.State, row.Note = Stopped, words.Capitalise(err.Error())
			if work.Err() != nil {
				row.State, row.Note = Cancelled, "It was cancelled. What was written stays."
			}
		}
		row.UpdatedAt = g.Now().UTC()
		if err := g.save(context.WithoutCancel(work), row); err != nil {
			g.Log.ErrorContext(ctx, "how a reading stands could not be written", "reading", row.ID, "error", err)
		}
	}()
	return view, nil
}

func busyReading(name string) error {
	return ground.Conflict("reading-busy", "People are being read from "+name+" just now.", "Wait for it, or cancel it.")
}

// Cancel ends a reading. What was written stays.
func (g *Room) Cancel(ctx context.Context, who ground.Actor, slug, id string) error {
	p, err := g.provider(ctx, slug)
	if err != nil {
		return err
	}
	row, err := g.row(ctx, p.ID, id)
	if err != nil {
		return err
	}
	g.mu.Lock()
	stop := g.running[p.ID]
	g.mu.Unlock()
	if stop != nil && (row.State == Looking || row.State == Writing) {
		stop()
		return nil
	}
	if row.State == Done || row.State == Cancelled {
		return nil
	}
	row.State, row.Note, row.UpdatedAt = Cancelled, "It was cancelled by "+who.Name+".", g.Now().UTC()
	return g.save(ctx, row)
}

// List are the newest readings of a directory.
func (g *Room) List(ctx context.Context, slug string) (*api.List[api.Reading], error) {
	p, err := g.provider(ctx, slug)
	if err != nil {
		return nil, err
	}
	var rows []store.Reading
	if err := g.Store.Read(ctx).Where("provider_id = ?", p.ID).Order("id DESC").Limit(20).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[api.Reading]{Items: []api.Reading{}}
	for i := range rows {
		row, err := g.settled(ctx, &rows[i])
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, *g.view(row))
	}
	return out, nil
}

// settled is a row that says it is at work and is not, read once more: it may have ended since it was read.
func (g *Room) settled(ctx context.Context, row *store.Reading) (*store.Reading, error) {
	if !g.dead(row) {
		return row, nil
	}
	return g.row(ctx, row.ProviderID, row.ID)
}

// One shows one.
func (g *Room) One(ctx context.Context, slug, id string) (*api.Reading, error) {
	p, err := g.provider(ctx, slug)
	if err != nil {
		return nil, err
	}
	row, err := g.row(ctx, p.ID, id)
	if err == nil {
		row, err = g.settled(ctx, row)
	}
	if err != nil {
		return nil, err
	}
	return g.view(row), nil
}

func (g *Room) provider(ctx context.Context, slug string) (*partners.Provider, error) {
	p, err := g.partners.Provider(ctx, slug)
	if err != nil {
		return nil, err
	}
	if p.LDAP == nil || p.LDAP.Reading == nil {
		return nil, ground.Conflict("no-reading", "Nobody is read from "+p.Name+".",
			"Set for a directory which of its entries are people to be read (ldap.reading).")
	}
	return p, nil
}

func (g *Room) row(ctx context.Context, provider, id string) (*store.Reading, error) {
	row, err := store.One[store.Reading](g.Store.Read(ctx), "id = ? AND provider_id = ?", id, provider)
	if err == nil && row.ID == "" {
		return nil, ground.NotFound("reading", id)
	}
	return &row, err
}

// lastDone is the last reading that was written whole, or the last one, with the latest change that was seen by any.
func (g *Room) lastDone(ctx context.Context, provider string, whole bool) (store.Reading, error) {
	db := g.Store.Read(ctx).Where("provider_id = ? AND state = ?", provider, Done)
	if whole {
		db = db.Where("NOT only_changed")
	}
	var row store.Reading
	return row, store.Clear(db.Order("updated_at DESC").Limit(1).Find(&row).Error)
}

func (g *Room) save(ctx context.Context, row *store.Reading) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Save(row).Error; err != nil {
			return err
		}
		return tx.Exec("DELETE FROM readings WHERE provider_id = ? AND id NOT IN (SELECT id FROM readings WHERE provider_id = ? "+
			"ORDER BY id DESC LIMIT ?)", row.ProviderID, row.ProviderID, kept).Error
	})
}

// silent is how long a reading that is at work says nothing at most; after that its process was stopped.
const silent = 5 * time.Minute

// dead says whether a reading is no longer at work that says it is.
func (g *Room) dead(row *store.Reading) bool {
	if row.State != Looking && row.State != Writing {
		return false
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	_, here := g.running[row.ProviderID]
	return !here && (!g.Spread.Load() || g.Now().Sub(row.UpdatedAt) > silent)
}

func (g *Room) view(row *store.Reading) *api.Reading {
	v := &api.Reading{
		ID: row.ID, State: row.State, Changed: row.OnlyChanged, Since: row.Since, By: row.By, Entries: row.Entries, Made: row.Made,
		Updated: row.Updated, Same: row.Same, Back: row.Back, Bad: row.Bad, Gone: row.Gone, Elsewhere: row.Elsewhere, Known: row.Known,
		Problems: []api.ReadingProblem{}, GoneNames: []string{}, Note: row.Note, Started: row.StartedAt, Touched: row.UpdatedAt,
	}
	_ = json.Unmarshal([]byte(row.Problems), &v.Problems) // written here
	_ = json.Unmarshal([]byte(row.GoneNames), &v.GoneNames)
	if g.dead(row) {
		v.State, v.Note = Stopped, "The service was stopped meanwhile. Write it again: what was written already is passed over quickly."
	}
	return v
}

// shortened is a list for people, not without end.
func shortened(list []string, most int) []string {
	if len(list) <= most {
		return list
	}
	return append(slices.Clone(list[:most]), fmt.Sprintf("and %d more", len(list)-most))
}
