package configuration

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/core/files"
	"innergate/core/words"
	"innergate/gate/console"
	"innergate/gate/ground"
	"innergate/gate/guarded"
	"innergate/gate/issued"
	"innergate/gate/partners"
	"innergate/gate/persons"
	"innergate/store"
)

// conflict explains a record that is there already.
func (g *Room) conflict(tx *gorm.DB, s ground.Saved) error {
	for _, q := range []struct {
		column, value, as string
	}{{"slug", s.Slug, "application"}, {"entity_id", s.EntityID, "application"}, {"slug", s.Slug, "provider"},
		{"entity_id", s.EntityID, "provider"}} {
		if q.as != s.Kind || q.value == "" {
			continue
		}
		var name string
		err := store.RowIn(tx, "SELECT name FROM "+q.as+"s WHERE "+q.column+" = ? AND id <> ? LIMIT 1", q.value, s.ID).Scan(&name)
		if errors.Is(err, sql.ErrNoRows) {
			continue
		}
		if err != nil {
			return err
		}
		if q.column == "slug" {
			return ground.Problem(
				http.StatusConflict, "slug-taken", "The short name is taken",
				fmt.Sprintf("The %s %q has the short name %s already.", q.as, name, s.Slug),
				"Choose another short name.",
			)
		}
		return ground.Problem(
			http.StatusConflict, "entity-id-taken", "The entity ID is taken",
			fmt.Sprintf("The %s %q has the entity ID %s already; two can't share one.", q.as, name, s.EntityID),
			"Is it the same one? Then open it instead of adding it again.",
		)
	}
	return nil
}

// changedMeanwhile shows whoever comes second both changes: the one that was made since, and their own.
func (g *Room) changedMeanwhile(tx *gorm.DB, row *store.Object, revision int, mine string) error {
	base, err := store.One[store.Revision](tx, "object_id = ? AND number = ?", row.ID, revision)
	if err != nil {
		return err
	}
	err = ground.StaleRevision(row.Name)
	var p *api.Problem
	if base.Body == "" || !errors.As(err, &p) {
		return err
	}
	m, failed := g.Meanwhile(tx, row.ID, row.Revision, base.Body, row.Body, mine)
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

// SaveApplication creates an application (empty slug) or replaces the one with this slug. Revision, if not 0, is the
// one that the change was made on. The slug is fixed once given, because addresses hold it.
func (g *Room) SaveApplication(
	ctx context.Context,
	who ground.Actor,
	slug string,
	a config.Application,
	revision int,
) (*api.Application, error) {
	if slug != "" && a.Slug == "" {
		a.Slug = slug
	}
	if slug == "" && a.Slug == "" {
		a.Slug = config.Slug(a.Name)
	}
	if err := a.Validate(); err != nil {
		return nil, ground.Invalid(err)
	}
	if err := g.partners.CheckSector(ctx, slug, &a); err != nil {
		return nil, err
	}
	now := g.Now().UTC()
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		return g.WriteApplication(tx, now, who, slug, a, revision)
	})
	if err != nil {
		return nil, err
	}
	return g.Views.Application(ctx, a.Slug)
}

