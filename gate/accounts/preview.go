package accounts

import (
	"context"
	"encoding/json"
	"maps"

	"innergate/core/claims"
	"innergate/core/people"
	"innergate/gate/partners"
)

// Would is what somebody's account would be.
type Would struct {
	Has  bool   // the person is to have one
	Why  string // or not
	Made claims.Attempt
	Sent string // as a resource in JSON, as it would be made
}

// Would tells what somebody's account at an application would be. Nothing is asked there, and nothing is written. Where the person is
// known here by an ID, what is held of them counts, and not the values given.
func (g *Room) Would(ctx context.Context, app *partners.Application, personID string, values claims.Bag) (*Would, error) {
	able, err := g.able(ctx, app)
	if err != nil {
		return nil, err
	}
	out := &Would{Why: "it is nobody who is known here"}
	externalID := "(the person's ID at the gate)"
	if personID != "" {
		persons, err := g.people(ctx, []string{personID})
		if err != nil {
			return nil, err
		}
		w := persons[personID]
		if out.Has, out.Why = w.entitled(app); w != nil {
			values, externalID = w.values(app), personID
		}
	}
	out.Made = app.AccountRules.Try(values)
	for i := range out.Made.Steps {
		out.Made.Steps[i].Direction = "out"
	}
	list, wrong := able.planned(app, maps.Clone(out.Made.Attributes), externalID)
	for _, one := range wrong {
		out.Made.Problems = append(out.Made.Problems, claims.Problem{Rule: one.Name, Code: "scim-value", Message: one.Reason})
	}
	if text(list, "userName") == "" {
		out.Made.Problems = append(out.Made.Problems, claims.Problem{Rule: "userName", Code: "scim-value",
			Message: "Every account needs one, and no rule makes it."})
	}
	sent, err := json.MarshalIndent(able.users.New(list), "", "  ")
	out.Sent = string(sent)
	return out, err
}

// values are what rules get of somebody.
func (w *who) values(app *partners.Application) claims.Bag {
	return people.Outbound(w.profile, w.groups, w.row.Type, app.Policy.Roles(w.assigned(app)))
}
