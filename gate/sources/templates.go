package sources

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/config"
	"innergate/gate/ground"
	"innergate/store"
)

// Templates lists those that ship and those that were saved here.
func (g *Room) Templates(ctx context.Context) (*api.List[config.Template], error) {
	var rows []store.Template
	if err := g.Store.Read(ctx).Order("name").Limit(500).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[config.Template]{Items: []config.Template{}}
	for _, row := range rows {
		t, err := ground.DecodeBody[config.Template](row.Body)
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, t)
	}
	out.Items = append(out.Items, config.ShippedTemplates()...)
	return out, nil
}

// Template shows one.
func (g *Room) Template(ctx context.Context, slug string) (*config.Template, error) {
	list, err := g.Templates(ctx)
	if err != nil {
		return nil, err
	}
	for i := range list.Items {
		if list.Items[i].Slug == slug {
			return &list.Items[i], nil
		}
	}
	return nil, ground.NotFound("template", slug)
}

// NewTemplate saves a connection as a template.
func (g *Room) NewTemplate(ctx context.Context, who ground.Actor, in api.NewTemplate) (*config.Template, error) {
	kind, _, err := g.Owner(ctx, in.From)
	if err != nil {
		return nil, err
	}
	if kind == "" {
		return nil, ground.BadRequest("bad-partner", "No connection is named.", "Write applications/ or providers/ and the short name.")
	}
	p, err := g.watch.EitherPartner(ctx, kind, in.From[strings.IndexByte(in.From, '/')+1:])
	if err != nil {
		return nil, err
	}
	t, err := config.NewTemplate(in.Name, p.App, p.Provider, in.Blanks)
	if err != nil {
		return nil, ground.Invalid(err)
	}
	t.Description = in.Description
	if err := t.Validate(); err != nil {
		return nil, ground.Invalid(err)
	}
	for _, s := range config.ShippedTemplates() {
		if s.Slug == t.Slug {
			return nil, templateTaken(t.Slug)
		}
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error { return g.WriteTemplate(tx, who, "", *t) })
	if errors.Is(err, store.ErrDuplicate) {
		return nil, templateTaken(t.Slug)
	}
	return t, err
}

// WriteTemplate creates a template (empty slug) or replaces the one with this slug.
func (g *Room) WriteTemplate(tx *gorm.DB, who ground.Actor, slug string, t config.Template) error {
	now, action, before := g.Now().UTC(), "created", ""
	t.Shipped = false
	row := store.Template{CreatedAt: now}
	if slug != "" {
		if err := tx.Where("slug = ?", slug).Take(&row).Error; err != nil {
			return ground.Missing(err, "template", slug)
		}
		if row.Body == ground.MustJSON(t) {
			return nil
		}
		action, before = "changed", row.Body
	} else {
		row.ID = who.NewID("template", t.Slug)
	}
	row.Slug, row.Name, row.Body, row.UpdatedAt = t.Slug, t.Name, ground.MustJSON(t), now
	write := tx.Save
	if action == "created" {
		write = tx.Create
	}
	if err := write(&row).Error; err != nil {
		return err
	}
	return ground.Revise(
		tx,
		now,
		who,
		action,
		ground.Saved{Kind: "template", ID: row.ID, Slug: row.Slug, Name: row.Name, Body: row.Body},
		0,
		before,
	)
}

func templateTaken(slug string) error {
	return ground.Problem(
		http.StatusConflict, "slug-taken", "The name is taken",
		fmt.Sprintf("There is a template with the short name %s already.", slug),
		"Choose another name, or delete that one.",
	)
}

// DeleteTemplate removes one that was saved here.
func (g *Room) DeleteTemplate(ctx context.Context, who ground.Actor, slug string) error {
	for _, s := range config.ShippedTemplates() {
		if s.Slug == slug {
			return ground.Conflict("template-shipped", "This template comes with the program and can't be deleted.", "")
		}
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error { return g.RemoveTemplate(tx, who, slug) })
}

// RemoveTemplate deletes a template in a transaction.
func (g *Room) RemoveTemplate(tx *gorm.DB, who ground.Actor, slug string) error {
	var row store.Template
	if err := tx.Where("slug = ?", slug).Take(&row).Error; err != nil {
		return ground.Missing(err, "template", slug)
	}
	if err := tx.Delete(&row).Error; err != nil {
		return err
	}
	return g.Unmake(tx, who, ground.Saved{Kind: "template", ID: row.ID, Slug: slug, Name: row.Name, Body: row.Body})
}

// StartTemplate makes a draft from a template and returns what it is.
func (g *Room) StartTemplate(ctx context.Context, who ground.Actor, slug string, in api.StartTemplate) (*api.Reference, error) {
	t, err := g.Template(ctx, slug)
	if err != nil {
		return nil, err
	}
	a, p, err := t.Fill(in.Values)
	if err != nil {
		return nil, ground.Invalid(err)
	}
	if a != nil {
		a.Name, a.Slug = in.Name, in.Slug
		v, err := g.configuration.SaveApplication(ctx, who, "", *a, 0)
		if err != nil {
			return nil, err
		}
		return &api.Reference{Slug: v.Slug, Name: v.Name, Kind: "application", Reach: string(v.Reach)}, nil
	}
	p.Name, p.Slug = in.Name, in.Slug
	v, err := g.configuration.SaveProvider(ctx, who, "", *p, 0)
	if err != nil {
		return nil, err
	}
	return &api.Reference{Slug: v.Slug, Name: v.Name, Kind: "provider", Reach: string(v.Reach)}, nil
}
