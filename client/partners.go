package client

import (
	"context"
	"net/http"

	"innergate/api"
)

// Secrets lists the client secrets of an application or provider (kind applications or providers), without the secrets.
func (c *Client) Secrets(ctx context.Context, kind, slug string) (*api.List[api.Secret], error) {
	return do[api.List[api.Secret]](ctx, c, http.MethodGet, at(kind, slug, "secrets"), nil)
}

// NewSecret makes a client secret for an application.
func (c *Client) NewSecret(ctx context.Context, slug string, n api.NewSecret) (*api.Secret, error) {
	return do[api.Secret](ctx, c, http.MethodPost, at("applications", slug, "secrets"), n)
}

// KeepSecret stores a secret that a provider gave.
func (c *Client) KeepSecret(ctx context.Context, slug string, n api.TheirSecret) (*api.Secret, error) {
	return do[api.Secret](ctx, c, http.MethodPost, at("providers", slug, "secrets"), n)
}

// TrySecret tries a provider's secret without a sign-in.
func (c *Client) TrySecret(ctx context.Context, slug, id string) (*api.TriedSecret, error) {
	return do[api.TriedSecret](ctx, c, http.MethodPost, at("providers", slug, "secrets", id, "try"), nil)
}

// SwitchSecret uses a provider's next secret from now on.
func (c *Client) SwitchSecret(ctx context.Context, slug string) error {
	return c.Do(ctx, http.MethodPost, at("providers", slug, "secrets", "switch"), nil, nil)
}

// DeleteSecret takes a client secret back.
func (c *Client) DeleteSecret(ctx context.Context, kind, slug, id string) error {
	return c.Do(ctx, http.MethodDelete, at(kind, slug, "secrets", id), nil, nil)
}

// ConsoleAccess tells who may come in through providers.
func (c *Client) ConsoleAccess(ctx context.Context) (*api.ConsoleAccess, error) {
	return do[api.ConsoleAccess](ctx, c, http.MethodGet, "/console-access", nil)
}

// SetConsoleAccess replaces the rules for who may come in.
func (c *Client) SetConsoleAccess(ctx context.Context, a api.ConsoleAccess) error {
	return c.Do(ctx, http.MethodPut, "/console-access", a, nil)
}

// SetRegistration lets clients register themselves, or not.
func (c *Client) SetRegistration(ctx context.Context, on bool) error {
	return c.Do(ctx, http.MethodPut, "/client-registration", api.Switch{On: on}, nil)
}
