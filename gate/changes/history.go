package changes

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/files"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/store"
)

// HistoryFilter narrows a list of revisions. Kind and Slug name one object; Kind alone all of that kind.
type HistoryFilter struct {
	Kind, Slug  string
	From, Until time.Time
	Owner       bool // settings that only an owner may see as well
}

// History lists revisions, the newest first, each with what it changed.
func (g *Room) History(ctx context.Context, p store.Page, f HistoryFilter) (*api.List[api.Revision], error) {
	if f.Kind != "" && !slices.Contains(files.Kinds, f.Kind) {
		return nil, ground.BadRequest("kind", fmt.Sprintf("%q is no kind of object; %s are.", f.Kind, strings.Join(files.Kinds, ", ")), "")
	}
	db := g.Store.Read(ctx).Model(&store.Revision{}).Select("rowid AS place, *")
	for where, arg := range map[string]string{"kind = ?": f.Kind, "slug = ?": f.Slug} {
		if arg != "" {
			db = db.Where(where, arg)
		}
	}
	if !f.Owner {
		db = db.Where("NOT (kind = 'setting' AND slug IN ?)", ownerSettings())
	}
	db = within(db, f.From, f.Until)
	if p.Search != "" {
		var err error
		if db, err = g.Store.Containing(ctx, db, store.HistoryLines, p.Search); err != nil {
			return nil, err
		}
	}
	if p.After != "" {
		key, err := store.ReadKey(p.After)
		if err != nil {
			return nil, ground.BadRequest("bad-page", err.Error()+".", "")
		}
		db = db.Where("rowid < ?", key[1])
	}
	type placed struct {
		Place int64
		store.Revision
	}
	var rows []placed
	if err := db.Order("rowid DESC").Limit(ground.LimitOf(p) + 1).Scan(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	key := func(r *placed) string { return store.AfterKey("", strconv.FormatInt(r.Place, 10)) }
	return ground.PageOf(p, rows, key, func(r *placed) (*api.Revision, error) { return g.RevisionView(ctx, r.Revision) })
}

// within narrows revisions to those of a time. They are read in the order in which they were made, from the first that can be
// of that time; clocks that were set back are borne over as many revisions as are looked at for it.
func within(db *gorm.DB, from, until time.Time) *gorm.DB {
	if !from.IsZero() {
		db = db.Where("rowid >= (SELECT min(rowid) FROM (SELECT rowid FROM revisions WHERE at >= ? ORDER BY at LIMIT 1000)) AND +at >= ?",
			from.UTC(), from.UTC())
	}
	if !until.IsZero() {
		db = db.Where("rowid <= (SELECT max(rowid) FROM (SELECT rowid FROM revisions WHERE at <= ? ORDER BY at DESC LIMIT 1000)) AND "+
			"+at <= ?", until.UTC(), until.UTC())
	}
	return db
}

func ownerSettings() []string {
	var out []string
	for _, s := range settingSpecs {
		if s.owner {
			out = append(out, s.name)
		}
	}
	return out
}

// RevisionView shows a revision with what it changed against the one before.
func (g *Room) RevisionView(ctx context.Context, r store.Revision) (*api.Revision, error) {
	var before store.Revision
	if err := g.Store.Read(ctx).Where("object_id = ? AND number < ?", r.ObjectID,
		r.Number).Order("number DESC").Limit(1).Find(&before).Error; err != nil {
		return nil, store.Clear(err)
	}
	v := &api.Revision{
		Kind:   r.Kind,
		Slug:   r.Slug,
		Name:   r.Name,
		Number: r.Number,
		At:     r.At,
		Author: r.Author,
		Remark: r.Remark,
		Action: files.Update,
	}
	switch {
	case r.Body == "":
		v.Action = files.Remove
	case before.Body == "":
		v.Action = files.Create
	}
	v.Changes = ground.BodyChanges(before.Body, r.Body)
	if v.Action == files.Remove {
		v.Changes = []api.Change{}
	}
	return v, nil
}

// revision finds one of an object. Number 0 is the newest.
func (g *Room) revision(ctx context.Context, db *gorm.DB, kind, slug string, number int) (*store.Revision, error) {
	q := db.Where("kind = ? AND slug = ?", kind, slug)
	if number != 0 {
		q = q.Where("number = ?", number)
	}
	var r store.Revision
	// Something that was deleted and made anew under the same name has two histories; the newer one counts.
	if err := q.Order("rowid DESC").Limit(1).Find(&r).Error; err != nil {
		return nil, store.Clear(err)
	}
	if r.ObjectID == "" {
		return nil, ground.NotFound("revision", fmt.Sprintf("%s %s, %d", kind, slug, number))
	}
	return &r, nil
}

// Revision shows one version of an object: as a file, with what it changed, and with how it differs from what holds
// now, or from another version.
func (g *Room) Revision(ctx context.Context, who ground.Actor, kind, slug string, number, against int) (*api.RevisionView, error) {
	if kind == files.Setting && specOf(slug).owner && !ground.Allows(who.Role, ground.RoleOwner) {
		return nil, ground.Problem(
			http.StatusForbidden, "role", "Not allowed",
			fmt.Sprintf("The history of %s is for owners; yours is the role %s.", specOf(slug).words, who.Role),
			"Ask an owner.",
		)
	}
	db := g.Store.Read(ctx)
	r, err := g.revision(ctx, db, kind, slug, number)
	if err != nil {
		return nil, err
	}
	v, err := g.RevisionView(ctx, *r)
	if err != nil {
		return nil, err
	}
	out := &api.RevisionView{Revision: *v}
	if r.Body != "" {
		if out.Text, err = files.Write([]files.Object{{Kind: kind, Slug: slug, Body: r.Body}}, nil); err != nil {
			return nil, err
		}
	}
	other, err := g.revision(ctx, db, kind, slug, against)
	if err != nil {
		return nil, err
	}
	out.Against, out.Differences = other.Number, ground.BodyChanges(r.Body, other.Body)
	return out, nil
}

// Restore brings one object back to a revision, or the whole configuration to how it was at a time; or tells what that
// would do.
func (g *Room) Restore(ctx context.Context, who ground.Actor, in api.Restore) (*api.ConfigResult, error) {
	switch {
	case in.Kind == "" && in.At == nil:
		return nil, ground.BadRequest("restore", "Name an object and one of its revisions, or a time for the whole configuration.", "")
	case in.Kind != "" && in.At != nil:
		return nil, ground.BadRequest(
			"restore", "An object is restored to one of its revisions; a time is for the whole configuration.", "",
		)
	case in.At != nil && in.At.After(g.Now()):
		return nil, ground.BadRequest("restore", "That time is still to come.", "")
	}
	if in.Kind != "" {
		who.Remark = words.FirstOf(in.Remark, fmt.Sprintf("back to revision %d", in.Number))
		return g.change(ctx, who, in.Preview, func(at *Room, tx *gorm.DB) (*plan, error) { return at.planRevision(ctx, tx, in) })
	}
	who.Remark = words.FirstOf(in.Remark, "back to "+in.At.UTC().Format("2006-01-02 15:04:05")+" UTC")
	then, err := g.objectsAt(ctx, *in.At)
	if err != nil {
		return nil, err
	}
	return g.change(ctx, who, in.Preview, func(at *Room, tx *gorm.DB) (*plan, error) { return at.planMoment(ctx, tx, then) })
}

// planRevision is the plan of bringing one object back. The revisions are read where they stand, not where they are set
// aside.
func (g *Room) planRevision(ctx context.Context, tx *gorm.DB, in api.Restore) (*plan, error) {
	var r store.Revision
	if err := tx.Table("main.revisions").Where("kind = ? AND slug = ? AND number = ?", in.Kind, in.Slug,
		in.Number).Order("rowid DESC").Limit(1).Find(&r).Error; err != nil {
		return nil, err
	}
	if r.ObjectID == "" {
		return nil, ground.NotFound("revision", fmt.Sprintf("%s %s, %d", in.Kind, in.Slug, in.Number))
	}
	h, err := g.heldObjects(tx)
	if err != nil {
		return nil, err
	}
	p := &plan{ids: map[string]string{r.Kind + " " + r.Slug: r.ObjectID}}
	o := files.Object{Kind: r.Kind, Slug: r.Slug, Name: r.Name, Body: r.Body, ID: r.ObjectID}
	if r.Body == "" {
		p.steps, _ = files.Compare(h, nil, func(held files.Object) bool { return held.Key() == o.Key() })
		return p, nil
	}
	if o.Body, err = files.Normal(o); err != nil {
		return nil, ground.Problem(
			http.StatusUnprocessableEntity, "no-longer-valid", "It can't be restored as it was",
			words.Capitalise(err.Error())+". What is valid has changed since.",
			"Open the object and enter by hand what of it is wanted.",
		)
	}
	p.steps, p.unchanged = files.Compare(h, []files.Object{o}, nil)
	return p, nil
}

// moment is the configuration as it was at a time.
type moment struct {
	objects []files.Object
	known   map[string]bool // what has a history, and so can be told not to have been there
}

func (g *Room) objectsAt(ctx context.Context, at time.Time) (*moment, error) {
	var rows []store.Revision
	if err := g.Store.Read(ctx).Raw("SELECT r.* FROM revisions r JOIN (SELECT object_id, max(number) AS n FROM revisions WHERE at <= "+
		"? GROUP BY object_id) l ON l.object_id = r.object_id AND l.n = r.number WHERE r.body <> ''",
		at.UTC()).Scan(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	m := &moment{known: map[string]bool{}}
	for _, r := range rows {
		o := files.Object{Kind: r.Kind, Slug: r.Slug, Name: r.Name, Body: r.Body, ID: r.ObjectID}
		body, err := files.Normal(o)
		if err != nil {
			return nil, ground.Problem(
				http.StatusUnprocessableEntity, "no-longer-valid", "The configuration can't be restored as it was",
				words.Capitalise(err.Error())+". What is valid has changed since.",
				"Restore objects one by one, or choose another time.",
			)
		}
		o.Body = body
		m.objects = append(m.objects, o)
	}
	if len(rows) == 0 {
		var first store.Revision
		if err := g.Store.Read(ctx).Order("at").Limit(1).Find(&first).Error; err != nil {
			return nil, store.Clear(err)
		}
		return nil, ground.BadRequest(
			"before-history",
			"Nothing is known of that time: the history begins at "+first.At.UTC().Format("2006-01-02 15:04:05")+" UTC.",
			"Name a later time.",
		)
	}
	var keys []struct{ Kind, Slug string }
	if err := g.Store.Read(ctx).Raw("SELECT DISTINCT kind, slug FROM revisions").Scan(&keys).Error; err != nil {
		return nil, store.Clear(err)
	}
	for _, k := range keys {
		m.known[k.Kind+" "+k.Slug] = true
	}
	for _, spec := range settingSpecs {
		key := files.Setting + " " + spec.name
		if m.known[key] && spec.usual != "" && !slices.ContainsFunc(m.objects, func(o files.Object) bool { return o.Key() == key }) {
			m.objects = append(
				m.objects,
				files.Object{Kind: files.Setting, Slug: spec.name, Name: spec.words, Body: spec.usual, ID: "setting/" + spec.name},
			)
		}
	}
	return m, nil
}

func (g *Room) planMoment(ctx context.Context, tx *gorm.DB, m *moment) (*plan, error) {
	h, err := g.heldObjects(tx)
	if err != nil {
		return nil, err
	}
	p := &plan{ids: map[string]string{}}
	for _, o := range m.objects {
		p.ids[o.Key()] = o.ID
	}
	p.steps, p.unchanged = files.Compare(h, m.objects, func(o files.Object) bool { return m.known[o.Key()] })
	return p, nil
}
