package client

import (
	"context"
	"net/http"

	"innergate/api"
)

// TryDirectory tries a directory, without signing anybody in.
func (c *Client) TryDirectory(ctx context.Context, slug string, in api.TryDirectory) (*api.TriedDirectory, error) {
	return do[api.TriedDirectory](ctx, c, http.MethodPost, at("providers", slug, "try-directory"), in)
}
