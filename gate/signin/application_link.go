package signin

import (
	"context"
	"slices"

	"innergate/core/bridge"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/gate/partners"

	"gorm.io/gorm"
)

// linkApplication is a plain address, or the gate's own page of tiles: nothing is handed on.
type linkApplication struct{ *Room }

// Start goes to the address, or to one that a tile of the application names.
func (g linkApplication) Start(_ context.Context, s *SignIn, to string) (*Next, error) {
	if s.App.StartURL == "" {
		return nil, explain.New(explain.StartSPOnly)
	}
	if slices.ContainsFunc(s.App.Tiles, func(t config.Tile) bool { return to != "" && t.To == to }) {
		return &Next{To: Redirect(to)}, nil
	}
	return &Next{To: Redirect(s.App.StartURL)}, nil
}

// Settle has nothing to write: the answer itself says everything.
func (g linkApplication) Settle(*gorm.DB, *SignIn, partners.Approved, bridge.Identity, saml.NameID) error {
	return nil
}

func (g linkApplication) Issue(
	_ context.Context, s *SignIn, _ partners.Approved, _ bridge.Identity, _ saml.NameID, _ []claims.Output,
) (*Next, error) {
	to := s.App.StartURL
	if s.State.To != "" {
		to = s.State.To
	}
	s.Rec.Decide(trace.Decision{About: "application", Result: "nothing is handed on", By: s.App.Name + " is a page"})
	return &Next{To: Redirect(to)}, nil
}

func (g linkApplication) Refuse(context.Context, *SignIn, *explain.Failure) *Next { return nil }
