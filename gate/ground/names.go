package ground

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"innergate/api"
	"innergate/store"
)

// HandoverAbout begins the mark on a rehearsal that belongs to a handover link.
const HandoverAbout = "handover/"

// Reference names an object by kind and ID; one that was deleted is named by its ID.
func (g *Ground) Reference(ctx context.Context, kind, id string) (*api.Reference, error) {
	var row struct {
		Slug, Name, Kind, Reach string
		EntityID                *string
	}
	if err := g.Store.Read(ctx).Table(kind+"s").Where("id = ?", id).Limit(1).Find(&row).Error; err != nil {
		return nil, store.Clear(err)
	}
	r := &api.Reference{Slug: row.Slug, Name: row.Name, Kind: kind, Reach: row.Reach}
	if row.EntityID != nil {
		r.EntityID = *row.EntityID
	}
	if r.Slug == "" {
		r.Name = "deleted (" + id + ")"
	}
	return r, nil
}

// Owner finds the object that "applications/slug" or "providers/slug" names.
func (g *Ground) Owner(ctx context.Context, path string) (kind, id string, err error) {
	if path == "" {
		return "", "", nil
	}
	side, slug, _ := strings.Cut(path, "/")
	switch side {
	case "applications":
		id, err := g.objectNamed(ctx, "application", slug)
		return "application", id, err
	case "providers":
		id, err := g.objectNamed(ctx, "provider", slug)
		return "provider", id, err
	}
	return "", "", BadRequest(
		"bad-partner", fmt.Sprintf("%q names no partner.", path),
		"Write applications/ or providers/ and the short name.",
	)
}

func (g *Ground) objectNamed(ctx context.Context, kind, slug string) (id string, err error) {
	if err := g.Store.Read(ctx).Table(kind+"s").Select("id").Where("slug = ?", slug).Limit(1).Scan(&id).Error; err != nil {
		return "", store.Clear(err)
	}
	if id == "" {
		return "", NotFound(kind, slug)
	}
	return id, nil
}

// DecodeBody reads a configuration out of the store.
func DecodeBody[T any](body string) (T, error) {
	var v T
	err := json.Unmarshal([]byte(body), &v)
	return v, err
}
