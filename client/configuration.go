package client

import (
	"context"
	"net/url"

	"innergate/api"
	"innergate/core/access"
)

// Routes are the rules that choose the way by which people sign in.
func (c *Client) Routes(ctx context.Context) (*access.Routes, error) {
	return do[access.Routes](ctx, c, "GET", "/routes", nil)
}

// SetRoutes replaces them.
func (c *Client) SetRoutes(ctx context.Context, r access.Routes) (*access.Routes, error) {
	return do[access.Routes](ctx, c, "PUT", "/routes", r)
}

// AskRoute tells where somebody would go, and why.
func (c *Client) AskRoute(ctx context.Context, q api.RouteQuestion) (*api.RouteAnswer, error) {
	return do[api.RouteAnswer](ctx, c, "POST", "/routes/ask", q)
}

func reachPath(kind, slug string) string { return "/" + kind + "/" + url.PathEscape(slug) + "/reach" }

// ChangeReach says whom an application or provider serves. Kind is applications or providers.
func (c *Client) ChangeReach(ctx context.Context, kind, slug string, in api.ReachChange) (*api.ReachChanged, error) {
	return do[api.ReachChanged](ctx, c, "PUT", reachPath(kind, slug), in)
}

// PreviewReach tells whom that would touch.
func (c *Client) PreviewReach(ctx context.Context, kind, slug string, in api.ReachChange) (*api.ReachPreview, error) {
	return do[api.ReachPreview](ctx, c, "POST", reachPath(kind, slug)+"-preview", in)
}

// UndoReach takes the newest change back.
func (c *Client) UndoReach(ctx context.Context, kind, slug string) error {
	return c.Do(ctx, "POST", reachPath(kind, slug)+"-undo", nil, nil)
}

// ReachHistory lists the changes.
func (c *Client) ReachHistory(ctx context.Context, kind, slug string) (*api.List[api.ReachStep], error) {
	return do[api.List[api.ReachStep]](ctx, c, "GET", reachPath(kind, slug), nil)
}

// Guard tells how a guarded application stands behind the gate.
func (c *Client) Guard(ctx context.Context, slug string) (*api.GuardView, error) {
	return do[api.GuardView](ctx, c, "GET", "/applications/"+url.PathEscape(slug)+"/guard", nil)
}

// TryPath tells which path rule decides.
func (c *Client) TryPath(ctx context.Context, slug string, in api.TryPath) (*api.TriedPath, error) {
	return do[api.TriedPath](ctx, c, "POST", "/applications/"+url.PathEscape(slug)+"/guard/try", in)
}

// SetGuardPassword stores the password with which a guarded application gets basic credentials.
func (c *Client) SetGuardPassword(ctx context.Context, slug string, in api.GuardPassword) error {
	return c.Do(ctx, "PUT", "/applications/"+url.PathEscape(slug)+"/guard/password", in, nil)
}
