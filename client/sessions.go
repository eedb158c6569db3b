package client

import (
	"context"
	"net/url"

	"innergate/api"
	"innergate/core/config"
)

// Sessions lists a page of sessions, the newest first. Filters are person, provider, application and ended (yes).
func (c *Client) Sessions(ctx context.Context, p Page) (*api.List[api.Session], error) {
	return do[api.List[api.Session]](ctx, c, "GET", "/sessions"+p.query(), nil)
}

// EndSession ends one.
func (c *Client) EndSession(ctx context.Context, id string) error {
	return c.Do(ctx, "DELETE", "/sessions/"+url.PathEscape(id), nil, nil)
}

// EndSessionsOf ends all sessions of a person.
func (c *Client) EndSessionsOf(ctx context.Context, person string) error {
	return c.Do(ctx, "DELETE", "/people/"+url.PathEscape(person)+"/sessions", nil, nil)
}

// Pages tells how the pages for people look.
func (c *Client) Pages(ctx context.Context) (*config.Pages, error) {
	return do[config.Pages](ctx, c, "GET", "/pages", nil)
}

// SetPages says how the pages for people look.
func (c *Client) SetPages(ctx context.Context, p config.Pages) (*config.Pages, error) {
	return do[config.Pages](ctx, c, "PUT", "/pages", p)
}

// SessionLimits tells how long sessions last.
func (c *Client) SessionLimits(ctx context.Context) (*api.SessionLimits, error) {
	return do[api.SessionLimits](ctx, c, "GET", "/session-limits", nil)
}

// SetSessionLimits says how long sessions last.
func (c *Client) SetSessionLimits(ctx context.Context, s api.SessionLimits) (*api.SessionLimits, error) {
	return do[api.SessionLimits](ctx, c, "PUT", "/session-limits", s)
}
