package configuration

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/people"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/persons"
	"innergate/store"
)

// RuleSets lists them all.
func (g *Room) RuleSets(ctx context.Context) (*api.List[api.RuleSet], error) {
	var rows []store.RuleSet
	if err := g.Store.Read(ctx).Order("name COLLATE NOCASE").Limit(1000).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[api.RuleSet]{Items: []api.RuleSet{}}
	for _, row := range rows {
		v, err := g.ruleSetView(ctx, &row)
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, *v)
	}
	return out, nil
}

// RuleSet shows one with who uses it.
func (g *Room) RuleSet(ctx context.Context, slug string) (*api.RuleSet, error) {
	var row store.RuleSet
	if err := g.Store.Read(ctx).Where("slug = ?", slug).Take(&row).Error; err != nil {
		return nil, ground.Missing(err, "rule set", slug)
	}
	return g.ruleSetView(ctx, &row)
}

func (g *Room) ruleSetView(ctx context.Context, row *store.RuleSet) (*api.RuleSet, error) {
	body, err := ground.DecodeBody[config.RuleSet](row.Body)
	if err != nil {
		return nil, err
	}
	v := &api.RuleSet{RuleSet: body, Revision: row.Revision, Updated: row.UpdatedAt}
	v.UsedBy, err = partners.SetUsers(g.Store.Read(ctx), row.Slug)
	return v, err
}

// SaveRuleSet creates a rule set (empty slug) or replaces one. A change by which a user of it could no longer be used
// is refused.
func (g *Room) SaveRuleSet(ctx context.Context, who ground.Actor, slug string, in config.RuleSet, revision int) (*api.RuleSet, error) {
	if in.Slug == "" {
		if in.Slug = slug; slug == "" {
			in.Slug = config.Slug(in.Name)
		}
	}
	if err := in.Validate(); err != nil {
		return nil, ground.Invalid(err)
	}
	if slug != "" {
		effects, err := g.PreviewRuleSet(ctx, slug, in)
		if err != nil {
			return nil, err
		}
		for _, e := range effects.Items {
			if e.Broken != "" {
				return nil, ground.Problem(
					http.StatusConflict, "set-breaks", "The change breaks what uses the set",
					fmt.Sprintf("%s could not be used any more: %s.", e.Object.Name, e.Broken), "Nothing was changed.",
				)
			}
		}
	}
	if err := g.Store.Write(ctx, func(tx *gorm.DB) error { return g.WriteRuleSet(tx, who, slug, in, revision) }); err != nil {
		return nil, err
	}
	return g.RuleSet(ctx, in.Slug)
}

// WriteRuleSet writes a rule set in a transaction: new where slug is empty, else over the revision that was seen.
func (g *Room) WriteRuleSet(tx *gorm.DB, who ground.Actor, slug string, in config.RuleSet, revision int) error {
	if err := ownersForOpenUsers(tx, who, in.Name, slug); err != nil {
		return err
	}
	return partners.KeepConfirmed(tx, who, func() error { return g.writeRuleSet(tx, who, slug, in, revision) })
}

func (g *Room) writeRuleSet(tx *gorm.DB, who ground.Actor, slug string, in config.RuleSet, revision int) error {
	now := g.Now().UTC()
	row := store.RuleSet{CreatedAt: now}
	action, before := "created", ""
	if slug != "" {
		if err := tx.Where("slug = ?", slug).Take(&row).Error; err != nil {
			return ground.Missing(err, "rule set", slug)
		}
		switch {
		case revision != 0 && revision != row.Revision:
			return ground.StaleRevision(row.Name)
		case in.Slug != slug:
			return ground.BadRequest(
				"slug-fixed", "The short name can't change: others use the set by it.",
				"Make a new set with the other short name.",
			)
		case in.Kind != row.Kind:
			return ground.BadRequest(
				"kind-fixed", "A set of rules for mapping can't become one for access, or the reverse.",
				"Make a new set.",
			)
		case row.Body == ground.MustJSON(in):
			return nil
		}
		action, before = "changed", row.Body
	} else {
		other, err := store.One[store.RuleSet](tx, "slug = ?", in.Slug)
		if err != nil {
			return err
		}
		if other.ID != "" {
			return ground.Problem(http.StatusConflict, "slug-taken", "The short name is taken",
				fmt.Sprintf("The rule set %q has the short name %s already.", other.Name, in.Slug), "Choose another short name.")
		}
	}
	if err := persons.KnownGroups(tx, GroupsOf(in.Rules)); err != nil {
		return err
	}
	row.Slug, row.Name, row.Kind, row.Body, row.UpdatedAt = in.Slug, in.Name, in.Kind, ground.MustJSON(in), now
	write := tx.Save
	if row.ID == "" {
		row.ID = who.NewID("rule set", in.Slug)
		write = tx.Create
	}
	number, err := ground.NextNumber(tx, row.ID, row.Revision)
	if err != nil {
		return err
	}
	row.Revision = number
	if err := write(&row).Error; err != nil {
		return err
	}
	return ground.Revise(
		tx,
		now,
		who,
		action,
		ground.Saved{Kind: "rule set", ID: row.ID, Slug: row.Slug, Name: row.Name, Body: row.Body},
		row.Revision,
		before,
	)
}

