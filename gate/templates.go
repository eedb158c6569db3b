package gate

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/config"
	"innergate/store"
)

// Templates lists those that ship and those that were saved here.
func (g *Gate) Templates(ctx context.Context) (*api.List[config.Template], error) {
	var rows []store.Template
	if err := g.Store.Read(ctx).Order("name").Limit(500).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[config.Template]{Items: []config.Template{}}
	for _, row := range rows {
		t, err := decodeBody[config.Template](row.Body)
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, t)
	}
	out.Items = append(out.Items, config.ShippedTemplates()...)
	return out, nil
}

// Template shows one.
func (g *Gate) Template(ctx context.Context, slug string) (*config.Template, error) {
	list, err := g.Templates(ctx)
	if err != nil {
		return nil, err
	}
	for i := range list.Items {
		if list.Items[i].Slug == slug {
			return &list.Items[i], nil
		}
	}
	return nil, notFound("template", slug)
}

// NewTemplate saves a connection as a template.
func (g *Gate) NewTemplate(ctx context.Context, who Actor, in api.NewTemplate) (*config.Template, error) {
	kind, _, err := g.owner(ctx, in.From)
	if err != nil {
		return nil, err
	}
	if kind == "" {
		return nil, badRequest("bad-partner", "No connection is named.", "Write applications/ or providers/ and the short name.")
	}
	p, err := g.eitherPartner(ctx, kind, in.From[strings.IndexByte(in.From, '/')+1:])
	if err != nil {
		return nil, err
	}
	t, err := config.NewTemplate(in.Name, p.app, p.provider, in.Blanks)
	if err != nil {
		return nil, invalid(err)
	}
	t.Description = in.Description
	if err := t.Validate(); err != nil {
		return nil, invalid(err)
	}
	for _, s := range config.ShippedTemplates() {
		if s.Slug == t.Slug {
			return nil, templateTaken(t.Slug)
		}
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error { return g.writeTemplate(tx, who, "", *t) })
	if errors.Is(err, store.ErrDuplicate) {
		return nil, templateTaken(t.Slug)
	}
	return t, err
}

// writeTemplate creates a template (empty slug) or replaces the one with this slug.
func (g *Gate) writeTemplate(tx *gorm.DB, who Actor, slug string, t config.Template) error {
	now, action, before := g.Now().UTC(), "created", ""
	t.Shipped = false
	row := store.Template{CreatedAt: now}
	if slug != "" {
		if err := tx.Where("slug = ?", slug).Take(&row).Error; err != nil {
			return missing(err, "template", slug)
		}
		if row.Body == mustJSON(t) {
			return nil
		}
		action, before = "changed", row.Body
	} else {
		row.ID = who.newID("template", t.Slug)
	}
	row.Slug, row.Name, row.Body, row.UpdatedAt = t.Slug, t.Name, mustJSON(t), now
	write := tx.Save
	if action == "created" {
		write = tx.Create
	}
	if err := write(&row).Error; err != nil {
		return err
	}
	return revise(tx, now, who, action, saved{kind: "template", id: row.ID, slug: row.Slug, name: row.Name, body: row.Body}, 0, before)
}

func templateTaken(slug string) error {
	return problem(http.StatusConflict, "slug-taken", "The name is taken", fmt.Sprintf("There is a template with the short name %s already.", slug), "Choose another name, or delete that one.")
}

// DeleteTemplate removes one that was saved here.
func (g *Gate) DeleteTemplate(ctx context.Context, who Actor, slug string) error {
	for _, s := range config.ShippedTemplates() {
		if s.Slug == slug {
			return conflict("template-shipped", "This template comes with the program and can't be deleted.", "")
		}
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error { return g.removeTemplate(tx, who, slug) })
}

func (g *Gate) removeTemplate(tx *gorm.DB, who Actor, slug string) error {
	var row store.Template
	if err := tx.Where("slug = ?", slug).Take(&row).Error; err != nil {
		return missing(err, "template", slug)
	}
	if err := tx.Delete(&row).Error; err != nil {
		return err
	}
	return g.unmake(tx, who, saved{kind: "template", id: row.ID, slug: slug, name: row.Name, body: row.Body})
}

// StartTemplate makes a draft from a template and returns what it is.
func (g *Gate) StartTemplate(ctx context.Context, who Actor, slug string, in api.StartTemplate) (*api.Reference, error) {
	t, err := g.Template(ctx, slug)
	if err != nil {
		return nil, err
	}
	a, p, err := t.Fill(in.Values)
	if err != nil {
		return nil, invalid(err)
	}
	if a != nil {
		a.Name, a.Slug = in.Name, in.Slug
		v, err := g.SaveApplication(ctx, who, "", *a, 0)
		if err != nil {
			return nil, err
		}
		return &api.Reference{Slug: v.Slug, Name: v.Name, Kind: "application", Reach: string(v.Reach)}, nil
	}
	p.Name, p.Slug = in.Name, in.Slug
	v, err := g.SaveProvider(ctx, who, "", *p, 0)
	if err != nil {
		return nil, err
	}
	return &api.Reference{Slug: v.Slug, Name: v.Name, Kind: "provider", Reach: string(v.Reach)}, nil
}

// stepsFor fills our values into the steps for the other side.
func stepsFor(s *api.ExchangeSheet, steps []string) []string {
	values := []string{"{{our.metadata}}", s.Metadata}
	for _, v := range s.Values {
		switch v.Field {
		case "entity":
			values = append(values, "{{our.entity-id}}", v.Value)
		case "issuer", "redirect":
			values = append(values, "{{our."+v.Field+"}}", v.Value)
		case "sso", "acs":
			values = append(values, "{{our."+v.Field+"}}", v.Value)
		}
	}
	out := []string{}
	for _, step := range steps {
		out = append(out, strings.NewReplacer(values...).Replace(step))
	}
	return out
}