// WriteApplication writes an application in a transaction: new where slug is empty, else over the revision that was
// seen.
func (g *Room) WriteApplication(tx *gorm.DB, now time.Time, who ground.Actor, slug string, a config.Application, revision int) error {
	if err := partners.KnownProviders(tx, a.Providers); err != nil {
		return err
	}
	if err := persons.KnownGroups(tx, GroupsOf(a.Access.Rules)); err != nil {
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
	if err := persons.KnownGroups(tx, groups); err != nil {
		return err
	}
	if err := knownSets(tx, config.SetAccess, used); err != nil {
		return err
	}
	uses := a.Mapping.Uses()
	if a.Accounts != nil {
		uses = append(uses, a.Accounts.Mapping.Uses()...)
	}
	if err := knownSets(tx, config.SetMapping, uses); err != nil {
		return err
	}
	var row store.Application
	s := ground.Saved{Kind: "application", Slug: a.Slug, Name: a.Name, EntityID: a.Identifier(), Body: ground.MustJSON(a)}
	if a.SAML != nil {
		s.Certificates, s.Watch = a.SAML.Certificates, a.SAML.Metadata
	}
	if err := partners.DropMovedAccountSecrets(tx, now, who, slug, &a); err != nil {
		return err
	}
	row.Kind, row.Reach = a.Kind, string(a.Reach)
	return g.writeObject(tx, now, who, slug, s, revision, &row, &row.Object)
}

// writeObject creates an application or provider (empty slug) or replaces it, with a revision and a line in the
// journal. Record is the row as the database layer knows it, row its fields; kind and reach stand in it already.
func (g *Room) writeObject(
	tx *gorm.DB,
	now time.Time,
	who ground.Actor,
	slug string,
	s ground.Saved,
	revision int,
	record any,
	row *store.Object,
) error {
	kind, reach, action, before := row.Kind, row.Reach, "created", ""
	row.CreatedAt = now
	if slug == "" {
		// The new ID is given last: a record that has one is looked for by it.
		row.ID = who.NewID(s.Kind, s.Slug)
		s.Fresh = len(who.IDs) == 0
	} else {
		if err := tx.Where("slug = ?", slug).Take(record).Error; err != nil {
			return ground.Missing(err, s.Kind, slug)
		}
		if revision != 0 && revision != row.Revision {
			return g.changedMeanwhile(tx, row, revision, s.Body)
		}
		if s.Slug != slug {
			return ground.BadRequest("slug-fixed", "The short name can't change: it stands in addresses that others hold.",
				"Make a new "+s.Kind+" with the other short name.")
		}
		if row.Body == s.Body {
			return nil
		}
		action, before = "changed", row.Body
	}
	if err := partners.Reviewed(tx, who, s.Name, access.Reach(row.Reach), access.Reach(reach)); err != nil {
		return err
	}
	s.ID = row.ID
	if err := g.conflict(tx, s); err != nil {
		return err
	}
	row.Slug, row.Name, row.Kind, row.Reach = s.Slug, s.Name, kind, reach
	row.EntityID, row.Body, row.UpdatedAt = partners.EntityColumn(s.EntityID), s.Body, now
	if row.Revision++; !s.Fresh {
		number, err := ground.NextNumber(tx, row.ID, row.Revision-1)
		if err != nil {
			return err
		}
		row.Revision = number
	}
	if err := partners.Save(tx, now, who, record, s); err != nil {
		return err
	}
	return ground.Revise(tx, now, who, action, s, row.Revision, before)
}

// SaveProvider is SaveApplication for providers.
func (g *Room) SaveProvider(ctx context.Context, who ground.Actor, slug string, p config.Provider, revision int) (*api.Provider, error) {
	if slug != "" && p.Slug == "" {
		p.Slug = slug
	}
	if slug == "" && p.Slug == "" {
		p.Slug = config.Slug(p.Name)
	}
	if err := p.Validate(); err != nil {
		return nil, ground.Invalid(err)
	}
	now := g.Now().UTC()
	if err := g.Store.Write(ctx, func(tx *gorm.DB) error { return g.WriteProvider(tx, now, who, slug, p, revision) }); err != nil {
		return nil, err
	}
	return g.Views.Provider(ctx, p.Slug)
}

// WriteProvider writes a provider in a transaction: new where slug is empty, else over the revision that was seen.
func (g *Room) WriteProvider(tx *gorm.DB, now time.Time, who ground.Actor, slug string, p config.Provider, revision int) error {
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
	if err := persons.KnownGroups(tx, granted); err != nil {
		return err
	}
	if err := g.knownTypes(tx, p); err != nil {
		return err
	}
	var row store.Provider
	// Two connections to one OpenID provider, with a client ID each, may share its issuer.
	s := ground.Saved{Kind: "provider", Slug: p.Slug, Name: p.Name, Body: ground.MustJSON(p)}
	if p.SAML != nil {
		s.EntityID, s.Certificates, s.Watch = p.SAML.EntityID, p.SAML.Certificates, p.SAML.Metadata
	}
	row.Kind, row.Reach = p.Kind, string(p.Reach)
	return partners.KeepConfirmed(tx, who, func() error {
		if err := partners.DropMovedSecrets(tx, now, who, slug, &p); err != nil {
			return err
		}
		if err := keepIssuers(tx, slug, &p); err != nil {
			return err
		}
		return g.writeObject(tx, now, who, slug, s, revision, &row, &row.Object)
	})
}

// keepIssuers sees to it that people stay whose they are where a provider gets another issuer. One that nobody knew before is
// another name of the same; but where two of those that were accepted change places, their people do not.
func keepIssuers(tx *gorm.DB, slug string, p *config.Provider) error {
	if slug == "" || p.OIDC == nil {
		return nil
	}
	row, err := store.One[store.Provider](tx, "slug = ?", slug)
	if err != nil || row.ID == "" {
		return err
	}
	before, err := ground.DecodeBody[config.Provider](row.Body)
	if err != nil || before.OIDC == nil || before.OIDC.Issuer == p.OIDC.Issuer {
		return err
	}
	was, own := before.OIDC.Issuer, p.OIDC.Issuer
	if !slices.Contains(before.OIDC.AcceptedIssuers, own) && !slices.Contains(p.OIDC.AcceptedIssuers, was) {
		return nil
	}
	return persons.Reissued(tx, row.ID, was, own)
}

// DeleteApplication removes one. Its revisions, traces and journal lines stay readable.
func (g *Room) DeleteApplication(ctx context.Context, who ground.Actor, slug string) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error { return g.RemoveApplication(tx, who, slug) })
}

