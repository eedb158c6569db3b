package signin

import (
	"context"

	"innergate/core/explain"
	"innergate/store"
)

// noteHabit writes down what a failure tells of a partner, for its engineer, until the partner is set otherwise.
func (g *Room) noteHabit(ctx context.Context, s *SignIn, f *explain.Failure) {
	detail := string(f.Code)
	if len(f.Evidence) > 0 {
		detail += ": " + f.Evidence[0].Expected
		if f.Evidence[0].Got != "" {
			detail += ", and got " + f.Evidence[0].Got
		}
	}
	switch f.Code {
	case explain.SAMLContextNotProven, explain.SAMLContextNotMet, explain.SAMLStatusNoContext, explain.OIDCContextUnmet:
		if s.App != nil && s.Provider != nil {
			g.partners.See(ctx, s.App.ID, store.SeenContextUnmet, s.Provider.Name+": "+detail, s.Reference)
		}
	case explain.SAMLLogoutUnsigned:
		// Anybody can write such a message in somebody's name; it counts from a browser that has a session here.
		if own, err := g.sessions.SessionByToken(ctx, s.Browser.Session); err != nil || own == nil {
			return
		}
		switch {
		case s.App != nil:
			g.partners.See(ctx, s.App.ID, store.SeenLogoutUnsigned, detail, s.Reference)
		case s.Provider != nil:
			g.partners.See(ctx, s.Provider.ID, store.SeenLogoutUnsigned, detail, s.Reference)
		}
	}
}
