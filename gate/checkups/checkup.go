package checkups

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/checkup"
	"innergate/core/config"
	"innergate/gate/ground"
	"innergate/gate/keyring"
	"innergate/gate/partners"
	"innergate/store"
)

const (
	checkupEvery = time.Hour
	longestPeace = 366 * 24 * time.Hour // for which a finding can be accepted
	goneKept     = 90 * 24 * time.Hour
)

// inspected is an object with what was found about it.
type inspected struct {
	kind, id, slug, name string
	findings             []checkup.Finding
}

// findingID is the same whenever the same thing is found about the same object.
func findingID(kind, id string, f checkup.Finding) string {
	about := ""
	if len(f.Evidence) > 0 {
		about = f.Evidence[0].Got
	}
	sum := sha256.Sum256([]byte(strings.Join([]string{kind, id, f.Code, f.Station, about}, "\x1f")))
	return hex.EncodeToString(sum[:10])
}

// Checkup inspects everything, keeps what it found, and tells whoever is to be told.
func (g *Room) Checkup(ctx context.Context) (*api.CheckupResult, error) {
	g.checking.Lock()
	defer g.checking.Unlock()
	return g.checkAll(ctx, restAsked)
}

// checkedTogether is how many objects are inspected before what was found about them is written down.
const checkedTogether = 100

// checkAll is Checkup, where checking is held. After each part it rests, by how long that took.
func (g *Room) checkAll(ctx context.Context, rest func(time.Duration) time.Duration) (*api.CheckupResult, error) {
	began := time.Now()
	generation, err := g.Store.Generation(ctx)
	if err != nil {
		return nil, err
	}
	now := g.Now().UTC()
	objects := 0
	for _, kind := range []string{"provider", "application"} { // providers first, whose findings their applications don't repeat
		n, err := g.checkKind(ctx, kind, now, rest)
		if err != nil {
			return nil, err
		}
		objects += n
	}
	var all []inspected
	beside := func(kind, slug, name string, list []checkup.Finding) {
		objects++
		all = append(all, inspected{kind, slug, slug, name, list})
	}
	if err := g.besideFindings(ctx, beside); err != nil {
		return nil, err
	}
	if err := g.keepFindings(ctx, all, now); err != nil {
		return nil, err
	}
	if err := g.markGone(ctx, now); err != nil {
		return nil, err
	}
	list, err := g.KeptFindings(ctx, FindingFilter{})
	if err != nil {
		return nil, err
	}
	out := &api.CheckupResult{At: now, Objects: objects, Findings: list.Items}
	for _, f := range list.Items {
		switch {
		case f.Accepted != nil:
			out.Accepted++
		case f.Severity == checkup.Broken:
			out.Broken++
		case f.Severity == checkup.Attention:
			out.Attention++
		default:
			out.Remarks++
		}
	}
	out.Millis, g.checkedAt = time.Since(began).Milliseconds(), generation
	return out, nil
}

// checkKind inspects all applications or all providers, part by part, and says how many there are.
func (g *Room) checkKind(ctx context.Context, kind string, now time.Time, rest func(time.Duration) time.Duration) (int, error) {
	objects := 0
	for after := ""; ; {
		began := time.Now()
		var rows []struct{ ID, Slug, Name string }
		if err := g.Store.Read(ctx).Table(kind+"s").Select("id, slug, name").Where("id > ?",
			after).Order("id").Limit(checkedTogether).Find(&rows).Error; err != nil {
			return 0, store.Clear(err)
		}
		var some []inspected
		for _, r := range rows {
			one, err := g.inspect(ctx, kind, r.ID, r.Slug, r.Name)
			if err != nil {
				return 0, err
			}
			objects++
			after = r.ID
			some = append(some, one...)
		}
		if err := g.keepFindings(ctx, some, now); err != nil {
			return 0, err
		}
		if len(rows) < checkedTogether {
			return objects, nil
		}
		select {
		case <-ctx.Done():
			return 0, ctx.Err()
		case <-time.After(rest(time.Since(began))):
		}
	}
}

