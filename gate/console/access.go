package console

import (
	"context"
	"encoding/hex"
	"fmt"
	"net/http"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/keys"
	"innergate/core/people"
	"innergate/gate/grants"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

// SetConsoleAccess replaces the rules.
func (g *Room) SetConsoleAccess(ctx context.Context, who ground.Actor, a api.ConsoleAccess) error {
	before, err := g.partners.ConsoleAccess(ctx)
	if err != nil {
		return err
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error { return g.WriteConsoleAccess(tx, who, *before, a) })
}

// WriteConsoleAccess writes in a transaction who may come in to the console through which provider.
func (g *Room) WriteConsoleAccess(tx *gorm.DB, who ground.Actor, before, a api.ConsoleAccess) error {
	if len(a.Rules) > 100 {
		return ground.BadRequest("rules", "100 rules are the most.", "")
	}
	for i, r := range a.Rules {
		if !ground.Allows(r.Role, ground.RoleViewer) {
			return ground.BadRequest(
				"role-unknown",
				fmt.Sprintf("%q is no role that can be given here; owner, engineer and viewer are.", r.Role), "",
			)
		}
		if r.Attribute == "" || r.Value == "" || len(r.Attribute) > 200 || len(r.Value) > 1000 {
			return ground.BadRequest(
				"rules", fmt.Sprintf("Rule %d needs an attribute of the profile and the value that it must have.", i+1),
				"Name the attribute as the provider's mapping sets it, such as groups.",
			)
		}
		if err := partners.KnownProviders(tx, []string{r.Provider}); err != nil {
			return err
		}
		if own, err := partners.IsDirectory(tx, r.Provider); err != nil {
			return err
		} else if own {
			return ground.BadRequest(
				"rules-directory", fmt.Sprintf("Rule %d names the gate's own directory, whose people engineers look after.", i+1),
				"Make whoever shall come in an administrator, or name another provider.",
			)
		}
	}
	a.Unconfirmed, before.Unconfirmed = nil, nil
	if err := g.WriteSetting(tx, who, partners.SettingConsole, "who may come in to the console", before, a); err != nil {
		return err
	}
	if err := partners.ConfirmConsole(tx, a.Rules); err != nil {
		return err
	}
	return store.Changed(tx)
}

// ConsoleProviders lists the providers through which people come in to the console, for its sign-in page.
func (g *Room) ConsoleProviders(ctx context.Context) (*api.List[api.Reference], error) {
	app, err := g.partners.ConsoleApplication(ctx)
	if err != nil {
		return nil, err
	}
	out := &api.List[api.Reference]{Items: []api.Reference{}}
	for _, slug := range app.Providers {
		if p, err := g.partners.Provider(ctx, slug); err == nil && p.Reach == access.Everyone {
			out.Items = append(out.Items, api.Reference{Slug: p.Slug, Name: p.Name, Kind: "provider", Reach: string(p.Reach)})
		}
	}
	return out, nil
}

// grantActor is whom a grant for the gate itself lets in. The rules are asked anew each time, so that whoever loses a
// role loses it at once.
func (g *Room) grantActor(ctx context.Context, h *grants.HeldGrant, from string) (*ground.Actor, error) {
	if h == nil || h.ApplicationID != partners.ConsoleID || g.grants.Over(h) != "" {
		return nil, errUnauthorised
	}
	// What the provider itself said at this sign-in counts, and nothing that was entered at the gate or came from
	// another provider.
	profile := h.Body.Came
	role, _, err := g.partners.RoleAt(ctx, h.App.Rules, h.Provider, profile)
	if err != nil {
		return nil, err
	}
	if role == "" {
		return nil, ground.Problem(
			http.StatusForbidden, "no-role", "No role is left", "No rule gives you a role any more.", "Ask an owner.",
		)
	}
	id := "person/" + h.PersonID
	if h.PersonID == "" {
		id = "subject/" + h.Provider.ID + "/" + hex.EncodeToString(keys.HashSecret(h.ProviderSubject))
	}
	return &ground.Actor{
		ID:   id,
		Name: people.ShownName(profile, h.Body.Shown) + " (" + h.Provider.Name + ")",
		Role: role,
		From: from,
		Kind: "person",
	}, nil
}

// BearerActor finds whom a token belongs to: an API token, or one that `innergate login` got.
func (g *Room) BearerActor(ctx context.Context, token, from string) (*ground.Actor, error) {
	who, err := g.TokenActor(ctx, token, from)
	if err != errUnauthorised || token == "" {
		return who, err
	}
	t, err := g.grants.TokenBy(ctx, token)
	if err != nil {
		return nil, err
	}
	if t == nil || t.Kind != "access" || t.ApplicationID != partners.ConsoleID || !g.Now().Before(t.Ends) {
		return nil, errUnauthorised
	}
	return g.grantActor(ctx, t.HeldGrant, from)
}

// OpenFor opens the console for somebody who has come in through a provider: who is how the journal names them. The
// session lasts as long as the grant.
func (g *Room) OpenFor(tx *gorm.DB, grant *store.Grant, who ground.Actor, now time.Time) (string, error) {
	token := keys.NewSecret()
	row := store.ConsoleSession{
		TokenHash: keys.HashSecret(token),
		GrantID:   grant.ID,
		CSRF:      keys.NewSecret(),
		CreatedAt: now,
		LastUsed:  now,
		ExpiresAt: grant.ExpiresAt,
	}
	if err := tx.Create(&row).Error; err != nil {
		return "", err
	}
	name, _, _ := strings.Cut(who.Name, " (")
	return token, ground.Journal(tx, now, who, "signed in", "administrator", grant.PersonID, name, "", "")
}
