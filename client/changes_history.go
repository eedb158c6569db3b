package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"innergate/api"
	"innergate/core/config"
)

// History lists revisions, the newest first. Kind and slug may be empty.
func (c *Client) History(ctx context.Context, kind, slug string, p Page) (*api.List[api.Revision], error) {
	if p.Filters == nil {
		p.Filters = map[string]string{}
	}
	p.Filters["kind"], p.Filters["slug"] = kind, slug
	return do[api.List[api.Revision]](ctx, c, http.MethodGet, "/history"+p.query(), nil)
}

// Revision is one revision, held against another one; 0 stands for the newest.
func (c *Client) Revision(ctx context.Context, kind, slug string, number, against int) (*api.RevisionView, error) {
	q := url.Values{"kind": {kind}, "slug": {slug}, "number": {strconv.Itoa(number)}, "against": {strconv.Itoa(against)}}
	return do[api.RevisionView](ctx, c, http.MethodGet, "/history/revision?"+q.Encode(), nil)
}

// Restore brings one object back to a revision, or the whole configuration to a time, or tells what that would do.
func (c *Client) Restore(ctx context.Context, in api.Restore) (*api.ConfigResult, error) {
	return do[api.ConfigResult](ctx, c, http.MethodPost, "/history/restore", in)
}

// Propose proposes a change.
func (c *Client) Propose(ctx context.Context, in api.NewProposal) (*api.Proposal, error) {
	return do[api.Proposal](ctx, c, http.MethodPost, "/proposals", in)
}

// Proposals lists them, the newest first.
func (c *Client) Proposals(ctx context.Context, p Page) (*api.List[api.Proposal], error) {
	return do[api.List[api.Proposal]](ctx, c, http.MethodGet, "/proposals"+p.query(), nil)
}

// Proposal shows one.
func (c *Client) Proposal(ctx context.Context, id string) (*api.Proposal, error) {
	return do[api.Proposal](ctx, c, http.MethodGet, at("proposals", id), nil)
}

// ChangeProposal replaces what is proposed.
func (c *Client) ChangeProposal(ctx context.Context, id string, in api.NewProposal) (*api.Proposal, error) {
	return do[api.Proposal](ctx, c, http.MethodPut, at("proposals", id), in)
}

// ApproveProposal approves what somebody else proposed.
func (c *Client) ApproveProposal(ctx context.Context, id string) (*api.Proposal, error) {
	return do[api.Proposal](ctx, c, http.MethodPost, at("proposals", id, "approve"), nil)
}

// ApplyProposal makes the change, now or in a window.
func (c *Client) ApplyProposal(ctx context.Context, id string, in api.ApplyProposal) (*api.Proposal, error) {
	return do[api.Proposal](ctx, c, http.MethodPost, at("proposals", id, "apply"), in)
}

// WithdrawProposal ends one.
func (c *Client) WithdrawProposal(ctx context.Context, id, note string) (*api.Proposal, error) {
	return do[api.Proposal](ctx, c, http.MethodPost, at("proposals", id, "withdraw"), api.WithdrawProposal{Note: note})
}

// SetReview says which changes need a second person.
func (c *Client) SetReview(ctx context.Context, r config.Review) (*config.Review, error) {
	return do[config.Review](ctx, c, http.MethodPut, "/review", r)
}

// VerifyJournal has the gate walk its journal. Has is a hash that must be among the lines, or nothing.
func (c *Client) VerifyJournal(ctx context.Context, has string) (*api.JournalVerdict, error) {
	return do[api.JournalVerdict](ctx, c, http.MethodGet, "/journal/verify?has="+url.QueryEscape(has), nil)
}

// ExportJournal is a part of the journal from a line on; empty at its end.
func (c *Client) ExportJournal(ctx context.Context, from int64) ([]byte, error) {
	var out []byte
	err := c.Do(ctx, http.MethodGet, "/journal/export?from="+strconv.FormatInt(from, 10), nil, &out)
	return out, err
}
