package partners

import (
	"context"
	"errors"
	"slices"

	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/people"
	"innergate/gate/ground"
	"innergate/store"
)

// RuleSet finds a rule set by its short name.
func (g *Room) RuleSet(ctx context.Context, slug string) (*config.RuleSet, error) {
	var row store.RuleSet
	if err := g.Store.Read(ctx).Where("slug = ?", slug).Take(&row).Error; err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return nil, ground.NotFound("rule set", slug)
		}
		return nil, store.Clear(err)
	}
	set, err := ground.DecodeBody[config.RuleSet](row.Body)
	return &set, err
}

// WholeMapping is a mapping with its rule sets in their places.
func (g *Room) WholeMapping(ctx context.Context, m claims.Mapping) (claims.Mapping, error) {
	return m.Resolve(func(slug string) (claims.Mapping, error) {
		set, err := g.RuleSet(ctx, slug)
		if err != nil {
			return nil, err
		}
		return set.Mapping, nil
	})
}

// WholePolicy is a policy with its rule sets in their places.
func (g *Room) WholePolicy(ctx context.Context, p access.Policy) (access.Policy, error) {
	rules, err := access.Resolve(p.Rules, func(slug string) ([]access.Rule, error) {
		set, err := g.RuleSet(ctx, slug)
		if err != nil {
			return nil, err
		}
		return set.Rules, nil
	})
	p.Rules = rules
	return p, err
}

// compiledMapping is a mapping made ready, rule sets and all.
func (g *Room) compiledMapping(ctx context.Context, m claims.Mapping) (*claims.Compiled, error) {
	whole, err := g.WholeMapping(ctx, m)
	if err != nil {
		return nil, err
	}
	return whole.Compile()
}

// ReadyApplication makes an application's rules ready for sign-ins.
func (g *Room) ReadyApplication(ctx context.Context, a *Application) (err error) {
	if a.Whole, err = g.WholeMapping(ctx, a.Mapping); err != nil {
		return err
	}
	if a.Outbound, err = a.Whole.Compile(); err != nil {
		return err
	}
	policy, err := g.WholePolicy(ctx, a.Access)
	if err != nil {
		return err
	}
	if a.Policy, err = policy.Compile(); err != nil {
		return err
	}
	if a.Guarded != nil {
		if err := g.readyPaths(ctx, a); err != nil {
			return err
		}
	}
	a.NeedsAssignments = a.Access.To != access.Everybody || a.Outbound.Reads(people.AssignedRoles)
	a.NeedsGroups = a.NeedsAssignments || a.Policy.AsksGroups() || a.Outbound.Reads(people.Memberships)
	if err := g.readyAccounts(ctx, a); err != nil {
		return err
	}
	if !a.NeedsAssignments && a.Accounts == nil {
		return nil
	}
	a.GroupRoles, err = g.GroupRoles(ctx, a.ID)
	return err
}

// readyAccounts makes ready what the application's accounts hold.
func (g *Room) readyAccounts(ctx context.Context, a *Application) error {
	if a.Accounts == nil {
		return nil
	}
	whole, err := g.WholeMapping(ctx, a.Accounts.Mapping)
	if err != nil {
		return err
	}
	a.AccountRules = whole
	for _, r := range whole {
		if !slices.Contains(a.AccountNames, r.Set) {
			a.AccountNames = append(a.AccountNames, r.Set)
		}
	}
	a.AccountValues, err = whole.Compile()
	return err
}

// readyPaths makes the rule sets ready that paths of a guarded application ask.
func (g *Room) readyPaths(ctx context.Context, a *Application) error {
	a.Paths = map[string]*access.Compiled{}
	for _, r := range a.Guarded.Paths {
		if r.Use == "" || a.Paths[r.Use] != nil {
			continue
		}
		whole, err := g.WholePolicy(ctx, access.Policy{To: access.Everybody, Rules: []access.Rule{{Use: r.Use}}})
		if err != nil {
			return err
		}
		if a.Paths[r.Use], err = whole.Compile(); err != nil {
			return err
		}
	}
	return nil
}

// ReadyProvider makes a provider's rules ready for sign-ins.
func (g *Room) ReadyProvider(ctx context.Context, p *Provider) error {
	var err error
	if p.Whole, err = g.WholeMapping(ctx, p.Mapping); err != nil {
		return err
	}
	if p.Inbound, err = p.Whole.Compile(); err != nil {
		return err
	}
	for _, r := range p.Whole {
		if !slices.Contains(p.Sets, r.Set) {
			p.Sets = append(p.Sets, r.Set)
		}
	}
	if p.Admit != nil {
		p.Admitted, err = g.compiledMapping(ctx, p.Admit.Defaults)
	}
	return err
}
