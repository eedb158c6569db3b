package client

import (
	"context"
	"io"
	"net/http"

	"innergate/api"
)

// Copies lists those that the service has made by itself.
func (c *Client) Copies(ctx context.Context) (*api.Copies, error) {
	return do[api.Copies](ctx, c, http.MethodGet, "/copies", nil)
}

// MakeCopy has the service make one now.
func (c *Client) MakeCopy(ctx context.Context) (*api.Copy, error) {
	return do[api.Copy](ctx, c, http.MethodPost, "/copies", nil)
}

// FetchCopy fetches a copy of the records, however long it is and takes.
func (c *Client) FetchCopy(ctx context.Context, in api.FetchCopy, to io.Writer) error {
	patient := *c
	patient.HTTP = &http.Client{Transport: c.HTTP.Transport}
	return patient.Do(ctx, http.MethodPost, "/copies/fetch", in, to)
}
