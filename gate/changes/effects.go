package changes

import (
	"context"
	"encoding/json"
	"slices"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/files"
	"innergate/gate/configuration"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/persons"
	"innergate/store"
)

const effectMost = 100 // applications looked at

// what of an application and of a provider decides who gets in, and as whom.
var (
	appDecides      = []string{"reach", "circle", "providers", "access", "subject", "kind"}
	providerDecides = []string{"reach", "circle", "grants", "matching", "kind"}
)

// effects compares who gets in to the applications that a change touches, before and after it.
func (g *Room) effects(ctx context.Context, after *Room, steps []files.Step) ([]api.PeopleEffect, error) {
	touched, err := g.touched(ctx, after, steps)
	if err != nil {
		return nil, err
	}
	out := []api.PeopleEffect{}
	for i, slug := range touched {
		if i == effectMost {
			break
		}
		e, err := g.effect(ctx, after, slug)
		if err != nil {
			return nil, err
		}
		if e != nil && e.Gains+e.Loses+e.Others > 0 {
			out = append(out, *e)
		}
	}
	return out, nil
}

// touched lists the applications for which somebody could get in or be kept out by the steps.
func (g *Room) touched(ctx context.Context, after *Room, steps []files.Step) ([]string, error) {
	var out []string
	add := func(slug string) {
		if !slices.Contains(out, slug) {
			out = append(out, slug)
		}
	}
	using := func(provider string) error {
		for _, side := range []*Room{g, after} {
			var slugs []string
			if err := partners.UsedBy(side.Store.Read(ctx), provider).Limit(effectMost).Pluck("slug", &slugs).Error; err != nil {
				return store.Clear(err)
			}
			for _, s := range slugs {
				add(s)
			}
		}
		return nil
	}
	for _, s := range steps {
		switch s.Kind {
		case files.Application:
			if s.Action != files.Create && (s.Action == files.Remove || differs(s.Before, s.Body, appDecides)) {
				add(s.Slug)
			}
		case files.Assignment:
			a, err := files.Value[struct{ Application string }](&s.Object)
			if err != nil {
				return nil, err
			}
			add(a.Application)
		case files.Provider:
			if s.Action == files.Update && differs(s.Before, s.Body, providerDecides) {
				if err := using(s.Slug); err != nil {
					return nil, err
				}
			}
		case files.RuleSet:
			users, err := partners.SetUsers(after.Store.Read(ctx), s.Slug)
			if err != nil {
				return nil, err
			}
			for _, u := range users {
				if u.Kind == "application" {
					add(u.Slug)
				} else if err := using(u.Slug); err != nil {
					return nil, err
				}
			}
		}
	}
	return out, nil
}

func differs(before, after string, fields []string) bool {
	var a, b map[string]json.RawMessage
	if json.Unmarshal([]byte(before), &a) != nil || json.Unmarshal([]byte(after), &b) != nil {
		return true
	}
	return slices.ContainsFunc(fields, func(f string) bool { return string(a[f]) != string(b[f]) })
}

// effect compares for everybody who has used an application, or is assigned to it before or after.
func (g *Room) effect(ctx context.Context, after *Room, slug string) (*api.PeopleEffect, error) {
	was, err := g.partners.Application(ctx, slug)
	if ground.IsNotFound(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	is, err := after.partners.Application(ctx, slug)
	if err != nil && !ground.IsNotFound(err) {
		return nil, err
	}
	e := &api.PeopleEffect{Slug: slug, Name: was.Name, Gain: []api.PersonLine{}, Lose: []api.PersonLine{}}
	const assignedTo = "SELECT who_id FROM assignments WHERE application_id = @app AND kind = 'person' UNION SELECT person_id FROM " +
		"memberships WHERE group_id IN (SELECT who_id FROM assignments WHERE application_id = @app AND kind = 'group')"
	var rows []store.Person
	seen := map[string]bool{}
	for _, side := range []*Room{g, after} {
		var some []store.Person
		if err := side.Store.Read(ctx).Raw("SELECT * FROM people WHERE id IN (SELECT person_id FROM accounts WHERE application_id = "+
			"@app UNION "+assignedTo+") ORDER BY id LIMIT @most",
			map[string]any{"app": was.ID, "most": configuration.EffectPeople + 1}).Scan(&some).Error; err != nil {
			return nil, store.Clear(err)
		}
		for _, p := range some {
			if !seen[p.ID] {
				seen[p.ID] = true
				rows = append(rows, p)
			}
		}
	}
	if len(rows) > configuration.EffectPeople {
		rows, e.More = rows[:configuration.EffectPeople], true
	}
	for i := range rows {
		p := &rows[i]
		profile, err := ground.DecodeBody[claims.Bag](p.Profile)
		if err != nil {
			return nil, err
		}
		before, err := g.getsIn(ctx, was, p, profile)
		if err != nil {
			return nil, err
		}
		later, err := after.getsIn(ctx, is, p, profile)
		if err != nil {
			return nil, err
		}
		e.Looked++
		switch {
		case before && !later:
			if e.Loses++; len(e.Lose) < configuration.EffectShown {
				e.Lose = append(e.Lose, persons.PersonLine(p))
			}
		case !before && later:
			if e.Gains++; len(e.Gain) < configuration.EffectShown {
				e.Gain = append(e.Gain, persons.PersonLine(p))
			}
		case before && was.Subject != is.Subject && subjectSource(was, profile) != subjectSource(is, profile):
			e.Others++
		}
	}
	return e, nil
}

// subjectSource tells apart identifiers that a person gets under two subject rules, without knowing random ones.
func subjectSource(a *partners.Application, profile claims.Bag) string {
	if a.Subject.Source == "profile" {
		return "is " + profile.First(a.Subject.From)
	}
	return a.Subject.Source
}

// getsIn says whether somebody would get in to an application if they came now, by the same rules as at a sign-in. A
// network alone lets nobody in here.
func (g *Room) getsIn(ctx context.Context, app *partners.Application, p *store.Person, profile claims.Bag) (bool, error) {
	if app == nil || len(app.Providers) == 0 {
		return false, nil
	}
	a, err := g.configuration.ExplainFor(ctx, app, app.Policy, p, profile, api.AccessQuestion{})
	if err != nil {
		return false, err
	}
	return a.Result != access.Refuse, nil
}
