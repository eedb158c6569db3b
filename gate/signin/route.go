package signin

import (
	"context"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"innergate/core/access"
	"innergate/core/bridge"
	"innergate/core/explain"
	"innergate/core/people"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

// route finds the provider. Where what was vouched for earlier in the browser's session counts, nobody is asked, and the
// sign-in goes home at once; where several ways are open, the person is asked.
func (g *Room) route(ctx context.Context, s *SignIn) (*Next, error) {
	s.Rec.Begin(trace.Route)
	if err := g.noLoop(ctx, s); err != nil {
		return nil, err
	}
	if err := g.JoinRehearsal(ctx, s); err != nil {
		return nil, err
	}
	if err := g.reached(ctx, s); err != nil {
		return nil, err
	}
	if err := g.partners.InTime(s.App.Name, s.App.Until); err != nil {
		return nil, err
	}
	w, err := g.ways(ctx, s)
	if err != nil {
		return nil, err
	}
	chosen := s.chosen
	if chosen == "" {
		if used, err := g.fromSession(ctx, s, w.open); err != nil {
			return nil, err
		} else if used {
			return g.Homeward(ctx, s)
		}
	}
	if chosen == "" && s.Rehearsal != nil {
		chosen = s.Rehearsal.ProviderID
	}
	routes, err := g.routesOf(ctx, s)
	if err != nil {
		return nil, err
	}
	s.Provider = s.straight(w, routes, chosen)
	if s.Provider == nil && s.State.Wish.Passive {
		return nil, explain.New(explain.RouteNoPassive)
	}
	if s.Provider == nil {
		return g.choose(ctx, s, w, routes)
	}
	s.Row.ProviderID = s.Provider.ID
	by := routeReason(chosen, len(w.open))
	if w.by != "" && chosen == "" {
		by = w.by
	}
	s.Rec.Decide(trace.Decision{About: "provider", Result: s.Provider.Name, By: by, Passed: w.passed})
	return nil, nil
}

// choose keeps the sign-in and asks the person which way to take, or who they are.
func (g *Room) choose(ctx context.Context, s *SignIn, w *ways, routes *access.Routes) (*Next, error) {
	next := &Next{To: s.choice(w, routes)}
	s.waitAt(&choosing{})
	s.Rec.Decide(trace.Decision{About: "provider", Result: "the person is asked", Passed: w.passed})
	return next, g.Keep(ctx, s, next)
}

// Chosen goes on with the provider that the person chose.
func (g *Room) Chosen(ctx context.Context, b Browser, id, slug string) *Next {
	return g.resumed(ctx, b, id, func(ctx context.Context, s *SignIn) (*Next, error) {
		s.BackToChoosing()
		s.Choose(slug)
		return g.Outward(ctx, s)
	})
}

// Named goes on with the name or mail address that somebody gave on the page on which ways are chosen.
func (g *Room) Named(ctx context.Context, b Browser, id, name string) *Next {
	return g.resumed(ctx, b, id, func(ctx context.Context, s *SignIn) (*Next, error) {
		s.BackToChoosing()
		s.State.Name = words.Clip(strings.TrimSpace(name), 254)
		s.Rec.Begin(trace.Route)
		s.Rec.Decide(trace.Decision{About: "name", Result: "given", By: "the person"})
		return g.Outward(ctx, s)
	})
}

// reached asks the application's reach, with what is known so far.
func (g *Room) reached(ctx context.Context, s *SignIn) error {
	if s.App.Reach != access.InCircle || s.Rehearsal != nil {
		return s.App.Reach.Serves("application", s.App.Name, s.Rehearsal != nil)
	}
	r, err := g.recognise(ctx, s)
	if err != nil {
		return err
	}
	if r.by != "" && s.State.Name != "" {
		r.who.Known = false // a name that was only given proves nothing, and must not tell whether somebody is in
	}
	return s.App.Reach.Admits(s.App.Circle, r.who, "application", s.App.Name, s.App.Slug, false)
}

func routeReason(chosen string, open int) string {
	if open == 1 {
		return "the only provider that serves the application"
	}
	if chosen != "" {
		return "chosen"
	}
	return ""
}

// candidates lists the application's providers that can be used now, and says why others can't. Where a provider's
// circle depends on who it is and that is not known, it is passed over, and the person is asked.
func (g *Room) candidates(ctx context.Context, s *SignIn, who access.Who) (*ways, error) {
	var (
		open          []*partners.Provider
		passed        []string
		asks          bool
		last, unshown error
		others        int // that are no realms, which are a way only for some
	)
	for _, slug := range s.App.Providers {
		p, err := g.providerIn(ctx, s, slug)
		if ground.IsNotFound(err) {
			passed = append(passed, slug+": it was deleted")
			continue
		}
		if err != nil {
			return nil, err
		}
		if p.Kerberos == nil {
			others++
		}
		if p.Reach == access.InCircle && s.Rehearsal == nil {
			verdict, why := p.Circle.Holds(who, p.Slug)
			if verdict != access.Inside {
				asks = asks || verdict == access.Open
				passed = append(passed, p.Name+": circle, "+why)
				last = explain.New(explain.ReachProviderCircle, explain.Fact("reason", why)).Of(p.Name)
				continue
			}
		} else if err := p.Reach.Serves("provider", p.Name, s.Rehearsal != nil); err != nil {
			passed, last = append(passed, p.Name+": "+string(p.Reach)), err
			continue
		}
		if u := slices.IndexFunc(s.State.Unshown, func(u bridge.Unshown) bool { return u.Provider == p.ID }); u >= 0 {
			passed, unshown = append(passed, p.Name+": "+string(s.State.Unshown[u].Code)), s.State.Unshown[u].Failure(p.Name)
			continue
		}
		if p.Kerberos != nil && s.State.Wish.Fresh {
			passed, last = append(passed, p.Name+": a ticket is no fresh sign-in"), explain.New(explain.BridgeNoFresh).Of(p.Name)
			continue
		}
		if err := g.partners.InTime(p.Name, p.Until); err != nil {
			passed, last = append(passed, p.Name+": its metadata is over"), err
			continue
		}
		if len(p.Missing()) > 0 {
			passed = append(passed, p.Name+": "+p.Missing()[0])
			continue
		}
		if list := s.State.Wish.Providers; len(list) > 0 && !slices.Contains(list, p.Authority()) {
			passed, last = append(passed, p.Name+": not among those that the application lists"), explain.New(
				explain.SAMLProviderNotListed, explain.Fact("listed", fmt.Sprint(list)),
			)
			continue
		}
		open = append(open, p)
	}
	// Whoever is in a circle takes that way in place of the one for those outside.
	for _, p := range open {
		if p.Reach == access.InCircle && s.Rehearsal == nil && p.Circle.Instead != "" {
			open = slices.DeleteFunc(slices.Clone(open), func(other *partners.Provider) bool { return other.Slug == p.Circle.Instead })
			passed = append(passed, p.Circle.Instead+": for those outside the circle of "+p.Name)
		}
	}
	if last == nil || others > 1 {
		last = explain.New(explain.RouteNone)
	}
	if unshown != nil { // the only way that was left
		last = unshown
	}
	if len(open) == 0 && !asks {
		s.Rec.Decide(trace.Decision{About: "provider", Result: "none", Passed: passed})
		return nil, last
	}
	return &ways{open: open, passed: passed, asksWho: asks, none: last}, nil
}

// recognised is what is known of somebody before they have signed in: from their session, or from the name or mail
// address that they gave.
type recognised struct {
	who    access.Who
	domain string
	known  []string // providers, by short name
	by     string
}

// recognise finds out what can be known of who signs in. It never tells whether a name is known here.
func (g *Room) recognise(ctx context.Context, s *SignIn) (*recognised, error) {
	r := &recognised{}
	r.who.Network, _ = netip.ParseAddr(s.Browser.Address)
	name := s.State.Name
	if w := s.State.Wish; name == "" && strings.Contains(w.LoginHint, "@") {
		name = w.LoginHint
	} else if name == "" && w.Subject != nil && strings.Contains(w.Subject.Value, "@") {
		name = w.Subject.Value
	}
	var id string
	if name == "" {
		h, err := g.heldSessionOf(ctx, s)
		if err != nil || h == nil || s.App != nil && s.App.ID == partners.ConsoleID {
			return r, err
		}
		if id, r.by = h.PersonID, "the session of "+h.Person; id == "" {
			return r, nil
		}
	} else {
		r.by = "the name that was given"
		r.who.Known = true
		if _, domain, ok := strings.Cut(name, "@"); ok {
			r.domain = strings.ToLower(strings.TrimSpace(domain))
		}
		ids, err := g.persons.CalledBy(ctx, name)
		if err != nil {
			return nil, err
		}
		if len(ids) != 1 {
			r.who.Mail = name
			return r, nil
		}
		id = ids[0]
	}
	p, profile, err := g.persons.PersonByID(ctx, id)
	if err != nil {
		return r, ground.GoneMeanwhile(err)
	}
	who, err := g.persons.WhoOf(ctx, p, profile)
	if err != nil {
		return nil, err
	}
	who.Network = r.who.Network
	r.who = who
	if r.domain == "" {
		_, r.domain, _ = strings.Cut(strings.ToLower(p.Email), "@")
	}
	r.known, err = g.persons.KnownFrom(ctx, id)
	return r, err
}

// arrived is what circles are asked about once somebody has signed in.
func (g *Room) arrived(ctx context.Context, s *SignIn) (access.Who, error) {
	w := access.Who{
		Known:    true,
		ID:       s.Person.ID,
		Username: s.Person.Profile.First(people.Username),
		Mail:     s.Person.Profile.First(people.Mail),
		Name:     s.Person.Shown,
		Groups:   s.Person.Groups,
	}
	if w.ID == "" {
		w.ID = s.Provider.ID + "\x1f" + s.subject // of somebody who is not stored; the same each time
	}
	w.Network, _ = netip.ParseAddr(s.Browser.Address)
	if w.Groups == nil && s.Person.ID != "" {
		var err error
		if w.Groups, _, err = g.persons.Standing(ctx, s.Person.ID); err != nil {
			return w, err
		}
	}
	return w, nil
}

// inCircles asks the circles of application and provider once the person is known.
func (g *Room) inCircles(ctx context.Context, s *SignIn) error {
	if s.App.Reach != access.InCircle && s.Provider.Reach != access.InCircle {
		if err := s.App.Reach.Serves("application", s.App.Name, s.Rehearsal != nil); err != nil {
			return err
		}
		return s.Provider.Reach.Serves("provider", s.Provider.Name, s.Rehearsal != nil)
	}
	who, err := g.arrived(ctx, s)
	if err != nil {
		return err
	}
	for _, one := range []struct {
		kind, name, slug string
		reach            access.Reach
		circle           *access.Circle
	}{{"application", s.App.Name, s.App.Slug, s.App.Reach, s.App.Circle},
		{"provider", s.Provider.Name, s.Provider.Slug, s.Provider.Reach, s.Provider.Circle}} {
		if err := one.reach.Admits(one.circle, who, one.kind, one.name, one.slug, s.Rehearsal != nil); err != nil {
			return err
		}
		if one.reach == access.InCircle && s.Rehearsal == nil {
			_, why := one.circle.Holds(who, one.slug)
			s.Rec.Decide(trace.Decision{About: "reach", Result: "in the circle of " + one.name, By: why})
		}
	}
	return nil
}

// loopWithin is the time in which a browser may begin as many sign-ins to one application as it can keep, without
// ending any.
const loopWithin = 15 * time.Second

// noLoop ends a sign-in whose browser goes round in a circle: with every turn it has one more under way to the same
// application.
func (g *Room) noLoop(ctx context.Context, s *SignIn) error {
	if len(s.Browser.SignIns) < cookiesKept || s.Known {
		return nil
	}
	var n int64
	err := g.Store.Read(ctx).
		Model(&store.SignIn{}).
		Where("id IN ? AND application_id = ? AND finished_at IS NULL AND created_at > ?", slices.Collect(maps.Keys(s.Browser.SignIns)),
			s.App.ID, g.Now().Add(-loopWithin).UTC()).
		Count(&n).
		Error
	if err != nil {
		return store.Clear(err)
	}
	if n >= cookiesKept-1 { // the first may have been to another
		return explain.New(explain.BrowserLoop, explain.Fact("sign-ins", fmt.Sprint(n))).Of(s.App.Name)
	}
	return nil
}

// ways are the providers by which somebody can sign in now, and whether more can be said once it is known who it is.
type ways struct {
	open    []*partners.Provider
	passed  []string
	by      string
	asksWho bool
	none    error // why there is none, where there is none
}

// ways lists the application's providers that can be used now, as the routes say.
func (g *Room) ways(ctx context.Context, s *SignIn) (*ways, error) {
	routes, err := g.routesOf(ctx, s)
	if err != nil {
		return nil, err
	}
	circles := false
	for _, slug := range s.App.Providers {
		if p, err := g.partners.Provider(ctx, slug); err == nil {
			circles = circles || p.Reach == access.InCircle && p.Circle.AsksWho()
		}
	}
	r := &recognised{}
	r.who.Network, _ = netip.ParseAddr(s.Browser.Address)
	if routes.AskWho() || circles || s.State.Name != "" {
		if r, err = g.recognise(ctx, s); err != nil {
			return nil, err
		}
	}
	w, err := g.candidates(ctx, s, r.who)
	if err != nil {
		return nil, err
	}
	if s.Rehearsal != nil && s.Rehearsal.ProviderID != "" {
		return w, nil
	}
	if len(routes.Rules) == 0 || s.Rehearsal != nil {
		return w.withoutTickets()
	}
	var serve []string
	for _, p := range w.open {
		serve = append(serve, p.Slug)
	}
	facts := access.RouteFacts{
		Application: s.App.Slug,
		Reach:       s.App.Reach,
		Network:     r.who.Network,
		Last:        s.Browser.Way,
		Identified:  r.by != "",
		Domain:      r.domain,
		Known:       r.known,
		Groups:      r.who.Groups,
	}
	for _, wish := range s.State.Wish.Providers {
		for _, p := range w.open {
			if p.Authority() == wish {
				facts.Wish = append(facts.Wish, p.Slug)
			}
		}
	}
	way := routes.Choose(facts, serve)
	w.asksWho = w.asksWho || way.AsksWho
	w.passed, w.by = append(w.passed, way.Passed...), way.By
	var open []*partners.Provider
	for _, slug := range way.To {
		for _, p := range w.open {
			if p.Slug == slug {
				open = append(open, p)
			}
		}
	}
	if w.open = open; !way.Routed {
		return w.withoutTickets()
	}
	return w, nil
}

// withoutTickets leaves realms out, whose tickets are tried only where a route leads to them: whoever has none might see a window of
// the browser that asks for a password.
func (w *ways) withoutTickets() (*ways, error) {
	w.open = slices.DeleteFunc(w.open, func(p *partners.Provider) bool {
		if p.Kerberos != nil {
			w.passed = append(w.passed, p.Name+": no route leads to it here")
		}
		return p.Kerberos != nil
	})
	if len(w.open) == 0 && !w.asksWho {
		return nil, w.none
	}
	return w, nil
}

// RoutedElsewhere is the provider by which an address is routed, where somebody typed it at the gate's own directory:
// then no password is asked for here.
func (g *Room) RoutedElsewhere(ctx context.Context, s *SignIn, name string) (*partners.Provider, error) {
	routes, err := g.partners.Routes(ctx)
	if err != nil || len(routes.Rules) == 0 || !strings.Contains(name, "@") {
		return nil, err
	}
	held := s.State.Name
	s.State.Name = name
	defer func() { s.State.Name = held }()
	w, err := g.ways(ctx, s)
	if err != nil || len(w.open) != 1 || w.open[0].ID == s.Provider.ID || w.by == "" {
		return nil, err
	}
	return w.open[0], nil
}

// routesOf are the routes that count for a sign-in: those that are live, or the draft that is asked about.
func (g *Room) routesOf(ctx context.Context, s *SignIn) (*access.Routes, error) {
	if s.routes != nil {
		return s.routes, nil
	}
	return g.partners.Routes(ctx)
}

// straight is the provider to which somebody goes without being asked, if there is one.
func (s *SignIn) straight(w *ways, routes *access.Routes, chosen string) *partners.Provider {
	// Where it matters who it is, the person is asked before the only way that is left is taken.
	asks := w.asksWho && s.State.Name == "" && routes.Field != access.FieldNever && s.Rehearsal == nil
	for _, p := range w.open {
		own := chosen == "" && s.State.Name != "" && p.Directory != nil && !strings.Contains(s.State.Name, "@")
		own = own || chosen == "" && p.Kerberos != nil // it asks nobody anything
		if chosen == p.Slug || chosen == p.ID || len(w.open) == 1 && !asks || own {
			return p
		}
	}
	return nil
}

// choice is the page on which the person chooses a way, or says who they are.
func (s *SignIn) choice(w *ways, routes *access.Routes) *Choice {
	c := &Choice{Application: s.App.Name, SignIn: s.ID, Name: s.State.Name, Portal: s.App.ID == partners.PortalID}
	directory := slices.ContainsFunc(w.open, func(p *partners.Provider) bool { return p.Directory != nil })
	c.Field = routes.Field == access.FieldAlways || routes.Field != access.FieldNever && (w.asksWho || routes.AskWho() && directory)
	c.Again = c.Field && s.State.Name != ""
	if c.Field && routes.NoButtons && !c.Again {
		return c
	}
	for _, p := range w.open {
		c.Providers = append(c.Providers, ProviderChoice{p.Slug, p.Name, p.Slug == s.Browser.Way})
	}
	// The one that the browser took the last time stands first.
	slices.SortStableFunc(c.Providers, func(a, b ProviderChoice) int {
		switch {
		case a.Last && !b.Last:
			return -1
		case b.Last && !a.Last:
			return 1
		}
		return 0
	})
	return c
}
