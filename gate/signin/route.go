package signin

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/address"
	"innergate/core/checkup"
	"innergate/core/explain"
	"innergate/core/people"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/persons"
	"innergate/gate/sessions"
	"innergate/gate/traces"
	"innergate/store"
)

const settingRoutes = "routes"

// Routes are the rules that choose the way by which people sign in.
func (g *Room) Routes(ctx context.Context) (*access.Routes, error) {
	c, err := g.Cache(ctx)
	if err != nil {
		return nil, err
	}
	if r := c.Routes.Load(); r != nil {
		return r, nil
	}
	var row store.Setting
	if err := g.Store.Read(ctx).Where("name = ?", settingRoutes).Limit(1).Find(&row).Error; err != nil {
		return nil, store.Clear(err)
	}
	r := &access.Routes{Rules: []access.Route{}, Field: access.FieldNeeded}
	if row.Value != "" {
		if err := json.Unmarshal([]byte(row.Value), r); err != nil {
			return nil, fmt.Errorf("the routes can't be read: %w", err)
		}
	}
	c.Routes.Store(r)
	return r, nil
}

// SetRoutes replaces them, in one step.
func (g *Room) SetRoutes(ctx context.Context, who ground.Actor, r access.Routes) (*access.Routes, error) {
	before, err := g.Routes(ctx)
	if err != nil {
		return nil, err
	}
	if err := r.Check(); err != nil {
		return nil, ground.BadRequest("routes", words.Capitalise(err.Error())+".", "Nothing was changed.")
	}
	if r.Rules == nil {
		r.Rules = []access.Route{}
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error { return g.WriteRoutes(tx, who, before, r) })
	return &r, err
}

// WriteRoutes keeps routes whose providers, applications and groups are there.
func (g *Room) WriteRoutes(tx *gorm.DB, who ground.Actor, before *access.Routes, r access.Routes) error {
	var groups []string
	for i, one := range r.Rules {
		groups = append(groups, one.If.Groups...)
		for table, list := range map[string][]string{"providers": slices.Concat(one.To, one.If.Known, one.If.Wish),
			"applications": one.If.Applications} {
			for _, slug := range list {
				var n int64
				if err := tx.Table(table).Where("slug = ?", slug).Count(&n).Error; err != nil {
					return err
				}
				if n == 0 {
					return ground.BadRequest(
						"routes",
						fmt.Sprintf("Route %d names %q, and there is no such %s.", i+1, slug, strings.TrimSuffix(table, "s")),
						"Add it first, or choose one that is there.",
					)
				}
			}
		}
	}
	if err := persons.KnownGroups(tx, groups); err != nil {
		return err
	}
	return g.WriteSetting(tx, who, settingRoutes, "routes", before, r)
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
		key := people.Key(name)
		var ids []string
		if err := g.Store.Read(ctx).Raw("SELECT id FROM people WHERE login = ? UNION SELECT id FROM people WHERE email_key = ? UNION "+
			"SELECT id FROM people WHERE username_key = ? LIMIT 2", key, key, key).Scan(&ids).Error; err != nil {
			return nil, store.Clear(err)
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
		return explain.New("browser.loop", explain.Fact("sign-ins", fmt.Sprint(n))).Of(s.App.Name)
	}
	return nil
}

