package gate

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/store"
)

// saved is what both kinds of objects have in common when they are written.
type saved struct {
	kind, id, slug, name, entityID, body string
	certificates                         []config.Certificate
	watch                                *config.Watch
	fresh                                bool // it was never there before
}

// conflict explains a record that is there already.
func (g *Gate) conflict(tx *gorm.DB, s saved) error {
	for _, q := range []struct {
		column, value, as string
	}{{"slug", s.slug, "application"}, {"entity_id", s.entityID, "application"}, {"slug", s.slug, "provider"}, {"entity_id", s.entityID, "provider"}} {
		if q.as != s.kind || q.value == "" {
			continue
		}
		var name string
		err := store.RowIn(tx, "SELECT name FROM "+q.as+"s WHERE "+q.column+" = ? AND id <> ? LIMIT 1", q.value, s.id).Scan(&name)
		if errors.Is(err, sql.ErrNoRows) {
			continue
		}
		if err != nil {
			return err
		}
		if q.column == "slug" {
			return problem(http.StatusConflict, "slug-taken", "The short name is taken", fmt.Sprintf("The %s %q has the short name %s already.", q.as, name, s.slug), "Choose another short name.")
		}
		return problem(http.StatusConflict, "entity-id-taken", "The entity ID is taken", fmt.Sprintf("The %s %q has the entity ID %s already; two can't share one.", q.as, name, s.entityID), "Is it the same one? Then open it instead of adding it again.")
	}
	return nil
}

// revise writes a change into an object's history and into the journal. Number 0 takes the next one.
func revise(tx *gorm.DB, now time.Time, who Actor, action string, s saved, number int, before string) error {
	if number == 0 {
		next, err := nextNumber(tx, s.id, 0)
		if err != nil {
			return err
		}
		number = next
	}
	if _, err := store.Exec(tx, "INSERT INTO revisions (object_id, number, kind, slug, name, body, author, remark, at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)", s.id, number, s.kind, s.slug, s.name, s.body, who.Name, who.Remark, now); err != nil {
		return err
	}
	if err := journal(tx, now, who, action, s.kind, s.id, s.name, before, s.body); err != nil {
		return err
	}
	return store.Changed(tx)
}

// unmake notes that an object was deleted. Its history stays.
func (g *Gate) unmake(tx *gorm.DB, who Actor, s saved) error {
	before := s.body
	s.body = ""
	if err := tx.Exec("DELETE FROM from_files WHERE kind = ? AND slug = ?", s.kind, s.slug).Error; err != nil {
		return err
	}
	return revise(tx, g.Now().UTC(), who, "deleted", s, 0, before)
}

// nextNumber is the number of an object's next revision. One that was deleted and comes back goes on counting.
func nextNumber(tx *gorm.DB, id string, held int) (int, error) {
	var last int
	err := store.RowIn(tx, "SELECT coalesce(max(number), 0) FROM revisions WHERE object_id = ?", id).Scan(&last)
	return max(last, held) + 1, err
}

// changedMeanwhile shows whoever comes second both changes: the one that was made since, and their own.
func (g *Gate) changedMeanwhile(tx *gorm.DB, row *store.Object, revision int, mine string) error {
	var base store.Revision
	if err := tx.Where("object_id = ? AND number = ?", row.ID, revision).Limit(1).Find(&base).Error; err != nil {
		return err
	}
	err := staleRevision(row.Name)
	var p *api.Problem
	if base.Body == "" || !errors.As(err, &p) {
		return err
	}
	m, failed := g.meanwhile(tx, row.ID, row.Revision, base.Body, row.Body, mine)
	if failed != nil {
		return failed
	}
	p.Meanwhile = m
	p.Detail = fmt.Sprintf("%s was changed by %s since you opened it; nothing was written.", row.Name, m.By)
	if p.Remedy = "You changed other things than they did: load it again and make yours anew."; len(m.Both) > 0 {
		p.Remedy = "Both of you changed " + strings.Join(m.Both, ", ") + ". Load it again, and agree on what shall hold."
	}
	return p
}

func staleRevision(name string) error {
	return problem(http.StatusConflict, "changed-meanwhile", "Somebody else changed it", fmt.Sprintf("%s was changed since you opened it; nothing was written.", name), "Load it again, look at the change, and make yours anew.")
}

