package partners

import (
	"context"
	"encoding/json"
	"fmt"

	"innergate/core/access"
	"innergate/store"
)

// SettingRoutes names the setting of routes.
const SettingRoutes = "routes"

// Routes are the rules that choose the way by which people sign in.
func (g *Room) Routes(ctx context.Context) (*access.Routes, error) {
	c, err := g.Cache(ctx)
	if err != nil {
		return nil, err
	}
	if r := c.Routes.Load(); r != nil {
		return r, nil
	}
	var row store.Setting
	if err := g.Store.Read(ctx).Where("name = ?", SettingRoutes).Limit(1).Find(&row).Error; err != nil {
		return nil, store.Clear(err)
	}
	r := &access.Routes{Rules: []access.Route{}, Field: access.FieldNeeded}
	if row.Value != "" {
		if err := json.Unmarshal([]byte(row.Value), r); err != nil {
			return nil, fmt.Errorf("the routes can't be read: %w", err)
		}
	}
	c.Routes.Store(r)
	return r, nil
}