// markGone notes what was not found again, some at a time, and forgets what has long been gone.
func (g *Room) markGone(ctx context.Context, now time.Time) error {
	for {
		var n int64
		err := g.Store.Write(ctx, func(tx *gorm.DB) (err error) {
			n, err = store.Exec(tx, "UPDATE kept_findings SET gone_at = ? WHERE rowid IN (SELECT rowid FROM "+
				"kept_findings WHERE gone_at IS NULL AND last_seen < ? LIMIT ?)", now, now, ground.AtOnce)
			if err == nil && n < ground.AtOnce {
				err = tx.Exec("DELETE FROM kept_findings WHERE rowid IN (SELECT rowid FROM kept_findings WHERE gone_at < ? LIMIT ?)",
					now.Add(-goneKept), ground.AtOnce).Error
			}
			return err
		})
		if err != nil || n < ground.AtOnce {
			return err
		}
	}
}

// inspect finds what is to be said about one application or provider, just as its page shows it.
func (g *Room) inspect(ctx context.Context, kind, id, slug, name string) ([]inspected, error) {
	one := inspected{kind: kind, id: id, slug: slug, name: name}
	var hosts []string
	if kind == "application" {
		a, err := g.Application(ctx, slug)
		if err != nil {
			return nil, ground.GoneMeanwhile(err)
		}
		// An application's page shows its providers' findings too; here each stands once, where it belongs.
		for _, ref := range a.ProvidedBy {
			p, err := g.partners.Provider(ctx, ref.Slug)
			if err != nil {
				continue
			}
			inspected := p.Provider
			inspected.Mapping = p.Whole
			_, theirs := checkup.Provider(&inspected, g.SPEntityID(), g.Now())
			a.Findings = slices.DeleteFunc(a.Findings, func(f checkup.Finding) bool {
				return slices.ContainsFunc(theirs, func(t checkup.Finding) bool { return t.Code == f.Code && t.Title == f.Title })
			})
		}
		one.findings, hosts = a.Findings, hostsOf(&a.Application)
	} else {
		p, err := g.Provider(ctx, slug)
		if err != nil {
			return nil, ground.GoneMeanwhile(err)
		}
		one.findings, hosts = p.Findings, hostsOfProvider(&p.Provider)
	}
	outside, err := g.outsideFindings(ctx, kind, id, hosts)
	if err != nil {
		return nil, err
	}
	stale, err := g.staleValues(ctx, kind, id, slug, name)
	one.findings = append(append(one.findings, outside...), stale...)
	return []inspected{one}, err
}

// CheckObject inspects one object after it was changed, and, for a provider, the applications that use it.
func (g *Room) CheckObject(ctx context.Context, kind, slug string) error {
	g.checking.Lock()
	defer g.checking.Unlock()
	now := g.Now().UTC()
	var all []inspected
	var ids []string
	look := func(kind string, rows []struct{ ID, Slug, Name string }) error {
		for _, r := range rows {
			one, err := g.inspect(ctx, kind, r.ID, r.Slug, r.Name)
			if err != nil {
				return err
			}
			all, ids = append(all, one...), append(ids, r.ID)
		}
		return nil
	}
	var rows []struct{ ID, Slug, Name string }
	if err := g.Store.Read(ctx).Table(kind+"s").Select("id, slug, name").Where("slug = ?", slug).Find(&rows).Error; err != nil {
		return store.Clear(err)
	}
	if err := look(kind, rows); err != nil {
		return err
	}
	if kind == "provider" {
		rows = nil
		if err := partners.UsedBy(g.Store.Read(ctx).Table("applications").Select("id, slug, name"),
			slug).Limit(200).Find(&rows).Error; err != nil {
			return store.Clear(err)
		}
		if err := look("application", rows); err != nil {
			return err
		}
	}
	if err := g.keepFindings(ctx, all, now); err != nil {
		return err
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE kept_findings SET gone_at = ? WHERE gone_at IS NULL AND last_seen < ? AND owner_id IN ?", now, now,
			ids).Error
	})
}