// SaveApplication creates an application (empty slug) or replaces the one with this slug. Revision, if not 0, is the one that the change was made on. The slug
// is fixed once given, because addresses hold it.
func (g *Gate) SaveApplication(ctx context.Context, who Actor, slug string, a config.Application, revision int) (*api.Application, error) {
	if slug != "" && a.Slug == "" {
		a.Slug = slug
	}
	if slug == "" && a.Slug == "" {
		a.Slug = config.Slug(a.Name)
	}
	if err := a.Validate(); err != nil {
		return nil, invalid(err)
	}
	if err := g.checkSector(ctx, slug, &a); err != nil {
		return nil, err
	}
	now := g.Now().UTC()
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		return g.writeApplication(tx, now, who, slug, a, revision)
	})
	if err != nil {
		return nil, err
	}
	return g.viewApplication(ctx, a.Slug)
}

func (g *Gate) writeApplication(tx *gorm.DB, now time.Time, who Actor, slug string, a config.Application, revision int) error {
	if err := knownProviders(tx, a.Providers); err != nil {
		return err
	}
	if err := knownGroups(tx, groupsOf(a.Access.Rules)); err != nil {
		return err
	}
	var used []string
	for _, r := range a.Access.Rules {
		used = append(used, r.Use)
	}
	var groups []string
	for _, t := range a.Tiles {
		groups = append(groups, t.Groups...)
	}
	if a.Guarded != nil {
		for _, r := range a.Guarded.Paths {
			used, groups = append(used, r.Use), append(groups, r.Groups...)
		}
	}
	if err := knownGroups(tx, groups); err != nil {
		return err
	}
	if err := knownSets(tx, config.SetAccess, used); err != nil {
		return err
	}
	if err := knownSets(tx, config.SetMapping, a.Mapping.Uses()); err != nil {
		return err
	}
	var row store.Application
	s := saved{kind: "application", slug: a.Slug, name: a.Name, entityID: a.Identifier(), body: mustJSON(a)}
	if a.SAML != nil {
		s.certificates, s.watch = a.SAML.Certificates, a.SAML.Metadata
	}
	row.Kind, row.Reach = a.Kind, string(a.Reach)
	return g.writeObject(tx, now, who, slug, s, revision, &row, &row.Object)
}

// writeObject creates an application or provider (empty slug) or replaces it, with a revision and a line in the journal. Record is the row as the database layer
// knows it, row its fields; kind and reach stand in it already.
func (g *Gate) writeObject(tx *gorm.DB, now time.Time, who Actor, slug string, s saved, revision int, record any, row *store.Object) error {
	kind, reach, action, before := row.Kind, row.Reach, "created", ""
	row.CreatedAt = now
	if slug == "" {
		// The new ID is given last: a record that has one is looked for by it.
		row.ID = who.newID(s.kind, s.slug)
		s.fresh = len(who.ids) == 0
	} else {
		if err := tx.Where("slug = ?", slug).Take(record).Error; err != nil {
			return missing(err, s.kind, slug)
		}
		if revision != 0 && revision != row.Revision {
			return g.changedMeanwhile(tx, row, revision, s.body)
		}
		if s.slug != slug {
			return badRequest("slug-fixed", "The short name can't change: it stands in addresses that others hold.", "Make a new "+s.kind+" with the other short name.")
		}
		if row.Body == s.body {
			return nil
		}
		action, before = "changed", row.Body
	}
	if err := g.reviewed(tx, who, s.name, access.Reach(row.Reach), access.Reach(reach)); err != nil {
		return err
	}
	s.id = row.ID
	if err := g.conflict(tx, s); err != nil {
		return err
	}
	row.Slug, row.Name, row.Kind, row.Reach, row.EntityID, row.Body, row.UpdatedAt = s.slug, s.name, kind, reach, entityColumn(s.entityID), s.body, now
	if row.Revision++; !s.fresh {
		number, err := nextNumber(tx, row.ID, row.Revision-1)
		if err != nil {
			return err
		}
		row.Revision = number
	}
	write := tx.Save
	if s.fresh {
		write = tx.Create
	}
	if err := write(record).Error; err != nil {
		return err
	}
	if err := g.layOut(tx, now, who, s); err != nil {
		return err
	}
	return revise(tx, now, who, action, s, row.Revision, before)
}

// knownProviders refuses configurations that name providers which are not there.
func knownProviders(tx *gorm.DB, slugs []string) error {
	for _, slug := range slugs {
		var n int
		if err := store.RowIn(tx, "SELECT count(*) FROM providers WHERE slug = ?", slug).Scan(&n); err != nil {
			return err
		}
		if n == 0 {
			return badRequest("provider-unknown", fmt.Sprintf("There is no provider with the short name %q.", slug), "Add the provider first, or choose one that is there.")
		}
	}
	return nil
}

