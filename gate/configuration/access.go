package configuration

import (
	"context"
	"fmt"
	"net/netip"
	"slices"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/people"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/persons"
	"innergate/store"
)

// ExplainAccess answers whether a person would get in to an application, and why: from the same rules, asked in the
// same way as at a sign-in.
func (g *Room) ExplainAccess(ctx context.Context, slug string, q api.AccessQuestion) (*api.AccessAnswer, error) {
	app, err := g.partners.Application(ctx, slug)
	if err != nil {
		return nil, err
	}
	policy := app.Policy
	if q.Access != nil {
		whole, err := g.partners.WholePolicy(ctx, *q.Access)
		if err == nil {
			policy, err = whole.Compile()
		}
		if err != nil {
			return nil, ground.BadRequest("access", words.Capitalise(err.Error())+".", "")
		}
	}
	p, profile, err := g.persons.PersonByID(ctx, q.Person)
	if err != nil {
		return nil, err
	}
	return g.ExplainFor(ctx, app, policy, p, profile, q)
}

// ExplainFor answers for one person whether an application lets them in, and why.
func (g *Room) ExplainFor(
	ctx context.Context,
	app *partners.Application,
	policy *access.Compiled,
	p *store.Person,
	profile claims.Bag,
	q api.AccessQuestion,
) (*api.AccessAnswer, error) {
	provider, before, err := g.wayIn(ctx, app, p, q.Provider)
	if err != nil {
		return nil, err
	}
	groups, kind, err := g.persons.Standing(ctx, p.ID)
	if err != nil {
		return nil, err
	}
	all := *app
	if policy.To != access.Everybody {
		all.NeedsAssignments = true
		if all.GroupRoles, err = g.partners.GroupRoles(ctx, app.ID); err != nil {
			return nil, err
		}
	}
	assigned, err := g.partners.Assignments(ctx, &all, p.ID, groups)
	if err != nil {
		return nil, err
	}
	facts := access.Facts{
		Person:    p.ID,
		Type:      kind,
		Groups:    groups,
		Received:  profile["groups"],
		Assigned:  assigned,
		Mail:      profile.First(people.Mail),
		At:        g.Now(),
		TwoFactor: q.TwoFactor,
	}
	if provider != nil {
		facts.Provider = provider.Slug
		// The provider's grants are given at the sign-in, before the rules are asked.
		granted, grantedKind, _, err := people.Granted(provider.Grants, profile)
		if err == nil {
			for _, slug := range granted {
				if !slices.Contains(facts.Groups, slug) {
					facts.Groups = append(facts.Groups, slug)
				}
			}
			if grantedKind != "" {
				facts.Type = grantedKind
			}
			if facts.Assigned, err = g.partners.Assignments(ctx, &all, p.ID, facts.Groups); err != nil {
				return nil, err
			}
		}
	}
	if q.At != nil {
		facts.At = *q.At
	}
	if q.Network != "" {
		if facts.Network, err = netip.ParseAddr(q.Network); err != nil {
			return nil, ground.BadRequest("network", fmt.Sprintf("%q is no network address.", q.Network), "Write it such as 192.0.2.7.")
		}
	}
	out := &api.AccessAnswer{Decision: policy.Decide(facts, true), Person: persons.PersonLine(p), Asked: facts.InWords(), Before: before}
	if out.Roles == nil {
		out.Roles = []string{}
	}
	if len(before) > 0 {
		out.Result = access.Refuse
	}
	return out, nil
}

