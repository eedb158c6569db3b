package grants

import (
	"context"

	"innergate/core/access"
	"innergate/gate/partners"
)

// unassigned says whether a grant's person may not use the application any more, because every assignment was taken
// away. A rehearsal writes no memberships, so there it can't be told.
func (g *Room) unassigned(ctx context.Context, h *HeldGrant) (string, error) {
	if why, err := g.outOfCircle(ctx, h); why != "" || err != nil {
		return why, err
	}
	if h.PersonID == "" || h.Rehearsal || h.App.ID == partners.ConsoleID || h.App.Access.To == access.Everybody {
		return "", nil
	}
	groups, _, err := g.persons.Standing(ctx, h.PersonID)
	if err != nil {
		return "", err
	}
	assigned, err := g.partners.Assignments(ctx, h.App, h.PersonID, groups)
	if err != nil || len(assigned) > 0 {
		return "", err
	}
	return "the person is not assigned any more", nil
}

// outOfCircle says why a grant's person is no longer in the circle of its application or provider, or nothing.
func (g *Room) outOfCircle(ctx context.Context, h *HeldGrant) (string, error) {
	if h.Rehearsal || h.App == nil || h.Provider == nil || h.App.Reach != access.InCircle && h.Provider.Reach != access.InCircle {
		return "", nil
	}
	who := access.Who{Known: true, ID: h.PersonID}
	if h.PersonID != "" {
		p, profile, err := g.persons.PersonByID(ctx, h.PersonID)
		if err != nil {
			return "", err
		}
		if who, err = g.persons.WhoOf(ctx, p, profile); err != nil {
			return "", err
		}
	}
	for _, one := range []struct {
		reach  access.Reach
		circle *access.Circle
		slug   string
	}{{h.App.Reach, h.App.Circle, h.App.Slug}, {h.Provider.Reach, h.Provider.Circle, h.Provider.Slug}} {
		if one.reach != access.InCircle {
			continue
		}
		// A call of the back channel comes from the application's network, not the person's: who is in by network stays
		// in.
		if verdict, why := one.circle.Holds(who, one.slug); verdict == access.Outside && len(one.circle.Networks) == 0 {
			return "the person is not in the circle any more: " + why, nil
		}
	}
	return "", nil
}
