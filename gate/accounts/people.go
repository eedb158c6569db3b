package accounts

import (
	"context"
	"errors"
	"slices"
	"strings"

	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/scim"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

// atOnce is how many people are looked at in one question.
const atOnce = 200

// who is somebody with what decides about their accounts.
type who struct {
	row     *store.Person // what of it decides, or is shown
	profile claims.Bag
	groups  []string
	// named are the applications to which the person is assigned by name, with the roles there.
	named map[string][]string
}

// people reads some people; who is not there any more is missing in what it returns.
func (g *Room) people(ctx context.Context, ids []string) (map[string]*who, error) {
	out := make(map[string]*who, len(ids))
	for part := range slices.Chunk(ids, atOnce) {
		if err := g.somePeople(ctx, part, out); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (g *Room) somePeople(ctx context.Context, ids []string, out map[string]*who) error {
	db := g.Store.Read(ctx)
	var rows []store.Person
	if err := db.Select("id, name, email, active, profile, type, username").Where("id IN ?", ids).Find(&rows).Error; err != nil {
		return store.Clear(err)
	}
	for i := range rows {
		profile, err := ground.DecodeBody[claims.Bag](rows[i].Profile)
		if err != nil {
			return err
		}
		out[rows[i].ID] = &who{row: &rows[i], profile: profile, named: map[string][]string{}}
	}
	var groups []struct{ PersonID, Slug string }
	if err := db.Raw("SELECT DISTINCT m.person_id, g.slug FROM memberships m JOIN groups g ON g.id = m.group_id WHERE m.person_id IN ?",
		ids).Scan(&groups).Error; err != nil {
		return store.Clear(err)
	}
	for _, r := range groups {
		if w := out[r.PersonID]; w != nil {
			w.groups = append(w.groups, r.Slug)
		}
	}
	var named []store.Assignment
	if err := db.Where("kind = 'person' AND who_id IN ?", ids).Find(&named).Error; err != nil {
		return store.Clear(err)
	}
	for _, r := range named {
		if w := out[r.WhoID]; w != nil {
			w.named[r.ApplicationID] = partners.RolesOf(r.Roles)
		}
	}
	for _, w := range out {
		slices.Sort(w.groups)
	}
	return nil
}

// assigned are the assignments of somebody to an application, their own first.
func (w *who) assigned(app *partners.Application) []access.Assignment {
	var out []access.Assignment
	if roles, ok := w.named[app.ID]; ok {
		out = append(out, access.Assignment{Roles: roles})
	}
	for _, slug := range w.groups {
		if roles, ok := app.GroupRoles[slug]; ok {
			out = append(out, access.Assignment{By: slug, Roles: roles})
		}
	}
	return out
}

// entitled says whether somebody is to have an account, and why.
func (w *who) entitled(app *partners.Application) (bool, string) {
	switch {
	case w == nil:
		return false, "the person was deleted"
	case !w.row.Active:
		return false, "the person is inactive"
	case app.Accounts.Who == config.WhoCircle:
		verdict, why := app.Accounts.Circle.Holds(access.Who{Known: true, ID: w.row.ID, Username: w.row.Username, Mail: w.row.Email,
			Name: w.row.Name, Groups: w.groups}, app.Slug)
		return verdict == access.Inside, why
	case app.Accounts.Who == config.WhoEverybody:
		return true, "everybody has an account at " + app.Name
	}
	list := w.assigned(app)
	if len(list) == 0 {
		return false, "not assigned, neither by name nor through a group"
	}
	if list[0].By != "" {
		return true, "assigned through the group " + list[0].By
	}
	return true, "assigned by name"
}

// targets are what somebody's account should have. What the mapping can't make is a failure.
func (a *abilities) targets(app *partners.Application, w *who) ([]scim.Target, error) {
	out, err := app.AccountValues.Apply(w.values(app), "out", nil)
	var f *explain.Failure
	if errors.As(err, &f) {
		return nil, explain.New(explain.SCIMMapping, explain.Fact("reason", f.Explain().Cause)).Of(app.Name)
	}
	if err != nil {
		return nil, err
	}
	list, wrong := a.planned(app, claims.Profile(out), w.row.ID)
	if len(wrong) > 0 {
		return nil, explain.New(explain.SCIMMapping, explain.Fact("reason", wrong[0].Name+": "+wrong[0].Reason)).Of(app.Name)
	}
	if scim.Value(list, "userName") == nil {
		return nil, explain.New(explain.SCIMMapping, explain.Fact("reason", "userName is needed, and no rule makes it")).Of(app.Name)
	}
	return list, nil
}

// plan is where an application's mapping leads at the application.
func (a *abilities) plan(names []string) *scim.Plan {
	key := strings.Join(names, "\x1f")
	if held, ok := a.plans.Load(key); ok {
		return held.(*scim.Plan)
	}
	all := append([]string{}, names...)
	for _, name := range []string{"externalId", "active"} {
		if !slices.Contains(all, name) {
			all = append(all, name)
		}
	}
	made := a.users.Plan(all)
	a.plans.Store(key, made)
	return made
}

// planned are the targets of what the rules made, with what is not theirs to say: that the account is active, and, where no rule makes
// one, the external identifier.
func (a *abilities) planned(app *partners.Application, made claims.Bag, externalID string) ([]scim.Target, []scim.Wrong) {
	made["active"] = []string{"true"}
	if len(made["externalId"]) == 0 {
		made["externalId"] = []string{externalID}
	}
	return a.plan(app.AccountNames).Targets(made)
}

// text is a target's value as a text.
func text(list []scim.Target, path string) string {
	s, _ := scim.Value(list, path).(string)
	return s
}

// inactive is what is left to say of an account that nobody may use.
func inactive(kind *scim.Kind) []scim.Target {
	p, err := kind.Path("active")
	if err != nil {
		panic(err.Detail) // it is an attribute of the standard
	}
	return []scim.Target{{Path: p, Value: false}}
}

// shownAs is the name under which a list shows somebody.
func (w *who) shownAs(held string) string {
	if w == nil {
		return held
	}
	return strings.TrimSpace(w.row.Name)
}
