package client

import (
	"context"
	"net/http"

	"innergate/api"
)

// Accounts shows how keeping an application's accounts stands as a whole.
func (c *Client) Accounts(ctx context.Context, slug string) (*api.Accounts, error) {
	return do[api.Accounts](ctx, c, http.MethodGet, at("applications", slug, "accounts"), nil)
}

// AccountList lists accounts and groups at an application; the filters are state and kind.
func (c *Client) AccountList(ctx context.Context, slug string, p Page) (*api.List[api.Account], error) {
	return do[api.List[api.Account]](ctx, c, http.MethodGet, at("applications", slug, "accounts", "list")+p.query(), nil)
}

// Account shows one with each request and answer about it.
func (c *Client) Account(ctx context.Context, slug, id string) (*api.AccountDetail, error) {
	return do[api.AccountDetail](ctx, c, http.MethodGet, at("applications", slug, "accounts", "list", id), nil)
}

// TryAccounts asks an application's SCIM service what it can do, with the token that counts or the next one.
func (c *Client) TryAccounts(ctx context.Context, slug string, next bool) (*api.TriedAccounts, error) {
	path := at("applications", slug, "accounts", "try")
	if next {
		path += "?next=true"
	}
	return do[api.TriedAccounts](ctx, c, http.MethodPost, path, nil)
}

// CompareAccounts begins to compare all accounts.
func (c *Client) CompareAccounts(ctx context.Context, slug string) (*api.AccountComparison, error) {
	return do[api.AccountComparison](ctx, c, http.MethodPost, at("applications", slug, "accounts", "compare"), nil)
}

// ActOnAccounts does something with accounts.
func (c *Client) ActOnAccounts(ctx context.Context, slug string, in api.AccountAct) (*api.AccountActed, error) {
	return do[api.AccountActed](ctx, c, http.MethodPost, at("applications", slug, "accounts", "act"), in)
}

// AgreeToAccounts agrees that so many accounts are taken away.
func (c *Client) AgreeToAccounts(ctx context.Context, slug string, count int) (*api.AccountActed, error) {
	return do[api.AccountActed](ctx, c, http.MethodPost, at("applications", slug, "accounts", "agree"), api.AccountAgree{Count: count})
}

// EnterAccountSecret enters what the gate proves itself with at an application's SCIM service.
func (c *Client) EnterAccountSecret(ctx context.Context, slug string, in api.TheirSecret) (*api.Secret, error) {
	return do[api.Secret](ctx, c, http.MethodPost, at("applications", slug, "accounts", "secrets"), in)
}

// SwitchAccountSecret puts the next one into the place of the one that counts.
func (c *Client) SwitchAccountSecret(ctx context.Context, slug string) error {
	return c.Do(ctx, http.MethodPost, at("applications", slug, "accounts", "secrets", "switch"), nil, nil)
}

// Pushes shows how a provider pushes its people.
func (c *Client) Pushes(ctx context.Context, slug string) (*api.Pushes, error) {
	return do[api.Pushes](ctx, c, http.MethodGet, at("providers", slug, "pushes"), nil)
}

// NewPushToken makes a token with which a provider pushes.
func (c *Client) NewPushToken(ctx context.Context, slug string, days int) (*api.Secret, error) {
	return do[api.Secret](ctx, c, http.MethodPost, at("providers", slug, "pushes", "tokens"), api.NewSecret{Days: days})
}

// DropPushToken takes one back.
func (c *Client) DropPushToken(ctx context.Context, slug, id string) error {
	return c.Do(ctx, http.MethodDelete, at("providers", slug, "pushes", "tokens", id), nil, nil)
}
