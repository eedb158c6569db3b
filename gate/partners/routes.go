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
	row, err := store.One[store.Setting](g.Store.Read(ctx), "name = ?", SettingRoutes)
	if err != nil {
		return nil, err
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
