package partners

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/gate/ground"
	"innergate/store"
)

// Who looks after the gate is decided by what providers say; whoever can change a provider could make themselves an owner.
// So a provider counts for roles only as owners have it: with each rule for the console a fingerprint is kept of all that
// decides what the provider says. A change by an owner keeps it up; after any other, by whatever path, the provider gives
// no role until an owner confirms it. The fingerprint is kept by the provider's ID, so that another one under an old name
// inherits nothing.
const settingConfirmed = "console-providers"

// confirmedProviders are the fingerprints by provider ID.
func confirmedProviders(db *gorm.DB) (map[string]string, error) {
	row, err := store.One[store.Setting](db, "name = ?", settingConfirmed)
	if err != nil || row.Value == "" {
		return map[string]string{}, err
	}
	var out map[string]string
	return out, json.Unmarshal([]byte(row.Value), &out)
}

// roleFingerprint stands for all that decides what a provider says of somebody: its connection and its rules, with the
// rule sets that they use. Nothing comes of a provider that does not give roles: one that is gone, or the gate's own
// directory, whose people engineers look after.
func roleFingerprint(db *gorm.DB, id string) (string, error) {
	row, err := store.One[store.Provider](db, "id = ?", id)
	if err != nil || row.ID == "" {
		return "", err
	}
	p, err := ground.DecodeBody[config.Provider](row.Body)
	if err != nil || p.Directory != nil {
		return "", err
	}
	sets := map[string]claims.Mapping{}
	for _, slug := range p.Mapping.Uses() {
		set, err := store.One[store.RuleSet](db, "slug = ?", slug)
		if err != nil {
			return "", err
		}
		if set.ID != "" {
			body, err := ground.DecodeBody[config.RuleSet](set.Body)
			if err != nil {
				return "", err
			}
			sets[slug] = body.Mapping
		}
	}
	// What is only shown to people decides nothing.
	p.Name, p.Description, p.Contact, p.Tags, p.Reach, p.Circle = "", "", "", nil, "", nil
	sum := sha256.Sum256([]byte(id + ground.MustJSON(p) + ground.MustJSON(sets)))
	return hex.EncodeToString(sum[:]), nil
}

// ConfirmConsole confirms the providers that rules for the console name, as they are.
func ConfirmConsole(tx *gorm.DB, rules []api.AccessRule) error {
	held := map[string]string{}
	for _, r := range rules {
		row, err := store.One[store.Provider](tx, "slug = ?", r.Provider)
		if err != nil {
			return err
		}
		if row.ID == "" || held[row.ID] != "" {
			continue
		}
		if held[row.ID], err = roleFingerprint(tx, row.ID); err != nil {
			return err
		}
	}
	return ground.KeepSetting(tx, settingConfirmed, ground.MustJSON(held))
}

// ConfirmOnce confirms the providers of a gate that was set up before they were confirmed.
func (g *Room) ConfirmOnce(ctx context.Context) error {
	row, err := store.One[store.Setting](g.Store.Read(ctx), "name = ?", settingConfirmed)
	if err != nil || row.Name != "" {
		return err
	}
	rules, err := g.ConsoleAccess(ctx)
	if err != nil || len(rules.Rules) == 0 {
		return err
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error { return ConfirmConsole(tx, rules.Rules) })
}

// KeepConfirmed makes a change that may touch providers. Where an owner makes it, or the gate itself by what owners have
// set, those that were confirmed stay so.
func KeepConfirmed(tx *gorm.DB, who ground.Actor, change func() error) error {
	held, err := confirmedProviders(tx)
	if err != nil {
		return err
	}
	if len(held) == 0 || !who.ActsAsOwner() {
		return change()
	}
	for id, print := range held {
		now, err := roleFingerprint(tx, id)
		if err != nil {
			return err
		}
		if now != print {
			delete(held, id)
		}
	}
	if err := change(); err != nil {
		return err
	}
	all, err := confirmedProviders(tx)
	if err != nil {
		return err
	}
	for id := range held {
		if all[id], err = roleFingerprint(tx, id); err != nil {
			return err
		}
	}
	return ground.KeepSetting(tx, settingConfirmed, ground.MustJSON(all))
}

// IsDirectory says whether a provider is the gate's own directory.
func IsDirectory(tx *gorm.DB, slug string) (bool, error) {
	row, err := store.One[store.Provider](tx, "slug = ? AND kind = ?", slug, config.KindDirectory)
	return row.ID != "", err
}

// Confirmed says whether a provider is as owners have it, so that it counts for roles.
func (g *Room) Confirmed(ctx context.Context, p *Provider) (bool, error) {
	if !p.approval.Given() {
		return false, nil
	}
	c, err := g.Cache(ctx)
	if err != nil {
		return false, err
	}
	if v, ok := c.Confirmed.Load(p.ID); ok {
		return v.(bool), nil
	}
	held, err := confirmedProviders(g.Store.Read(ctx))
	if err != nil {
		return false, err
	}
	now, err := roleFingerprint(g.Store.Read(ctx), p.ID)
	if err != nil {
		return false, err
	}
	ok := now != "" && held[p.ID] == now
	c.Confirmed.Store(p.ID, ok)
	return ok, nil
}

// RoleAt is the role that a provider's words give somebody at the gate itself, and whether the provider counts. Without a
// role nobody asks that.
func (g *Room) RoleAt(ctx context.Context, rules []api.AccessRule, p *Provider, came claims.Bag) (role string, counts bool, err error) {
	if role = RoleOf(rules, p.Slug, came); role == "" {
		return "", true, nil
	}
	if counts, err = g.Confirmed(ctx, p); err != nil || !counts {
		return "", counts, err
	}
	return role, true, nil
}

// Unconfirmed lists the providers of rules for the console that give no role at the moment.
func (g *Room) Unconfirmed(ctx context.Context, rules []api.AccessRule) ([]string, error) {
	var out []string
	seen := map[string]bool{}
	for _, r := range rules {
		if seen[r.Provider] {
			continue
		}
		seen[r.Provider] = true
		p, err := g.Provider(ctx, r.Provider)
		if ground.IsNotFound(err) {
			continue
		}
		if err != nil {
			return nil, err
		}
		ok, err := g.Confirmed(ctx, p)
		if err != nil {
			return nil, err
		}
		if !ok {
			out = append(out, p.Slug)
		}
	}
	return out, nil
}