// RemoveApplication deletes an application in a transaction.
func (g *Room) RemoveApplication(tx *gorm.DB, who ground.Actor, slug string) error {
	var row store.Application
	if err := tx.Where("slug = ?", slug).Take(&row).Error; err != nil {
		return ground.Missing(err, "application", slug)
	}
	if err := partners.Reviewed(tx, who, row.Name, access.Reach(row.Reach), access.Closed); err != nil {
		return err
	}
	now := g.Now().UTC()
	if err := partners.Delete(tx, now, &row, "application", row.ID); err != nil {
		return err
	}
	// What people and clients had of it ends with it, and does not come back where it is restored, or made anew under the
	// same name.
	if err := issued.EndOfApplication(tx, row.ID, "the application was deleted", now); err != nil {
		return err
	}
	if err := guarded.EndOfApplication(tx, row.ID); err != nil {
		return err
	}
	if err := persons.ForgetApplication(tx, row.ID); err != nil {
		return err
	}
	if err := console.ForgetApplication(tx, slug); err != nil {
		return err
	}
	return g.Unmake(tx, who, ground.Saved{Kind: "application", ID: row.ID, Slug: slug, Name: row.Name, Body: row.Body})
}

// DeleteProvider removes one that no application uses.
func (g *Room) DeleteProvider(ctx context.Context, who ground.Actor, slug string) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error { return g.RemoveProvider(tx, who, slug) })
}

// RemoveProvider deletes a provider in a transaction; one that applications use is refused.
func (g *Room) RemoveProvider(tx *gorm.DB, who ground.Actor, slug string) error {
	var row store.Provider
	if err := tx.Where("slug = ?", slug).Take(&row).Error; err != nil {
		return ground.Missing(err, "provider", slug)
	}
	var users []string
	if err := partners.UsedBy(tx, slug).Limit(6).Pluck("name", &users).Error; err != nil {
		return err
	}
	if len(users) > 0 {
		return ground.Problem(
			http.StatusConflict, "in-use", "The provider is in use",
			fmt.Sprintf("People sign in with %s to %s.", row.Name, strings.Join(users, ", ")),
			"Give these applications another provider first.",
		)
	}
	if err := partners.Reviewed(tx, who, row.Name, access.Reach(row.Reach), access.Closed); err != nil {
		return err
	}
	if err := partners.Delete(tx, g.Now().UTC(), &row, "provider", row.ID); err != nil {
		return err
	}
	return g.Unmake(tx, who, ground.Saved{Kind: "provider", ID: row.ID, Slug: slug, Name: row.Name, Body: row.Body})
}

// SetReach opens, closes or takes back to draft, in one step.
func (g *Room) SetReach(ctx context.Context, who ground.Actor, kind, slug string, reach access.Reach) error {
	if kind == "application" {
		a, err := g.partners.Application(ctx, slug)
		if err != nil {
			return err
		}
		c := a.Application
		c.Reach = reach
		_, err = g.SaveApplication(ctx, who, slug, c, a.Revision)
		return err
	}
	p, err := g.partners.Provider(ctx, slug)
	if err != nil {
		return err
	}
	c := p.Provider
	c.Reach = reach
	_, err = g.SaveProvider(ctx, who, slug, c, p.Revision)
	return err
}

// Meanwhile tells who changed an object since a body of it, and how that and one's own change differ from it.
func (g *Room) Meanwhile(db *gorm.DB, id string, number int, base, theirs, mine string) (*api.Meanwhile, error) {
	r, err := store.One[store.Revision](db, "object_id = ? AND number = ?", id, number)
	if err != nil {
		return nil, err
	}
	_, both := files.Merge(base, theirs, mine)
	return &api.Meanwhile{
		By:     r.Author,
		At:     r.At,
		Number: number,
		Theirs: ground.BodyChanges(base, theirs),
		Mine:   ground.BodyChanges(base, mine),
		Both:   words.List(both),
	}, nil
}
