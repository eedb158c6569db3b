package gate

import (
	"context"
	"slices"

	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/saml"
	"innergate/core/trace"
)

// linkApplication is a plain address, or the gate's own page of tiles: nothing is handed on.
type linkApplication struct{ *Gate }

// start goes to the address, or to one that a tile of the application names.
func (g linkApplication) start(_ context.Context, s *signIn, to string) (*Next, error) {
	if s.app.StartURL == "" {
		return nil, explain.New("start.sp-only")
	}
	if slices.ContainsFunc(s.app.Tiles, func(t config.Tile) bool { return to != "" && t.To == to }) {
		return &Next{Redirect: to}, nil
	}
	return &Next{Redirect: s.app.StartURL}, nil
}

func (g linkApplication) issue(_ context.Context, s *signIn, _ identity, _ saml.NameID, _ []claims.Output) (*Next, error) {
	to := s.app.StartURL
	if s.state.To != "" {
		to = s.state.To
	}
	s.rec.Decide(trace.Decision{About: "application", Result: "nothing is handed on", By: s.app.Name + " is a page"})
	return &Next{Redirect: to}, nil
}

func (g linkApplication) refuse(context.Context, *signIn, *explain.Failure) *Next { return nil }