// keepFindings writes down what was found, some of it in a transaction.
func (g *Room) keepFindings(ctx context.Context, all []inspected, now time.Time) error {
	for some := range slices.Chunk(all, keptTogether) {
		if err := g.Store.Write(ctx, func(tx *gorm.DB) error {
			for _, o := range some {
				if err := keepOne(tx, o, now); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return err
		}
	}
	return nil
}

const keptTogether = 50

func keepOne(tx *gorm.DB, o inspected, now time.Time) error {
	for _, f := range o.findings {
		// What was gone and is there again is new.
		if _, err := store.Exec(tx, `INSERT INTO kept_findings (id, kind, owner_id, slug, name, code, severity, body, first_seen,
			last_seen, accepted_by, accepted_for) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, '', '')
			ON CONFLICT (id) DO UPDATE SET slug = excluded.slug, name = excluded.name, severity = excluded.severity,
			body = excluded.body, last_seen = excluded.last_seen,
			first_seen = CASE WHEN gone_at IS NULL THEN first_seen ELSE excluded.first_seen END,
			told_at = CASE WHEN gone_at IS NULL AND severity = excluded.severity THEN told_at END, gone_at = NULL`,
			findingID(o.kind, o.id, f), o.kind, o.id, o.slug, o.name, f.Code, f.Severity, ground.MustJSON(f), now, now); err != nil {
			return err
		}
	}
	return nil
}

// FindingFilter narrows the list of findings.
type FindingFilter struct {
	Severity, Kind, Slug, Code string
	// Accepted is yes, no or empty for both.
	Accepted string
}

// KeptFindings lists what the checkups found and is there still, what is broken first.
func (g *Room) KeptFindings(ctx context.Context, f FindingFilter) (*api.List[api.KeptFinding], error) {
	db := g.Store.Read(ctx).Where("gone_at IS NULL")
	for column, value := range map[string]string{"severity": f.Severity, "kind": f.Kind, "slug": f.Slug, "code": f.Code} {
		if value != "" {
			db = db.Where(column+" = ?", value)
		}
	}
	switch f.Accepted {
	case "yes":
		db = db.Where("accepted_until > ?", g.Now().UTC())
	case "no":
		db = db.Where("accepted_until IS NULL OR accepted_until <= ?", g.Now().UTC())
	}
	var rows []store.KeptFinding
	const worstFirst = "CASE severity WHEN 'broken' THEN 0 WHEN 'attention' THEN 1 ELSE 2 END, first_seen DESC, id"
	if err := db.Order(worstFirst).Limit(2000).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[api.KeptFinding]{Items: []api.KeptFinding{}}
	for _, r := range rows {
		out.Items = append(out.Items, g.keptView(r))
	}
	return out, nil
}

func (g *Room) keptView(r store.KeptFinding) api.KeptFinding {
	v := api.KeptFinding{ID: r.ID, Kind: r.Kind, Slug: r.Slug, Name: r.Name, FirstSeen: r.FirstSeen, LastSeen: r.LastSeen}
	_ = json.Unmarshal([]byte(r.Body), &v.Finding) // it was written by us
	if r.AcceptedUntil != nil && r.AcceptedUntil.After(g.Now()) {
		v.Accepted = &api.Accepted{By: r.AcceptedBy, Reason: r.AcceptedFor, Until: *r.AcceptedUntil}
	}
	v.Correctable = (r.Kind == "application" || r.Kind == "provider") && checkup.Correctable(r.Code)
	return v
}

func (g *Room) keptFinding(tx *gorm.DB, id string) (*store.KeptFinding, error) {
	var r store.KeptFinding
	if err := tx.Where("id = ? AND gone_at IS NULL", id).Take(&r).Error; err != nil {
		return nil, ground.Missing(err, "finding", id)
	}
	return &r, nil
}

// AcceptFinding notes that somebody lives with a finding until a date.
func (g *Room) AcceptFinding(ctx context.Context, who ground.Actor, id string, in api.AcceptFinding) (*api.KeptFinding, error) {
	now := g.Now().UTC()
	in.Reason = strings.TrimSpace(in.Reason)
	switch {
	case in.Reason == "" || len(in.Reason) > 500:
		return nil, ground.BadRequest(
			"reason", "A finding is accepted with a reason of up to 500 characters, for whoever reads it next.", "",
		)
	case !in.Until.After(now) || in.Until.After(now.Add(longestPeace)):
		return nil, ground.BadRequest("until", "A finding can be accepted until a day that lies ahead, at most a year.", "")
	}
	return g.changeFinding(ctx, id, func(tx *gorm.DB, r *store.KeptFinding) error {
		until := in.Until.UTC()
		r.AcceptedBy, r.AcceptedFor, r.AcceptedUntil = who.Name, in.Reason, &until
		return ground.Journal(
			tx, now, who, "accepted", "finding", id, r.Code+" of "+r.Name, "",
			in.Reason+" (until "+until.Format(time.DateOnly)+")",
		)
	})
}

// ReopenFinding takes an acceptance back.
func (g *Room) ReopenFinding(ctx context.Context, who ground.Actor, id string) (*api.KeptFinding, error) {
	return g.changeFinding(ctx, id, func(tx *gorm.DB, r *store.KeptFinding) error {
		r.AcceptedBy, r.AcceptedFor, r.AcceptedUntil = "", "", nil
		return ground.Journal(tx, g.Now().UTC(), who, "reopened", "finding", id, r.Code+" of "+r.Name, "", "")
	})
}

func (g *Room) changeFinding(ctx context.Context, id string, f func(tx *gorm.DB, r *store.KeptFinding) error) (*api.KeptFinding, error) {
	var v api.KeptFinding
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		r, err := g.keptFinding(tx, id)
		if err != nil {
			return err
		}
		if err := f(tx, r); err != nil {
			return err
		}
		v = g.keptView(*r)
		return tx.Save(r).Error
	})
	return &v, err
}

