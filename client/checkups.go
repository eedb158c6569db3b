package client

import (
	"context"
	"net/url"

	"innergate/api"
)

// Checkup inspects the whole configuration now.
func (c *Client) Checkup(ctx context.Context) (*api.CheckupResult, error) {
	return do[api.CheckupResult](ctx, c, "POST", "/checkup", nil)
}

// Findings lists what was found and is there still.
func (c *Client) Findings(ctx context.Context, p Page) (*api.List[api.KeptFinding], error) {
	return do[api.List[api.KeptFinding]](ctx, c, "GET", "/findings"+p.query(), nil)
}

// AcceptFinding accepts one with a reason until a date.
func (c *Client) AcceptFinding(ctx context.Context, id string, in api.AcceptFinding) (*api.KeptFinding, error) {
	return do[api.KeptFinding](ctx, c, "POST", "/findings/"+url.PathEscape(id)+"/accept", in)
}

// ReopenFinding takes an acceptance back.
func (c *Client) ReopenFinding(ctx context.Context, id string) (*api.KeptFinding, error) {
	return do[api.KeptFinding](ctx, c, "DELETE", "/findings/"+url.PathEscape(id)+"/accept", nil)
}

// Correction shows the change that would settle a finding.
func (c *Client) Correction(ctx context.Context, id string) (*api.Correction, error) {
	return do[api.Correction](ctx, c, "GET", "/findings/"+url.PathEscape(id)+"/correction", nil)
}

// Correct makes it.
func (c *Client) Correct(ctx context.Context, id string, revision int) error {
	return c.Do(ctx, "POST", "/findings/"+url.PathEscape(id)+"/correction", api.Correct{Revision: revision}, nil)
}

// OutsideHosts lists partners' hosts.
func (c *Client) OutsideHosts(ctx context.Context) (*api.List[api.OutsideHost], error) {
	return do[api.List[api.OutsideHost]](ctx, c, "GET", "/outside", nil)
}

// LookOutside looks at one now.
func (c *Client) LookOutside(ctx context.Context, origin string) (*api.List[api.OutsideHost], error) {
	return do[api.List[api.OutsideHost]](ctx, c, "POST", "/outside/look", api.LookOutside{Origin: origin})
}

// Notices are whom the gate tells about new findings.
func (c *Client) Notices(ctx context.Context) (*api.NoticesView, error) {
	return do[api.NoticesView](ctx, c, "GET", "/notices", nil)
}

// SetNotices says whom.
func (c *Client) SetNotices(ctx context.Context, in api.SaveNotices) (*api.NoticesView, error) {
	return do[api.NoticesView](ctx, c, "PUT", "/notices", in)
}
