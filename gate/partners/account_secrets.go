package partners

import (
	"context"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/address"
	"innergate/core/config"
	"innergate/gate/ground"
	"innergate/store"
)

// AccountSecretKind is the kind of owner of what the gate proves itself with where it keeps an application's accounts.
const AccountSecretKind = "accounts"

// AccountOwner is the owner of that secret. It is none of the client secrets that the application proves itself with to us.
func AccountOwner(applicationID string) string { return applicationID + "/accounts" }

// KeepAccountSecret stores the token, client secret or password with which the gate keeps an application's accounts: as the one that
// counts, if there is none yet, else as the next one. It is never shown again.
func (g *Room) KeepAccountSecret(ctx context.Context, who ground.Actor, slug string, n api.TheirSecret) (*api.Secret, error) {
	app, err := g.keepsAccounts(ctx, slug)
	if err != nil {
		return nil, err
	}
	value := strings.TrimSpace(n.Value)
	if err := SecretLooksWrong(value, app.Accounts.ClientID); err != nil {
		return nil, err
	}
	if n.Expires != nil && !n.Expires.After(g.Now()) {
		return nil, ground.BadRequest("secret-over", "The end that was entered is past.",
			"Enter the day on which the application lets it end, or none.")
	}
	return g.keepTheirs(ctx, who, store.Secret{OwnerKind: AccountSecretKind, OwnerID: AccountOwner(app.ID), ExpiresAt: n.Expires}, app.ID,
		app.Name, value)
}

// SwitchAccountSecret puts the next one into the place of the one that counted.
func (g *Room) SwitchAccountSecret(ctx context.Context, who ground.Actor, slug string) error {
	app, err := g.keepsAccounts(ctx, slug)
	if err != nil {
		return err
	}
	return g.switchTheirs(ctx, who, AccountOwner(app.ID), app.ID, app.Name)
}

// AccountSecrets lists them, without their values.
func (g *Room) AccountSecrets(ctx context.Context, slug string) (*api.List[api.Secret], error) {
	app, err := g.keepsAccounts(ctx, slug)
	if err != nil {
		return nil, err
	}
	views, err := g.SecretViews(ctx, AccountOwner(app.ID))
	return &api.List[api.Secret]{Items: views}, err
}

// AccountSecret is the one that counts now, or the next one, where that is to be tried; empty where there is none.
func (g *Room) AccountSecret(ctx context.Context, applicationID, state string) (string, error) {
	row, err := store.One[store.Secret](g.Store.Read(ctx), "owner_id = ? AND state = ?", AccountOwner(applicationID), state)
	if err != nil || row.ID == "" {
		return "", err
	}
	return g.OpenSecret(row)
}

func (g *Room) keepsAccounts(ctx context.Context, slug string) (*Application, error) {
	app, err := g.Application(ctx, slug)
	if err == nil && app.Accounts == nil {
		err = ground.Conflict("no-accounts", "Accounts of "+app.Name+" are not kept in step.",
			"Enter the address of its SCIM service first.")
	}
	return app, err
}

// DropMovedAccountSecrets forgets the secrets of an application's accounts, where from now on they would go to another host than the
// one that they were given for.
func DropMovedAccountSecrets(tx *gorm.DB, now time.Time, who ground.Actor, slug string, a *config.Application) error {
	if slug == "" {
		return nil
	}
	row, err := store.One[store.Application](tx, "slug = ?", slug)
	if err != nil || row.ID == "" {
		return err
	}
	held, err := ground.DecodeBody[config.Application](row.Body)
	if err != nil {
		return err
	}
	return dropMoved(tx, now, who, AccountOwner(row.ID), row.Name, accountPlaces(&held), accountPlaces(a))
}

// accountPlaces are the places to which the secret goes: the token endpoint, or the application itself.
func accountPlaces(a *config.Application) []string {
	if a.Accounts == nil {
		return nil
	}
	to := a.Accounts.Address
	if a.Accounts.ProveBy == config.ProveByOAuth {
		to = a.Accounts.TokenURL
	}
	if to == "" {
		return nil
	}
	return []string{address.Origin(to)}
}
