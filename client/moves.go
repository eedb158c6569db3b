package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"innergate/api"
)

// Moves lists moves, the newest first.
func (c *Client) Moves(ctx context.Context) (*api.List[api.MoveLine], error) {
	return do[api.List[api.MoveLine]](ctx, c, http.MethodGet, "/moves", nil)
}

// NewMove plans a move.
func (c *Client) NewMove(ctx context.Context, in api.NewMove) (*api.Move, error) {
	return do[api.Move](ctx, c, http.MethodPost, "/moves", in)
}

// Move shows one with the usage and readiness of each application.
func (c *Client) Move(ctx context.Context, slug string) (*api.Move, error) {
	return do[api.Move](ctx, c, http.MethodGet, at("moves", slug), nil)
}

// EndMove ends one.
func (c *Client) EndMove(ctx context.Context, slug string) error {
	return c.Do(ctx, http.MethodDelete, at("moves", slug), nil, nil)
}

func wavePath(slug string, wave int, rest string) string {
	return fmt.Sprintf("%s/waves/%d%s", at("moves", slug), wave, rest)
}

// PlanWave says what is in a wave, when it opens, and what it bears.
func (c *Client) PlanWave(ctx context.Context, slug string, wave int, in api.PlanWave) (*api.Move, error) {
	return do[api.Move](ctx, c, http.MethodPut, wavePath(slug, wave, ""), in)
}

// ApproveWave approves what somebody else planned.
func (c *Client) ApproveWave(ctx context.Context, slug string, wave int) (*api.Move, error) {
	return do[api.Move](ctx, c, http.MethodPost, wavePath(slug, wave, "/approve"), nil)
}

// OpenWave opens a wave at once.
func (c *Client) OpenWave(ctx context.Context, slug string, wave int, in api.OpenWave) (*api.Move, error) {
	return do[api.Move](ctx, c, http.MethodPost, wavePath(slug, wave, "/open"), in)
}

// BackWave takes one back.
func (c *Client) BackWave(ctx context.Context, slug string, wave int, reason string) (*api.Move, error) {
	return do[api.Move](ctx, c, http.MethodPost, wavePath(slug, wave, "/back"), api.BackWave{Reason: reason})
}

// NewTrial makes a link by which people sign in both ways.
func (c *Client) NewTrial(ctx context.Context, slug string, in api.NewTrial) (*api.Trial, error) {
	return do[api.Trial](ctx, c, http.MethodPost, at("moves", slug, "trials"), in)
}

// MoveComparisons lists what came of it. Application may be empty.
func (c *Client) MoveComparisons(ctx context.Context, slug, application string) (*api.List[api.MoveComparison], error) {
	return do[api.List[api.MoveComparison]](
		ctx, c, http.MethodGet, at("moves", slug, "comparisons")+"?application="+url.QueryEscape(application), nil,
	)
}

// StillUses tells what still uses a provider.
func (c *Client) StillUses(ctx context.Context, provider string) (*api.StillUses, error) {
	return do[api.StillUses](ctx, c, http.MethodGet, at("providers", provider, "uses"), nil)
}

// NewHandover makes a handover link. Kind is applications or providers.
func (c *Client) NewHandover(ctx context.Context, kind, slug string, in api.NewHandover) (*api.Handover, error) {
	return do[api.Handover](ctx, c, http.MethodPost, at(kind, slug, "handovers"), in)
}

// Handovers lists the links for an application or provider.
func (c *Client) Handovers(ctx context.Context, kind, slug string) (*api.List[api.Handover], error) {
	return do[api.List[api.Handover]](ctx, c, http.MethodGet, at(kind, slug, "handovers"), nil)
}

// RevokeHandover ends a link at once.
func (c *Client) RevokeHandover(ctx context.Context, id string) error {
	return c.Do(ctx, http.MethodDelete, at("handovers", id), nil, nil)
}

// NewBatch takes many partners at once.
func (c *Client) NewBatch(ctx context.Context, in api.NewBatch) (*api.Batch, error) {
	return do[api.Batch](ctx, c, http.MethodPost, "/batches", in)
}

// Batches lists the newest.
func (c *Client) Batches(ctx context.Context) (*api.List[api.BatchLine], error) {
	return do[api.List[api.BatchLine]](ctx, c, http.MethodGet, "/batches", nil)
}

// Batch shows one with its rows.
func (c *Client) Batch(ctx context.Context, id string) (*api.Batch, error) {
	return do[api.Batch](ctx, c, http.MethodGet, at("batches", id), nil)
}

// ChangeBatch enters what is missing.
func (c *Client) ChangeBatch(ctx context.Context, id string, in api.ChangeBatch) (*api.Batch, error) {
	return do[api.Batch](ctx, c, http.MethodPut, at("batches", id), in)
}

// MakeBatch makes drafts of what is ready.
func (c *Client) MakeBatch(ctx context.Context, id string) (*api.Batch, error) {
	return do[api.Batch](ctx, c, http.MethodPost, at("batches", id, "make"), nil)
}

// Report lists applications or providers with owner, certificate, last sign-in and findings. Side is application or
// provider.
func (c *Client) Report(ctx context.Context, side string, p Page) (*api.Report, error) {
	return do[api.Report](ctx, c, http.MethodGet, at("reports", side)+p.query(), nil)
}

// ReportCSV is the same whole, for a spreadsheet.
func (c *Client) ReportCSV(ctx context.Context, side string, p Page) ([]byte, error) {
	var out []byte
	err := c.Do(ctx, http.MethodGet, at("reports", side, "csv")+p.query(), nil, &out)
	return out, err
}
