package gate

import (
	"context"
	"errors"
	"slices"

	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/people"
	"innergate/store"
)

// ruleSet finds a rule set by its short name.
func (g *Gate) ruleSet(ctx context.Context, slug string) (*config.RuleSet, error) {
	var row store.RuleSet
	if err := g.Store.Read(ctx).Where("slug = ?", slug).Take(&row).Error; err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return nil, notFound("rule set", slug)
		}
		return nil, store.Clear(err)
	}
	set, err := decodeBody[config.RuleSet](row.Body)
	return &set, err
}

// wholeMapping is a mapping with its rule sets in their places.
func (g *Gate) wholeMapping(ctx context.Context, m claims.Mapping) (claims.Mapping, error) {
	return m.Resolve(func(slug string) (claims.Mapping, error) {
		set, err := g.ruleSet(ctx, slug)
		if err != nil {
			return nil, err
		}
		return set.Mapping, nil
	})
}

// wholePolicy is a policy with its rule sets in their places.
func (g *Gate) wholePolicy(ctx context.Context, p access.Policy) (access.Policy, error) {
	rules, err := access.Resolve(p.Rules, func(slug string) ([]access.Rule, error) {
		set, err := g.ruleSet(ctx, slug)
		if err != nil {
			return nil, err
		}
		return set.Rules, nil
	})
	p.Rules = rules
	return p, err
}

// compiledMapping is a mapping made ready, rule sets and all.
func (g *Gate) compiledMapping(ctx context.Context, m claims.Mapping) (*claims.Compiled, error) {
	whole, err := g.wholeMapping(ctx, m)
	if err != nil {
		return nil, err
	}
	return whole.Compile()
}

// readyApplication makes an application's rules ready for sign-ins.
func (g *Gate) readyApplication(ctx context.Context, a *application) (err error) {
	if a.whole, err = g.wholeMapping(ctx, a.Mapping); err != nil {
		return err
	}
	if a.mapping, err = a.whole.Compile(); err != nil {
		return err
	}
	policy, err := g.wholePolicy(ctx, a.Access)
	if err != nil {
		return err
	}
	if a.policy, err = policy.Compile(); err != nil {
		return err
	}
	if a.Guarded != nil {
		if err := g.readyPaths(ctx, a); err != nil {
			return err
		}
	}
	a.needsAssignments = a.Access.To != access.Everybody || a.mapping.Reads(people.AssignedRoles)
	a.needsGroups = a.needsAssignments || a.policy.AsksGroups() || a.mapping.Reads(people.Memberships)
	if !a.needsAssignments {
		return nil
	}
	a.groupRoles, err = g.groupRoles(ctx, a.id)
	return err
}

// readyPaths makes the rule sets ready that paths of a guarded application ask.
func (g *Gate) readyPaths(ctx context.Context, a *application) error {
	a.paths = map[string]*access.Compiled{}
	for _, r := range a.Guarded.Paths {
		if r.Use == "" || a.paths[r.Use] != nil {
			continue
		}
		whole, err := g.wholePolicy(ctx, access.Policy{To: access.Everybody, Rules: []access.Rule{{Use: r.Use}}})
		if err != nil {
			return err
		}
		if a.paths[r.Use], err = whole.Compile(); err != nil {
			return err
		}
	}
	return nil
}

// readyProvider makes a provider's rules ready for sign-ins.
func (g *Gate) readyProvider(ctx context.Context, p *provider) error {
	var err error
	if p.whole, err = g.wholeMapping(ctx, p.Mapping); err != nil {
		return err
	}
	if p.mapping, err = p.whole.Compile(); err != nil {
		return err
	}
	for _, r := range p.whole {
		if !slices.Contains(p.sets, r.Set) {
			p.sets = append(p.sets, r.Set)
		}
	}
	if p.Admit != nil {
		p.admitted, err = g.compiledMapping(ctx, p.Admit.Defaults)
	}
	return err
}
