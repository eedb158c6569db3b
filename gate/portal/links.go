package portal

import (
	"context"
	"slices"

	"gorm.io/gorm"

	"innergate/core/bridge"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/gate/partners"
	"innergate/gate/signin"
)

// Links is the side of applications that are a plain address, or the gate's own page of tiles: nothing is handed on.
type Links struct{}

// Start goes to the address, or to one that a tile of the application names.
func (Links) Start(_ context.Context, s *signin.SignIn, to string) (*signin.Next, error) {
	if s.App.StartURL == "" {
		return nil, explain.New(explain.StartSPOnly)
	}
	if slices.ContainsFunc(s.App.Tiles, func(t config.Tile) bool { return to != "" && t.To == to }) {
		return &signin.Next{To: signin.Redirect(to)}, nil
	}
	return &signin.Next{To: signin.Redirect(s.App.StartURL)}, nil
}

// Settle has nothing to write: the answer itself says everything.
func (Links) Settle(*gorm.DB, *signin.SignIn, partners.Approved, bridge.Identity, saml.NameID) error {
	return nil
}

// Issue sends the person there.
func (Links) Issue(
	_ context.Context, s *signin.SignIn, _ partners.Approved, _ bridge.Identity, _ saml.NameID, _ []claims.Output,
) (*signin.Next, error) {
	to := s.App.StartURL
	if s.State.To != "" {
		to = s.State.To
	}
	s.Rec.Decide(trace.Decision{About: "application", Result: "nothing is handed on", By: s.App.Name + " is a page"})
	return &signin.Next{To: signin.Redirect(to)}, nil
}

// Refuse has no answer of its own.
func (Links) Refuse(context.Context, *signin.SignIn, *explain.Failure) *signin.Next { return nil }
