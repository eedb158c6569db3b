package gate

import (
	"context"
	"encoding/json"
	"net/netip"
	"slices"
	"strings"

	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/people"
	"innergate/core/trace"
	"innergate/store"
)

// letIn asks the application's access rules. It returns a page or a redirect where a stronger sign-in is wanted.
func (g *Gate) letIn(ctx context.Context, s *signIn, who identity) (*Next, error) {
	if s.app.id == consoleID {
		return nil, nil // it has rules of its own
	}
	facts, err := g.facts(ctx, s, who)
	if err != nil {
		return nil, err
	}
	d := s.app.policy.Decide(facts, true)
	s.person.roles = d.Roles
	s.rec.Decide(trace.Decision{About: "access", Result: d.Result, By: d.By, Passed: append([]string{"asked about: " + facts.InWords()}, d.Passed...)})
	switch d.Result {
	case access.Allow:
		return nil, nil
	case access.Stronger:
		return g.strengthen(ctx, s, who, d)
	}
	return nil, s.app.refusal(d, s.person.shown, facts.Received)
}

// refusal is the failure of somebody whom the access rules don't let in.
func (a *application) refusal(d access.Decision, person string, received []string) *explain.Failure {
	fact := explain.Fact("person", person)
	switch d.Code {
	case "access.group-required":
		fact = explain.Pair("groups", strings.Join(a.Access.Requires, ", "), strings.Join(received, ", "))
	case "access.refused":
		fact = explain.Fact("rule", d.By)
	}
	return explain.New(d.Code, fact).Of(a.Name)
}

// facts are what access rules are asked about.
func (g *Gate) facts(ctx context.Context, s *signIn, who identity) (access.Facts, error) {
	f := access.Facts{Person: s.person.id, Type: s.person.kind, Groups: s.person.groups, Received: s.person.came["groups"], Provider: s.provider.Slug, Mail: s.person.profile.First(people.Mail), At: g.Now(), TwoFactor: g.twoFactor(s, who)}
	f.Network, _ = netip.ParseAddr(s.browser.Address)
	var err error
	f.Assigned, err = g.assignments(ctx, s.app, s.person.id, s.person.groups)
	return f, err
}

// assignments are those of a person to an application, their own first.
func (g *Gate) assignments(ctx context.Context, app *application, personID string, groups []string) ([]access.Assignment, error) {
	if !app.needsAssignments {
		return nil, nil
	}
	var out []access.Assignment
	if personID != "" {
		var row store.Assignment
		if err := g.Store.Read(ctx).Where("application_id = ? AND kind = 'person' AND who_id = ?", app.id, personID).Limit(1).Find(&row).Error; err != nil {
			return nil, store.Clear(err)
		}
		if row.WhoID != "" {
			out = append(out, access.Assignment{Roles: rolesOf(row.Roles)})
		}
	}
	for _, slug := range groups {
		if roles, ok := app.groupRoles[slug]; ok {
			out = append(out, access.Assignment{By: slug, Roles: roles})
		}
	}
	return out, nil
}

// standing is what the gate itself knows of a person: groups and type.
func (g *Gate) standing(ctx context.Context, personID string) (groups []string, kind string, err error) {
	if err := g.Store.Read(ctx).Raw("SELECT slug FROM groups WHERE id IN (SELECT group_id FROM memberships WHERE person_id = ?) ORDER BY slug", personID).Scan(&groups).Error; err != nil {
		return nil, "", store.Clear(err)
	}
	err = g.Store.Read(ctx).Raw("SELECT type FROM people WHERE id = ?", personID).Scan(&kind).Error
	return groups, kind, store.Clear(err)
}

// unassigned says whether a grant's person may not use the application any more, because every assignment was taken away. A rehearsal writes no memberships, so there
// it can't be told.
func (g *Gate) unassigned(ctx context.Context, h *heldGrant) (string, error) {
	if why, err := g.outOfCircle(ctx, h); why != "" || err != nil {
		return why, err
	}
	if h.PersonID == "" || h.Rehearsal || h.app.id == consoleID || h.app.Access.To == access.Everybody {
		return "", nil
	}
	groups, _, err := g.standing(ctx, h.PersonID)
	if err != nil {
		return "", err
	}
	assigned, err := g.assignments(ctx, h.app, h.PersonID, groups)
	if err != nil || len(assigned) > 0 {
		return "", err
	}
	return "the person is not assigned any more", nil
}

func rolesOf(text string) []string {
	var out []string
	_ = json.Unmarshal([]byte(text), &out) // nothing stands for no roles
	return out
}

// factors are the values of amr that stand for a second factor or something as strong (RFC 8176).
var factors = []string{"mfa", "otp", "hwk", "sc"}

// strongContexts are the authentication contexts that stand for a second factor (SAML Authentication Context 2.0, section 3.4).
var strongContexts = []string{"urn:oasis:names:tc:SAML:2.0:ac:classes:TimeSyncToken", "urn:oasis:names:tc:SAML:2.0:ac:classes:MobileTwoFactorContract", "urn:oasis:names:tc:SAML:2.0:ac:classes:MobileTwoFactorUnregistered", "urn:oasis:names:tc:SAML:2.0:ac:classes:SmartcardPKI", "https://refeds.org/profile/mfa"}

// twoFactor says whether the sign-in proved a second factor, at the provider or at the gate.
func (g *Gate) twoFactor(s *signIn, who identity) bool {
	return s.state.Second || slices.ContainsFunc(who.AMR, func(m string) bool { return slices.Contains(factors, m) }) ||
		who.Context != "" && (slices.Contains(strongContexts, who.Context) || who.Context == s.provider.Stronger || slices.Contains(s.provider.TwoFactorContexts, who.Context))
}

// strengthen asks the provider for a second factor, or the person at the gate.
func (g *Gate) strengthen(ctx context.Context, s *signIn, who identity, d access.Decision) (*Next, error) {
	impossible := explain.New("access.stronger-impossible", explain.Fact("rule", d.By)).Of(s.app.Name)
	switch {
	case s.state.Wish.Passive:
		return nil, impossible
	case s.provider.Stronger != "" && !s.state.Strengthened && s.row.Flow != "provider":
		s.rec.Decide(trace.Decision{About: "strength", Result: "asked for a stronger sign-in", By: s.provider.Name + " is asked for " + s.provider.Stronger})
		s.state.Strengthened, s.state.Wish.Preferred = true, false
		s.state.Wish.Context = contextOf([]string{s.provider.Stronger})
		return g.sendOn(ctx, s), nil
	}
	if next, err := g.second(ctx, s, who); next != nil || err != nil {
		return next, err
	}
	return nil, impossible
}

// outbound is what the application's mapping sees: the profile, and what the gate itself knows.
func (s *signIn) outbound() claims.Bag {
	return outbound(s.person.profile, s.person.groups, s.person.kind, s.person.roles)
}

func outbound(profile claims.Bag, groups []string, kind string, roles []string) claims.Bag {
	bag := make(claims.Bag, len(profile)+3)
	for name, values := range profile {
		bag[name] = values
	}
	delete(bag, people.Memberships)
	delete(bag, people.PersonType)
	delete(bag, people.AssignedRoles)
	if len(groups) > 0 {
		bag[people.Memberships] = groups
	}
	if kind != "" {
		bag[people.PersonType] = []string{kind}
	}
	if len(roles) > 0 {
		bag[people.AssignedRoles] = roles
	}
	return bag
}