// Correction shows what would settle a finding, changing nothing.
func (g *Room) Correction(ctx context.Context, id string) (*api.Correction, error) {
	c, _, _, err := g.correction(ctx, id)
	return c, err
}

func (g *Room) correction(ctx context.Context, id string) (*api.Correction, *config.Application, *config.Provider, error) {
	r, err := g.keptFinding(g.Store.Read(ctx), id)
	if err != nil {
		return nil, nil, nil, err
	}
	none := ground.Conflict("no-correction", "The gate knows no change that would settle this for sure.", "Read the finding's remedy.")
	switch r.Kind {
	case "application":
		held, err := g.Application(ctx, r.Slug)
		if err != nil {
			return nil, nil, nil, err
		}
		before := ground.MustJSON(held.Application)
		a, err := ground.DecodeBody[config.Application](before) // a copy, so that nothing that is held changes
		if err != nil {
			return nil, nil, nil, err
		}
		words := checkup.CorrectApplication(r.Code, &a, g.Now())
		if words == "" {
			return nil, nil, nil, none
		}
		return &api.Correction{Words: words, Changes: ground.BodyChanges(before, ground.MustJSON(a)), Revision: held.Revision}, &a, nil, nil
	case "provider":
		held, err := g.Provider(ctx, r.Slug)
		if err != nil {
			return nil, nil, nil, err
		}
		before := ground.MustJSON(held.Provider)
		p, err := ground.DecodeBody[config.Provider](before)
		if err != nil {
			return nil, nil, nil, err
		}
		words := checkup.CorrectProvider(r.Code, &p, g.Now())
		if words == "" {
			return nil, nil, nil, none
		}
		return &api.Correction{Words: words, Changes: ground.BodyChanges(before, ground.MustJSON(p)), Revision: held.Revision}, nil, &p, nil
	}
	return nil, nil, nil, none
}

// Correct makes the change that was looked at, unless the object was changed in between.
func (g *Room) Correct(ctx context.Context, who ground.Actor, id string, revision int) error {
	c, a, p, err := g.correction(ctx, id)
	if err != nil {
		return err
	}
	if c.Revision != revision {
		return ground.StaleRevision("The object")
	}
	kind, slug := "application", ""
	if a != nil {
		slug = a.Slug
		_, err = g.configuration.SaveApplication(ctx, who, slug, *a, revision)
	} else {
		kind, slug = "provider", p.Slug
		_, err = g.configuration.SaveProvider(ctx, who, slug, *p, revision)
	}
	if err != nil {
		return err
	}
	return g.CheckObject(ctx, kind, slug)
}

