package client

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"

	"innergate/api"
	"innergate/core/files"
)

// Files are the configuration as files: one, or a folder with one for each application and provider. Sealed ones hold
// secrets that only this gate can open.
func (c *Client) Files(ctx context.Context, folder, sealed bool) ([]files.Text, error) {
	path := "/config?form=file"
	if folder {
		path = "/config?form=folder"
	}
	if sealed {
		path += "&sealed=1"
	}
	out, err := do[api.ConfigFiles](ctx, c, http.MethodGet, path, nil)
	return out.Files, err
}

// ExportConfig is the configuration as one file.
func (c *Client) ExportConfig(ctx context.Context) (string, error) {
	list, err := c.Files(ctx, false, false)
	if err != nil {
		return "", err
	}
	return list[0].Text, nil
}

// inOneCall is up to which size files go with the call itself.
const inOneCall = 3 << 20

// Load looks at files, or loads them. What is too large for one call is sent in parts before.
func (c *Client) Load(ctx context.Context, in api.LoadConfig) (*api.ConfigResult, error) {
	doc, err := json.Marshal(api.ConfigFiles{Files: in.Files})
	if err != nil {
		return nil, err
	}
	if len(doc) > inOneCall {
		place, err := do[api.Staged](ctx, c, http.MethodPost, "/config/staged", nil)
		if err != nil {
			return nil, err
		}
		const part = 2 << 20
		for at := 0; at < len(doc); at += part {
			if _, err := do[api.Staged](ctx, c, http.MethodPost, fmt.Sprintf("/config/staged/%s/parts?at=%d", place.ID, at),
				doc[at:min(at+part, len(doc))]); err != nil {
				return nil, err
			}
		}
		in.Files, in.Staged = nil, place.ID
	}
	return do[api.ConfigResult](ctx, c, http.MethodPost, "/config", in)
}

// LoadConfig loads one file, or tells what that would do.
func (c *Client) LoadConfig(ctx context.Context, text string, preview bool) (*api.ConfigResult, error) {
	return c.Load(ctx, api.LoadConfig{Files: []files.Text{{Text: text}}, Preview: preview})
}

// SealSecret has a secret sealed for the gate, so that it can stand in a file.
func (c *Client) SealSecret(ctx context.Context, in api.SealSecret) (*api.SealedSecret, error) {
	return do[api.SealedSecret](ctx, c, http.MethodPost, "/config/seal", in)
}