// GroupsOf lists the gate's groups that access rules name.
func GroupsOf(rules []access.Rule) []string {
	var out []string
	for _, r := range rules {
		for _, c := range []*access.Condition{r.If, r.Unless} {
			if c != nil {
				out = append(out, c.Groups...)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// DeleteRuleSet removes one that nobody uses.
func (g *Room) DeleteRuleSet(ctx context.Context, who ground.Actor, slug string) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error { return g.RemoveRuleSet(tx, who, slug) })
}

// RemoveRuleSet deletes a rule set in a transaction; one that is used is refused.
func (g *Room) RemoveRuleSet(tx *gorm.DB, who ground.Actor, slug string) error {
	var row store.RuleSet
	if err := tx.Where("slug = ?", slug).Take(&row).Error; err != nil {
		return ground.Missing(err, "rule set", slug)
	}
	users, err := partners.SetUsers(tx, slug)
	if err != nil {
		return err
	}
	if len(users) > 0 {
		var names []string
		for _, u := range users[:min(6, len(users))] {
			names = append(names, u.Name)
		}
		return ground.Problem(
			http.StatusConflict, "in-use", "The rule set is in use",
			fmt.Sprintf("%s is used by %s.", row.Name, strings.Join(names, ", ")),
			"Put its rules there first, or use another set.",
		)
	}
	if err := tx.Delete(&row).Error; err != nil {
		return err
	}
	return g.Unmake(tx, who, ground.Saved{Kind: "rule set", ID: row.ID, Slug: slug, Name: row.Name, Body: row.Body})
}

// PreviewRuleSet tells what a change of a set does to each of its users, on a sample and rule by rule, and changes
// nothing.
func (g *Room) PreviewRuleSet(ctx context.Context, slug string, draft config.RuleSet) (*api.List[api.SetEffect], error) {
	held, err := g.RuleSet(ctx, slug)
	if err != nil {
		return nil, err
	}
	draft.Slug = slug
	if draft.Name == "" {
		draft.Name = held.Name
	}
	if draft.Kind == "" {
		draft.Kind = held.Kind
	}
	if err := draft.Validate(); err != nil {
		return nil, ground.Invalid(err)
	}
	out := &api.List[api.SetEffect]{Items: []api.SetEffect{}}
	for _, user := range held.UsedBy {
		e := api.SetEffect{Object: user, Changes: []string{}}
		var mapping claims.Mapping
		var policy access.Policy
		if user.Kind == "application" {
			a, err := g.partners.Application(ctx, user.Slug)
			if err != nil {
				return nil, err
			}
			mapping, policy = a.Mapping, a.Access
		} else {
			p, err := g.partners.Provider(ctx, user.Slug)
			if err != nil {
				return nil, err
			}
			mapping = p.Mapping
		}
		if draft.Kind == config.SetMapping {
			g.mappingEffect(ctx, &e, mapping, draft)
		} else {
			g.accessEffect(ctx, &e, policy, draft)
		}
		out.Items = append(out.Items, e)
	}
	return out, nil
}

func (g *Room) mappingEffect(ctx context.Context, e *api.SetEffect, m claims.Mapping, draft config.RuleSet) {
	now, err := g.partners.WholeMapping(ctx, m)
	var then claims.Mapping
	if err == nil {
		then, err = m.Resolve(func(slug string) (claims.Mapping, error) {
			if slug == draft.Slug {
				return draft.Mapping, nil
			}
			set, err := g.partners.RuleSet(ctx, slug)
			if err != nil {
				return nil, err
			}
			return set.Mapping, nil
		})
	}
	if err == nil {
		err = then.Check()
	}
	if err != nil {
		e.Broken = err.Error()
		return
	}
	e.Changes = ruleChanges(now, then)
}

// ruleChanges says in sentences how two mappings differ.
func ruleChanges(now, then claims.Mapping) []string {
	out := []string{}
	describe := func(m claims.Mapping, name string) string {
		for _, r := range m {
			if r.Set == name {
				return ground.MustJSON(r)
			}
		}
		return ""
	}
	for _, r := range then {
		switch before := describe(now, r.Set); {
		case before == "":
			out = append(out, "sets "+r.Set+" from now on")
		case before != ground.MustJSON(r):
			out = append(out, fmt.Sprintf("makes %s another way", r.Set))
		}
	}
	for _, r := range now {
		if describe(then, r.Set) == "" {
			out = append(out, "no longer sets "+r.Set)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func (g *Room) accessEffect(ctx context.Context, e *api.SetEffect, p access.Policy, draft config.RuleSet) {
	now, err := g.partners.WholePolicy(ctx, p)
	if err != nil {
		e.Broken = err.Error()
		return
	}
	then, err := access.Resolve(p.Rules, func(slug string) ([]access.Rule, error) {
		if slug == draft.Slug {
			return draft.Rules, nil
		}
		set, err := g.partners.RuleSet(ctx, slug)
		if err != nil {
			return nil, err
		}
		return set.Rules, nil
	})
	if err == nil {
		err = access.CheckRules(then)
	}
	if err != nil {
		e.Broken = err.Error()
		return
	}
	for i := range max(len(now.Rules), len(then)) {
		switch {
		case i >= len(now.Rules):
			e.Changes = append(e.Changes, "a new rule: "+then[i].InWords())
		case i >= len(then):
			e.Changes = append(e.Changes, "no longer: "+now.Rules[i].InWords())
		case ground.MustJSON(now.Rules[i]) != ground.MustJSON(then[i]):
			e.Changes = append(e.Changes, fmt.Sprintf("rule %d: %s, where it was: %s", i+1, then[i].InWords(), now.Rules[i].InWords()))
		}
	}
}

// knownSets refuses configurations that use rule sets which are not there, or are for something else.
func knownSets(tx *gorm.DB, kind string, slugs []string) error {
	for _, slug := range slugs {
		if slug == "" {
			continue
		}
		var is string
		err := store.RowIn(tx, "SELECT kind FROM rule_sets WHERE slug = ?", slug).Scan(&is)
		switch {
		case errors.Is(err, sql.ErrNoRows):
			return ground.BadRequest(
				"rule-set-unknown", fmt.Sprintf("There is no rule set with the short name %q.", slug),
				"Add the rule set first, or choose one that is there.",
			)
		case err != nil:
			return err
		case is != kind:
			return ground.BadRequest(
				"rule-set-kind", fmt.Sprintf("The rule set %s is for %s and can't be used for %s.", slug, is, kind), "",
			)
		}
	}
	return nil
}

// knownTypes refuses providers that give person types which are not there.
func (g *Room) knownTypes(tx *gorm.DB, p config.Provider) error {
	row, err := store.One[store.Setting](tx, "name = ?", persons.SettingPeople)
	if err != nil {
		return err
	}
	settings := people.DefaultSettings()
	if row.Value != "" {
		var err error
		if settings, err = ground.DecodeBody[people.Settings](row.Value); err != nil {
			return err
		}
	}
	var types []string
	for _, one := range p.Grants {
		types = append(types, one.Type)
	}
	if p.Admit != nil {
		types = append(types, p.Admit.Type)
	}
	for _, t := range types {
		if t != "" && !slices.Contains(settings.Types, t) {
			return ground.BadRequest(
				"type-unknown", fmt.Sprintf("%q is no person type; %s are.", t, strings.Join(settings.Types, ", ")),
				"Add the type under People first.",
			)
		}
	}
	return nil
}

// ownersForOpenUsers leaves a rule set that something uses which serves people to owners, where a second person is wanted.
func ownersForOpenUsers(tx *gorm.DB, who ground.Actor, name, slug string) error {
	if slug == "" {
		return nil
	}
	users, err := partners.SetUsers(tx, slug)
	if err != nil {
		return err
	}
	open := slices.ContainsFunc(users, func(u api.Reference) bool { return partners.Serves(access.Reach(u.Reach)) })
	return partners.OwnersWhereTwo(tx, who, "The rule set "+name, open)
}
