package signin

import (
	"context"

	"innergate/core/trace"
)

// send asks the provider and keeps the sign-in until the answer comes.
func (g *Room) send(ctx context.Context, s *SignIn) (*Next, error) {
	s.Rec.Begin(trace.Send)
	asked := &awaiting{Provider: s.Provider.ID}
	if s.asked != nil {
		asked.Again, asked.Strengthened = s.asked.Again, s.asked.Strengthened
	}
	s.asked = asked
	s.waitAt(asked)
	next, err := g.ProviderSide(s.Provider).Send(ctx, s)
	if err != nil {
		return nil, err
	}
	return next, g.Keep(ctx, s, next)
}
