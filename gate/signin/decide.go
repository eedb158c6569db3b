package signin

import (
	"context"
	"net/netip"
	"slices"

	"innergate/core/access"
	"innergate/core/bridge"
	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/people"
	"innergate/core/trace"
	"innergate/gate/partners"
)

// decide asks whether the person may come in: the reach, which may have changed while the person was away, the
// provider's time, and the application's access rules. It returns a page or a redirect where a stronger sign-in is wanted.
func (g *Room) decide(ctx context.Context, s *SignIn) (*Next, error) {
	s.Rec.Begin(trace.Decide)
	if err := g.inCircles(ctx, s); err != nil {
		return nil, err
	}
	if err := g.partners.InTime(s.Provider.Name, s.Provider.Until); err != nil {
		return nil, err
	}
	return g.letIn(ctx, s, s.evidence.Who())
}

// letIn asks the application's access rules. It returns a page or a redirect where a stronger sign-in is wanted.
func (g *Room) letIn(ctx context.Context, s *SignIn, who bridge.Identity) (*Next, error) {
	if s.App.ID == partners.ConsoleID {
		return nil, nil // it has rules of its own
	}
	facts, err := g.Facts(ctx, s, who)
	if err != nil {
		return nil, err
	}
	d := s.App.Policy.Decide(facts, true)
	s.Person.Roles = d.Roles
	s.Rec.Decide(trace.Decision{
		About:  "access",
		Result: d.Result,
		By:     d.By,
		Passed: append([]string{"asked about: " + facts.InWords()}, d.Passed...),
	})
	switch d.Result {
	case access.Allow:
		return nil, nil
	case access.Stronger:
		return g.strengthen(ctx, s, who, d)
	}
	return nil, s.App.Refusal(d, s.Person.Shown, facts.Received)
}

// Facts are what access rules are asked about.
func (g *Room) Facts(ctx context.Context, s *SignIn, who bridge.Identity) (access.Facts, error) {
	f := access.Facts{
		Person:    s.Person.ID,
		Type:      s.Person.Kind,
		Groups:    s.Person.Groups,
		Received:  s.Person.Came["groups"],
		Provider:  s.Provider.Slug,
		Mail:      s.Person.Profile.First(people.Mail),
		At:        g.Now(),
		TwoFactor: g.TwoFactor(s, who),
	}
	f.Network, _ = netip.ParseAddr(s.Browser.Address)
	var err error
	f.Assigned, err = g.partners.Assignments(ctx, s.App, s.Person.ID, s.Person.Groups)
	return f, err
}

// TwoFactor says whether the sign-in proved a second factor, at the provider or at the gate.
func (g *Room) TwoFactor(s *SignIn, who bridge.Identity) bool {
	return s.evidence.Second(s.Person.ID) || slices.ContainsFunc(who.AMR, func(m string) bool {
		return slices.Contains(bridge.Factors, m)
	}) ||
		slices.ContainsFunc(append(slices.Clone(who.Means), who.Context), func(c string) bool {
			return c != "" && (slices.Contains(bridge.StrongContexts, c) || c == s.Provider.Stronger ||
				slices.Contains(s.Provider.TwoFactorContexts, c))
		})
}

// strengthen asks the provider for a second factor, or the person at the gate.
func (g *Room) strengthen(ctx context.Context, s *SignIn, who bridge.Identity, d access.Decision) (*Next, error) {
	impossible := explain.New(explain.AccessStrongerImpossible, explain.Fact("rule", d.By)).Of(s.App.Name)
	switch {
	case s.State.Wish.Passive:
		return nil, impossible
	case s.Provider.Stronger != "" && !s.strengthened() && s.Row.Flow != "provider":
		s.Rec.Decide(trace.Decision{
			About:  "strength",
			Result: "asked for a stronger sign-in",
			By:     s.Provider.Name + " is asked for " + s.Provider.Stronger,
		})
		s.asked = &awaiting{Again: s.asked != nil && s.asked.Again, Strengthened: true}
		s.adjustWish(func(w *bridge.Wish) {
			w.Preferred, w.Context = false, bridge.ContextOf([]string{s.Provider.Stronger})
		})
		return g.send(ctx, s)
	}
	if next, err := g.SecondFactor.AskSecond(ctx, s, who); next != nil || err != nil {
		return next, err
	}
	return nil, impossible
}

func (s *SignIn) strengthened() bool { return s.asked != nil && s.asked.Strengthened }

// Outbound is what the application's mapping sees: the profile, and what the gate itself knows.
func (s *SignIn) Outbound() claims.Bag {
	return people.Outbound(s.Person.Profile, s.Person.Groups, s.Person.Kind, s.Person.Roles)
}