// ways are the providers by which somebody can sign in now, and whether more can be said once it is known who it is.
type ways struct {
	open    []*partners.Provider
	passed  []string
	by      string
	asksWho bool
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
	if len(routes.Rules) > 0 || circles || s.State.Name != "" {
		if r, err = g.recognise(ctx, s); err != nil {
			return nil, err
		}
	}
	w := &ways{}
	if w.open, w.passed, w.asksWho, err = g.candidates(ctx, s, r.who); err != nil {
		return nil, err
	}
	if len(routes.Rules) == 0 || s.Rehearsal != nil {
		return w, nil
	}
	var serve []string
	for _, p := range w.open {
		serve = append(serve, p.Slug)
	}
	facts := access.RouteFacts{
		Application: s.App.Slug,
		Reach:       s.App.Reach,
		Network:     r.who.Network,
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
	w.open = open
	return w, nil
}

// Named goes on with the name or mail address that somebody gave on the page on which ways are chosen.
func (g *Room) Named(ctx context.Context, b Browser, id, name string) *Next {
	s, err := g.Resume(ctx, b, id)
	if err != nil {
		return g.Failed(ctx, s, err)
	}
	s.State.Name = words.Clip(strings.TrimSpace(name), 254)
	s.Rec.Begin(trace.Route)
	s.Rec.Decide(trace.Decision{About: "name", Result: "given", By: "the person"})
	return g.Route(ctx, s, "")
}

// RoutedElsewhere is the provider by which an address is routed, where somebody typed it at the gate's own directory:
// then no password is asked for here.
func (g *Room) RoutedElsewhere(ctx context.Context, s *SignIn, name string) (*partners.Provider, error) {
	routes, err := g.Routes(ctx)
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

// RouteFindings finds routes that lead nowhere, are never reached, or trust a domain that anybody can have.
func (g *Room) RouteFindings(ctx context.Context) ([]checkup.Finding, error) {
	routes, err := g.Routes(ctx)
	if err != nil {
		return nil, err
	}
	var out []checkup.Finding
	for i := range routes.Rules {
		one := &routes.Rules[i]
		name := fmt.Sprintf("Route %d", i+1)
		if one.Name != "" {
			name += " (" + one.Name + ")"
		}
		fact := explain.Fact("route", name)
		for j := range routes.Rules[:i] {
			if routes.Rules[j].Covers(one) {
				out = append(
					out,
					checkup.Finding{
						Code:     "route.never",
						Severity: checkup.Attention,
						Station:  checkup.Access,
						Title:    name + " is never reached",
						Detail:   fmt.Sprintf("Whoever fits it fits route %d before it.", j+1),
						Remedy:   "Put it before that one, or take it away.",
						Evidence: []trace.Evidence{fact},
					},
				)
				break
			}
		}
		usable := false
		for _, slug := range one.To {
			p, err := g.partners.Provider(ctx, slug)
			if err != nil || p.Reach != access.Everyone && p.Reach != access.InCircle {
				continue
			}
			var n int64
			db := partners.UsedBy(g.Store.Read(ctx).Model(&store.Application{}), slug)
			if len(one.If.Applications) > 0 {
				db = db.Where("slug IN ?", one.If.Applications)
			}
			if err := db.Limit(1).Count(&n).Error; err != nil {
				return nil, store.Clear(err)
			}
			usable = usable || n > 0
		}
		if !usable {
			out = append(
				out,
				checkup.Finding{
					Code:     "route.nowhere",
					Severity: checkup.Broken,
					Station:  checkup.Access,
					Title:    name + " leads nowhere",
					Detail:   "None of its providers is open and serves an application that it is for: " + strings.Join(one.To, ", ") + ".",
					Remedy:   "Open the provider, give it to the application, or take the route away.",
					Evidence: []trace.Evidence{fact},
				},
			)
		}
		for _, d := range one.If.MailDomains {
			if address.PublicDomain(d) {
				out = append(
					out,
					checkup.Finding{
						Code:     "route.public-domain",
						Severity: checkup.Attention,
						Station:  checkup.Access,
						Title:    name + " routes a public mail domain",
						Detail: "By its look, anybody can have an address at " + d + "; all of them are sent to " + strings.Join(
							one.To,
							" or ",
						) + ".",
						Remedy:   "If that is meant, accept this finding with the reason. Otherwise take the domain away.",
						Evidence: []trace.Evidence{explain.Fact("mail domain", d)},
					},
				)
			}
		}
		if len(one.To) > 1 && len(one.If.MailDomains) > 0 {
			out = append(
				out,
				checkup.Finding{
					Code:     "route.two-for-domain",
					Severity: checkup.Remark,
					Station:  checkup.Access,
					Title:    name + " leads to several providers for one mail domain",
					Detail:   "People choose between " + strings.Join(one.To, " and ") + "; their names must tell which is whose.",
					Remedy:   "If everybody of the domain has one provider, name only that.",
					Evidence: []trace.Evidence{fact},
				},
			)
		}
	}
	return out, nil
}

// ExplainRoute answers where somebody would go, and what they would see, by the same decisions as a sign-in makes; for
// a draft too.
func (g *Room) ExplainRoute(ctx context.Context, q api.RouteQuestion) (*api.RouteAnswer, error) {
	app, err := g.partners.Application(ctx, q.Application)
	if err != nil {
		return nil, err
	}
	if q.Routes != nil {
		if err := q.Routes.Check(); err != nil {
			return nil, ground.BadRequest("routes", words.Capitalise(err.Error())+".", "")
		}
	}
	address := q.Network
	if address != "" {
		if _, err := netip.ParseAddr(address); err != nil {
			return nil, ground.BadRequest("network", fmt.Sprintf("%q is no network address.", address), "Write it such as 192.0.2.7.")
		}
	}
	s := &SignIn{App: app, Rec: trace.NewRecorder(g.Now(), g.Now), Browser: Browser{Address: address}, looked: true, routes: q.Routes}
	s.State.Name = words.Clip(strings.TrimSpace(q.Name), 254)
	if q.Person != "" {
		p, _, err := g.persons.PersonByID(ctx, q.Person)
		if err != nil {
			return nil, err
		}
		s.session = &sessions.HeldSession{Session: store.Session{PersonID: p.ID, Person: p.Name}}
	}
	out := &api.RouteAnswer{Passed: []string{}}
	refused := func(err error) (*api.RouteAnswer, error) {
		var f *explain.Failure
		if !errors.As(err, &f) {
			return nil, err
		}
		out.Refused = traces.Explained(f.Of(app.Name).Record())
		for _, e := range s.Rec.Entries() {
			if d := e.Decision; d != nil {
				out.Passed = append(out.Passed, d.Passed...)
			}
		}
		return out, nil
	}
	if app.Reach != access.Draft { // a draft is asked about as if it were open
		if err := g.reached(ctx, s); err != nil {
			return refused(err)
		}
	}
	w, err := g.ways(ctx, s)
	if err != nil {
		return refused(err)
	}
	routes, err := g.routesOf(ctx, s)
	if err != nil {
		return nil, err
	}
	out.Passed = append(out.Passed, w.passed...)
	if p := s.straight(w, routes, ""); p != nil {
		out.Goes, out.By = p.Slug, w.by
		if out.By == "" {
			out.By = routeReason("", len(w.open))
		}
		return out, nil
	}
	choice := s.choice(w, routes)
	out.By = w.by
	if out.By == "" {
		out.By = "several providers serve the application"
	}
	out.Page = &api.RoutePage{Title: "Sign in to " + app.Name, Field: choice.Field, Buttons: []string{}}
	for _, p := range choice.Providers {
		out.Page.Buttons = append(out.Page.Buttons, p.Name)
	}
	return out, nil
}

// routesOf are the routes that count for a sign-in: those that are live, or the draft that is asked about.
func (g *Room) routesOf(ctx context.Context, s *SignIn) (*access.Routes, error) {
	if s.routes != nil {
		return s.routes, nil
	}
	return g.Routes(ctx)
}

// straight is the provider to which somebody goes without being asked, if there is one.
func (s *SignIn) straight(w *ways, routes *access.Routes, chosen string) *partners.Provider {
	// Where it matters who it is, the person is asked before the only way that is left is taken.
	asks := w.asksWho && s.State.Name == "" && routes.Field != access.FieldNever && s.Rehearsal == nil
	for _, p := range w.open {
		own := chosen == "" && s.State.Name != "" && p.Directory != nil && !strings.Contains(s.State.Name, "@")
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
	c.Field = routes.Field == access.FieldAlways || routes.Field != access.FieldNever && (w.asksWho || len(routes.Rules) > 0 && directory)
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
