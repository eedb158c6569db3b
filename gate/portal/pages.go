package portal

import (
	"context"
	"encoding/json"
	"fmt"

	"gorm.io/gorm"

	"innergate/core/config"
	"innergate/core/files"
	"innergate/gate/ground"
	"innergate/store"
)

// Pages is how the pages for people look.
func (g *Room) Pages(ctx context.Context) (config.Pages, error) {
	c, err := g.Cache(ctx)
	if err != nil {
		return config.Pages{}, err
	}
	if p := c.Pages.Load(); p != nil {
		return *p, nil
	}
	row, err := store.One[store.Setting](g.Store.Read(ctx), "name = ?", files.SettingPages)
	if err != nil {
		return config.Pages{}, err
	}
	var p config.Pages
	if row.Value != "" {
		if err := json.Unmarshal([]byte(row.Value), &p); err != nil {
			return p, fmt.Errorf("how pages look can't be read: %w", err)
		}
	}
	c.Pages.Store(&p)
	return p, nil
}

// SetPages says how they look from now on.
func (g *Room) SetPages(ctx context.Context, who ground.Actor, p config.Pages) (*config.Pages, error) {
	if err := p.Validate(); err != nil {
		return nil, ground.Invalid(err)
	}
	before, err := g.Pages(ctx)
	if err != nil {
		return nil, err
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		return g.WriteSetting(tx, who, files.SettingPages, "how pages for people look", before, p)
	})
	if err != nil {
		return nil, err
	}
	return &p, nil
}