// besideFindings finds what is wrong with sources and with our own keys.
func (g *Room) besideFindings(ctx context.Context, add func(kind, slug, name string, list []checkup.Finding)) error {
	sources, err := g.sources.Sources(ctx)
	if err != nil {
		return err
	}
	for _, s := range sources.Items {
		add("source", s.Slug, s.Name, s.Findings)
	}
	add("gate", "traces", "The gate", g.traces.LostTraces())
	add("gate", "planned", "The gate", lateFindings(g.Waiting(), g.Now()))
	add("gate", "clock", "The gate", clockFindings(g.Jumped()))
	if g.Nodes != nil {
		add("gate", "nodes", "Nodes", g.Nodes(ctx))
	}
	routes, err := g.configuration.RouteFindings(ctx)
	if err != nil {
		return err
	}
	add("gate", "routes", "Routes", routes)
	ours, err := g.keyring.Keys(ctx)
	if err != nil {
		return err
	}
	for _, k := range ours.Items {
		// The key set of tokens has no dates; those of the certificate beside a key mean nothing there.
		if _, token := keyring.TokenUsers[k.Purpose]; k.State == keyring.KeyActive && !token {
			add("key", k.ID, k.Purpose, ownKeyFindings(&k, ours.Items, g.Now()))
		}
	}
	return nil
}

// CheckWhatChanged looks after each change of the configuration at what was changed, and at everything every hour. It
// is called every few seconds.
func (g *Room) CheckWhatChanged(ctx context.Context, last *State) error {
	generation, err := g.Store.Generation(ctx)
	if err != nil {
		return err
	}
	now := g.Now()
	// While a large change is written, everything is looked at when it is done. One that is stuck hinders nothing.
	writing, err := store.One[store.Load](g.Store.Read(ctx), "ended_at IS NULL AND held_until > ?", now.UTC())
	if err != nil {
		return err
	}
	if writing.ID != "" {
		last.many = true
		return g.deliver(ctx)
	}
	switch {
	case last.many || now.Sub(last.whole) >= checkupEvery:
		if err := g.checkUnless(ctx, last.many, generation); err != nil {
			return err
		}
		last.whole, last.many = now, false
	case generation != last.generation:
		for _, kind := range []string{"provider", "application"} {
			var slugs []string
			if err := g.Store.Read(ctx).Table(kind+"s").Where("updated_at >= ?",
				last.looked.UTC()).Order("updated_at DESC").Limit(101).Pluck("slug", &slugs).Error; err != nil {
				return store.Clear(err)
			}
			if len(slugs) > 100 { // a load of files: rather everything at once
				last.many = true
				return nil
			}
			for _, slug := range slugs {
				if err := g.CheckObject(ctx, kind, slug); err != nil {
					return err
				}
			}
		}
	default:
		return g.deliver(ctx) // what could not be told yet
	}
	last.generation, last.looked = generation, now.Add(-5*time.Second)
	return g.Tell(ctx)
}

// checkUnless looks at everything; where only a change is the reason, not if somebody had that done since.
func (g *Room) checkUnless(ctx context.Context, onlyChange bool, generation string) error {
	g.checking.Lock()
	defer g.checking.Unlock()
	if onlyChange && g.checkedAt == generation {
		return nil
	}
	_, err := g.checkAll(ctx, func(worked time.Duration) time.Duration { return g.Rest(worked, restsBeside) })
	return err
}

// restAsked is how long it rests where somebody waits for it: as long as it works.
func restAsked(worked time.Duration) time.Duration { return worked }

// restsBeside is how many times as long as it works the checkup rests that runs by itself: people sign in meanwhile.
const restsBeside = 4

// State is what the running checks remember.
type State struct {
	generation    string
	whole, looked time.Time
	many          bool // more was changed than is looked at one by one
}

// fromOn are a severity and those above it.
func fromOn(least string) []string {
	order := []string{checkup.Remark, checkup.Attention, checkup.Broken}
	return order[max(0, slices.Index(order, least)):]
}