// wayIn is the provider through which a person would come, and what would stop the sign-in before the rules are asked.
func (g *Room) wayIn(ctx context.Context, app *partners.Application, p *store.Person, slug string) (*partners.Provider, []string, error) {
	before := []string{}
	if why, err := g.unreached(ctx, reachState{app.Reach, app.Circle}, p, app.Slug, app.Name); err != nil {
		return nil, nil, err
	} else if why != "" {
		before = append(before, why)
	}
	if !p.Active {
		before = append(before, p.Name+" is not active")
	}
	var links []store.Link
	if err := g.Store.Read(ctx).Where("person_id = ?", p.ID).Limit(200).Find(&links).Error; err != nil {
		return nil, nil, store.Clear(err)
	}
	var chosen, first *partners.Provider
	for _, s := range app.Providers {
		pr, err := g.partners.Provider(ctx, s)
		if err != nil {
			continue
		}
		if first == nil {
			first = pr
		}
		linked := slices.ContainsFunc(links, func(l store.Link) bool { return l.ProviderID == pr.ID }) ||
			pr.Directory != nil && p.Login != nil
		if slug == s || slug == "" && chosen == nil && linked {
			chosen = pr
		}
	}
	switch {
	case slug != "" && chosen == nil:
		return nil, nil, ground.BadRequest("provider-not-used", fmt.Sprintf("%q is not among the providers of %s.", slug, app.Name), "")
	case chosen == nil && first == nil:
		return nil, append(before, app.Name+" has no provider"), nil
	case chosen == nil:
		chosen = first
		if first.Matching == nil || len(first.Matching.By) == 0 {
			before = append(
				before,
				fmt.Sprintf("%s is linked to none of the providers of %s, and would be a stranger there", p.Name, app.Name),
			)
		}
	}
	why, err := g.unreached(ctx, reachState{chosen.Reach, chosen.Circle}, p, chosen.Slug, chosen.Name)
	if why != "" {
		before = append(before, why)
	}
	return chosen, before, err
}

// unreached says why something does not serve a person, as far as its reach goes.
func (g *Room) unreached(ctx context.Context, s reachState, p *store.Person, slug, name string) (string, error) {
	in, err := g.within(ctx, s, p, slug)
	if in || err != nil {
		return "", err
	}
	return name + map[access.Reach]string{access.Draft: " is a draft: only rehearsals reach it", access.Closed: " is closed",
		access.InCircle: " serves a circle, and " + p.Name + " is outside"}[s.Reach], nil
}

// assignedTo is the way to the people who are assigned to an application, by themselves or by a group of theirs.
func assignedTo(id string) store.Way {
	return store.Way{
		IDs: "SELECT who_id FROM assignments WHERE application_id = ? AND kind = 'person' UNION ALL SELECT person_id FROM memberships " +
			"WHERE group_id IN (SELECT who_id FROM assignments WHERE application_id = ? AND kind = 'group')",
		Holds: "(EXISTS (SELECT 1 FROM assignments s WHERE s.application_id = ? AND s.kind = 'person' AND s.who_id = people.id) OR " +
			"EXISTS " +
			"" +
			"(SELECT 1 FROM memberships m WHERE m.person_id = people.id AND m.group_id IN (SELECT who_id FROM assignments WHERE " +
			"application_id = ? AND kind = 'group')))",
		Args: []any{id, id},
	}
}

// WhoGetsIn answers for a page of people, by name: those who are assigned, or, where everybody may come, all who are
// known.
func (g *Room) WhoGetsIn(ctx context.Context, slug string, p store.Page) (*api.WhoGetsIn, error) {
	app, err := g.partners.Application(ctx, slug)
	if err != nil {
		return nil, err
	}
	whole, err := g.partners.WholePolicy(ctx, app.Access)
	if err != nil {
		return nil, err
	}
	out := &api.WhoGetsIn{Items: []api.AccessAnswer{}, Everybody: app.Access.To == access.Everybody, Rules: whole.InWords()}
	db := g.Store.Read(ctx)
	if p.Limit <= 0 || p.Limit > 50 {
		p.Limit = 25
	}
	if p.Search != "" {
		if db, _, err = g.Store.Narrow(ctx, db, "people", persons.Searched(p.Search)); err != nil {
			return nil, err
		}
		p.Search = ""
	} else if !out.Everybody {
		if db, _, err = g.Store.Narrow(ctx, db, "people", assignedTo(app.ID)); err != nil {
			return nil, err
		}
	}
	p.Sort = ""
	if db, err = p.Rows(db, persons.PersonColumns, "name"); err != nil {
		return nil, ground.BadRequest("bad-page", err.Error()+".", "")
	}
	var rows []store.Person
	if err := db.Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	for i := range rows {
		if i == p.Limit {
			out.Next = store.AfterKey(rows[i-1].NameKey, rows[i-1].ID)
			break
		}
		profile, err := ground.DecodeBody[claims.Bag](rows[i].Profile)
		if err != nil {
			return nil, err
		}
		a, err := g.ExplainFor(ctx, app, app.Policy, &rows[i], profile, api.AccessQuestion{})
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, *a)
	}
	return out, nil
}
