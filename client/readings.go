package client

import (
	"context"
	"net/http"

	"innergate/api"
)

// Readings lists the newest readings of a directory's people.
func (c *Client) Readings(ctx context.Context, slug string) (*api.List[api.Reading], error) {
	return do[api.List[api.Reading]](ctx, c, http.MethodGet, at("providers", slug, "readings"), nil)
}

// NewReading begins one.
func (c *Client) NewReading(ctx context.Context, slug string, in api.NewReading) (*api.Reading, error) {
	return do[api.Reading](ctx, c, http.MethodPost, at("providers", slug, "readings"), in)
}

// Reading shows how one stands.
func (c *Client) Reading(ctx context.Context, slug, id string) (*api.Reading, error) {
	return do[api.Reading](ctx, c, http.MethodGet, at("providers", slug, "readings", id), nil)
}

// WriteReading writes what was looked at, goes on with what was stopped, or agrees that so many are gone.
func (c *Client) WriteReading(ctx context.Context, slug, id string) (*api.Reading, error) {
	return do[api.Reading](ctx, c, http.MethodPost, at("providers", slug, "readings", id, "write"), nil)
}

// CancelReading cancels one.
func (c *Client) CancelReading(ctx context.Context, slug, id string) error {
	return c.Do(ctx, http.MethodDelete, at("providers", slug, "readings", id), nil, nil)
}