// SaveProvider is SaveApplication for providers.
func (g *Gate) SaveProvider(ctx context.Context, who Actor, slug string, p config.Provider, revision int) (*api.Provider, error) {
	if slug != "" && p.Slug == "" {
		p.Slug = slug
	}
	if slug == "" && p.Slug == "" {
		p.Slug = config.Slug(p.Name)
	}
	if err := p.Validate(); err != nil {
		return nil, invalid(err)
	}
	now := g.Now().UTC()
	if err := g.Store.Write(ctx, func(tx *gorm.DB) error { return g.writeProvider(tx, now, who, slug, p, revision) }); err != nil {
		return nil, err
	}
	return g.viewProvider(ctx, p.Slug)
}

func (g *Gate) writeProvider(tx *gorm.DB, now time.Time, who Actor, slug string, p config.Provider, revision int) error {
	if err := knownSets(tx, config.SetMapping, p.Mapping.Uses()); err != nil {
		return err
	}
	var granted []string
	for _, one := range p.Grants {
		granted = append(granted, one.Groups...)
	}
	if p.Admit != nil {
		granted = append(granted, p.Admit.Groups...)
	}
	if err := knownGroups(tx, granted); err != nil {
		return err
	}
	if err := g.knownTypes(tx, p); err != nil {
		return err
	}
	var row store.Provider
	// Two connections to one OpenID provider, with a client ID each, may share its issuer.
	s := saved{kind: "provider", slug: p.Slug, name: p.Name, body: mustJSON(p)}
	if p.SAML != nil {
		s.entityID, s.certificates, s.watch = p.SAML.EntityID, p.SAML.Certificates, p.SAML.Metadata
	}
	row.Kind, row.Reach = p.Kind, string(p.Reach)
	return g.writeObject(tx, now, who, slug, s, revision, &row, &row.Object)
}

// DeleteApplication removes one. Its revisions, traces and journal lines stay readable.
func (g *Gate) DeleteApplication(ctx context.Context, who Actor, slug string) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error { return g.removeApplication(tx, who, slug) })
}

func (g *Gate) removeApplication(tx *gorm.DB, who Actor, slug string) error {
	var row store.Application
	if err := tx.Where("slug = ?", slug).Take(&row).Error; err != nil {
		return missing(err, "application", slug)
	}
	if err := g.reviewed(tx, who, row.Name, access.Reach(row.Reach), access.Closed); err != nil {
		return err
	}
	if err := tx.Delete(&row).Error; err != nil {
		return err
	}
	if err := forget(tx, row.ID); err != nil {
		return err
	}
	return g.unmake(tx, who, saved{kind: "application", id: row.ID, slug: slug, name: row.Name, body: row.Body})
}

// DeleteProvider removes one that no application uses.
func (g *Gate) DeleteProvider(ctx context.Context, who Actor, slug string) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error { return g.removeProvider(tx, who, slug) })
}

func (g *Gate) removeProvider(tx *gorm.DB, who Actor, slug string) error {
	var row store.Provider
	if err := tx.Where("slug = ?", slug).Take(&row).Error; err != nil {
		return missing(err, "provider", slug)
	}
	var users []string
	if err := usedBy(tx, slug).Limit(6).Pluck("name", &users).Error; err != nil {
		return err
	}
	if len(users) > 0 {
		return problem(http.StatusConflict, "in-use", "The provider is in use", fmt.Sprintf("People sign in with %s to %s.", row.Name, strings.Join(users, ", ")), "Give these applications another provider first.")
	}
	if err := g.reviewed(tx, who, row.Name, access.Reach(row.Reach), access.Closed); err != nil {
		return err
	}
	if err := tx.Delete(&row).Error; err != nil {
		return err
	}
	if err := forget(tx, row.ID); err != nil {
		return err
	}
	return g.unmake(tx, who, saved{kind: "provider", id: row.ID, slug: slug, name: row.Name, body: row.Body})
}

// SetReach opens, closes or takes back to draft, in one step.
func (g *Gate) SetReach(ctx context.Context, who Actor, kind, slug string, reach access.Reach) error {
	if kind == "application" {
		a, err := g.application(ctx, slug)
		if err != nil {
			return err
		}
		c := a.Application
		c.Reach = reach
		_, err = g.SaveApplication(ctx, who, slug, c, a.revision)
		return err
	}
	p, err := g.provider(ctx, slug)
	if err != nil {
		return err
	}
	c := p.Provider
	c.Reach = reach
	_, err = g.SaveProvider(ctx, who, slug, c, p.revision)
	return err
}
