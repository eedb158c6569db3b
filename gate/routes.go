package gate

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
	"innergate/core/checkup"
	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/people"
	"innergate/core/trace"
	"innergate/store"
)

const settingRoutes = "routes"

// Routes are the rules that choose the way by which people sign in.
func (g *Gate) Routes(ctx context.Context) (*access.Routes, error) {
	c, err := g.cache(ctx)
	if err != nil {
		return nil, err
	}
	if r := c.routes.Load(); r != nil {
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
	c.routes.Store(r)
	return r, nil
}

// SetRoutes replaces them, in one step.
func (g *Gate) SetRoutes(ctx context.Context, who Actor, r access.Routes) (*access.Routes, error) {
	before, err := g.Routes(ctx)
	if err != nil {
		return nil, err
	}
	if err := r.Check(); err != nil {
		return nil, badRequest("routes", capitalise(err.Error())+".", "Nothing was changed.")
	}
	if r.Rules == nil {
		r.Rules = []access.Route{}
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error { return g.writeRoutes(tx, who, before, r) })
	return &r, err
}

// writeRoutes keeps routes whose providers, applications and groups are there.
func (g *Gate) writeRoutes(tx *gorm.DB, who Actor, before *access.Routes, r access.Routes) error {
	var groups []string
	for i, one := range r.Rules {
		groups = append(groups, one.If.Groups...)
		for table, list := range map[string][]string{"providers": slices.Concat(one.To, one.If.Known, one.If.Wish), "applications": one.If.Applications} {
			for _, slug := range list {
				var n int64
				if err := tx.Table(table).Where("slug = ?", slug).Count(&n).Error; err != nil {
					return err
				}
				if n == 0 {
					return badRequest("routes", fmt.Sprintf("Route %d names %q, and there is no such %s.", i+1, slug, strings.TrimSuffix(table, "s")), "Add it first, or choose one that is there.")
				}
			}
		}
	}
	if err := knownGroups(tx, groups); err != nil {
		return err
	}
	return g.writeSetting(tx, who, settingRoutes, "routes", before, r)
}

// recognised is what is known of somebody before they have signed in: from their session, or from the name or mail address that they gave.
type recognised struct {
	who    access.Who
	domain string
	known  []string // providers, by short name
	by     string
}

// recognise finds out what can be known of who signs in. It never tells whether a name is known here.
func (g *Gate) recognise(ctx context.Context, s *signIn) (*recognised, error) {
	r := &recognised{}
	r.who.Network, _ = netip.ParseAddr(s.browser.Address)
	name := s.state.Name
	if w := s.state.Wish; name == "" && strings.Contains(w.LoginHint, "@") {
		name = w.LoginHint
	} else if name == "" && w.Subject != nil && strings.Contains(w.Subject.Value, "@") {
		name = w.Subject.Value
	}
	var id string
	if name == "" {
		h, err := g.heldSessionOf(ctx, s)
		if err != nil || h == nil || s.app != nil && s.app.id == consoleID {
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
		if err := g.Store.Read(ctx).Raw("SELECT id FROM people WHERE login = ? UNION SELECT id FROM people WHERE email_key = ? UNION SELECT id FROM people WHERE username_key = ? LIMIT 2", key, key, key).Scan(&ids).Error; err != nil {
			return nil, store.Clear(err)
		}
		if len(ids) != 1 {
			r.who.Mail = name
			return r, nil
		}
		id = ids[0]
	}
	p, profile, err := g.personByID(ctx, id)
	if err != nil {
		return r, goneMeanwhile(err)
	}
	who, err := g.whoOf(ctx, p, profile)
	if err != nil {
		return nil, err
	}
	who.Network = r.who.Network
	r.who = who
	if r.domain == "" {
		_, r.domain, _ = strings.Cut(strings.ToLower(p.Email), "@")
	}
	r.known, err = g.knownFrom(ctx, id)
	return r, err
}

// knownFrom lists the providers that a person has signed in with, the newest first.
func (g *Gate) knownFrom(ctx context.Context, personID string) ([]string, error) {
	var out []string
	err := g.Store.Read(ctx).Raw("SELECT p.slug FROM links l JOIN providers p ON p.id = l.provider_id WHERE l.person_id = ? ORDER BY l.last_used DESC LIMIT 50", personID).Scan(&out).Error
	return out, store.Clear(err)
}

// whoOf is what circles are asked about.
func (g *Gate) whoOf(ctx context.Context, p *store.Person, profile claims.Bag) (access.Who, error) {
	groups, _, err := g.standing(ctx, p.ID)
	return access.Who{Known: true, ID: p.ID, Username: p.Username, Mail: profile.First(people.Mail), Name: p.Name, Groups: groups}, err
}

// arrived is what circles are asked about once somebody has signed in.
func (g *Gate) arrived(ctx context.Context, s *signIn) (access.Who, error) {
	w := access.Who{Known: true, ID: s.person.id, Username: s.person.profile.First(people.Username), Mail: s.person.profile.First(people.Mail), Name: s.person.shown, Groups: s.person.groups}
	if w.ID == "" {
		w.ID = s.provider.id + "\x1f" + s.subject // of somebody who is not stored; the same each time
	}
	w.Network, _ = netip.ParseAddr(s.browser.Address)
	if w.Groups == nil && s.person.id != "" {
		var err error
		if w.Groups, _, err = g.standing(ctx, s.person.id); err != nil {
			return w, err
		}
	}
	return w, nil
}

// inCircles asks the circles of application and provider once the person is known.
func (g *Gate) inCircles(ctx context.Context, s *signIn) error {
	if s.app.Reach != access.InCircle && s.provider.Reach != access.InCircle {
		if err := s.app.Reach.Serves("application", s.app.Name, s.rehearsal != nil); err != nil {
			return err
		}
		return s.provider.Reach.Serves("provider", s.provider.Name, s.rehearsal != nil)
	}
	who, err := g.arrived(ctx, s)
	if err != nil {
		return err
	}
	for _, one := range []struct {
		kind, name, slug string
		reach            access.Reach
		circle           *access.Circle
	}{{"application", s.app.Name, s.app.Slug, s.app.Reach, s.app.Circle}, {"provider", s.provider.Name, s.provider.Slug, s.provider.Reach, s.provider.Circle}} {
		if err := one.reach.Admits(one.circle, who, one.kind, one.name, one.slug, s.rehearsal != nil); err != nil {
			return err
		}
		if one.reach == access.InCircle && s.rehearsal == nil {
			_, why := one.circle.Holds(who, one.slug)
			s.rec.Decide(trace.Decision{About: "reach", Result: "in the circle of " + one.name, By: why})
		}
	}
	return nil
}

// loopWithin is the time in which a browser may begin as many sign-ins to one application as it can keep, without ending any.
const loopWithin = 15 * time.Second

// noLoop ends a sign-in whose browser goes round in a circle: with every turn it has one more under way to the same application.
func (g *Gate) noLoop(ctx context.Context, s *signIn) error {
	if len(s.browser.SignIns) < cookiesKept || s.known {
		return nil
	}
	var n int64
	err := g.Store.Read(ctx).Model(&store.SignIn{}).Where("id IN ? AND application_id = ? AND finished_at IS NULL AND created_at > ?", slices.Collect(maps.Keys(s.browser.SignIns)), s.app.id, g.Now().Add(-loopWithin).UTC()).Count(&n).Error
	if err != nil {
		return store.Clear(err)
	}
	if n >= cookiesKept-1 { // the first may have been to another
		return explain.New("browser.loop", explain.Fact("sign-ins", fmt.Sprint(n))).Of(s.app.Name)
	}
	return nil
}

// outOfCircle says why a grant's person is no longer in the circle of its application or provider, or nothing.
func (g *Gate) outOfCircle(ctx context.Context, h *heldGrant) (string, error) {
	if h.Rehearsal || h.app == nil || h.provider == nil || h.app.Reach != access.InCircle && h.provider.Reach != access.InCircle {
		return "", nil
	}
	who := access.Who{Known: true, ID: h.PersonID}
	if h.PersonID != "" {
		p, profile, err := g.personByID(ctx, h.PersonID)
		if err != nil {
			return "", err
		}
		if who, err = g.whoOf(ctx, p, profile); err != nil {
			return "", err
		}
	}
	for _, one := range []struct {
		reach  access.Reach
		circle *access.Circle
		slug   string
	}{{h.app.Reach, h.app.Circle, h.app.Slug}, {h.provider.Reach, h.provider.Circle, h.provider.Slug}} {
		if one.reach != access.InCircle {
			continue
		}
		// A call of the back channel comes from the application's network, not the person's: who is in by network stays in.
		if verdict, why := one.circle.Holds(who, one.slug); verdict == access.Outside && len(one.circle.Networks) == 0 {
			return "the person is not in the circle any more: " + why, nil
		}
	}
	return "", nil
}

// ways are the providers by which somebody can sign in now, and whether more can be said once it is known who it is.
type ways struct {
	open    []*provider
	passed  []string
	by      string
	asksWho bool
}

// ways lists the application's providers that can be used now, as the routes say.
func (g *Gate) ways(ctx context.Context, s *signIn) (*ways, error) {
	routes, err := g.routesOf(ctx, s)
	if err != nil {
		return nil, err
	}
	circles := false
	for _, slug := range s.app.Providers {
		if p, err := g.provider(ctx, slug); err == nil {
			circles = circles || p.Reach == access.InCircle && p.Circle.AsksWho()
		}
	}
	r := &recognised{}
	r.who.Network, _ = netip.ParseAddr(s.browser.Address)
	if len(routes.Rules) > 0 || circles || s.state.Name != "" {
		if r, err = g.recognise(ctx, s); err != nil {
			return nil, err
		}
	}
	w := &ways{}
	if w.open, w.passed, w.asksWho, err = g.candidates(ctx, s, r.who); err != nil {
		return nil, err
	}
	if len(routes.Rules) == 0 || s.rehearsal != nil {
		return w, nil
	}
	var serve []string
	for _, p := range w.open {
		serve = append(serve, p.Slug)
	}
	facts := access.RouteFacts{Application: s.app.Slug, Reach: s.app.Reach, Network: r.who.Network, Identified: r.by != "", Domain: r.domain, Known: r.known, Groups: r.who.Groups}
	for _, wish := range s.state.Wish.Providers {
		for _, p := range w.open {
			if p.Authority() == wish {
				facts.Wish = append(facts.Wish, p.Slug)
			}
		}
	}
	way := routes.Choose(facts, serve)
	w.asksWho = w.asksWho || way.AsksWho
	w.passed, w.by = append(w.passed, way.Passed...), way.By
	var open []*provider
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
func (g *Gate) Named(ctx context.Context, b Browser, id, name string) *Next {
	s, err := g.resume(ctx, b, id)
	if err != nil {
		return g.failed(ctx, s, err)
	}
	s.state.Name = clipText(strings.TrimSpace(name), 254)
	s.rec.Begin(trace.Route)
	s.rec.Decide(trace.Decision{About: "name", Result: "given", By: "the person"})
	return g.route(ctx, s, "")
}

// routedElsewhere is the provider by which an address is routed, where somebody typed it at the gate's own directory: then no password is asked for here.
func (g *Gate) routedElsewhere(ctx context.Context, s *signIn, name string) (*provider, error) {
	routes, err := g.Routes(ctx)
	if err != nil || len(routes.Rules) == 0 || !strings.Contains(name, "@") {
		return nil, err
	}
	held := s.state.Name
	s.state.Name = name
	defer func() { s.state.Name = held }()
	w, err := g.ways(ctx, s)
	if err != nil || len(w.open) != 1 || w.open[0].id == s.provider.id || w.by == "" {
		return nil, err
	}
	return w.open[0], nil
}

// routeFindings finds routes that lead nowhere, are never reached, or trust a domain that anybody can have.
func (g *Gate) routeFindings(ctx context.Context) ([]checkup.Finding, error) {
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
				out = append(out, checkup.Finding{Code: "route.never", Severity: checkup.Attention, Station: checkup.Access, Title: name + " is never reached", Detail: fmt.Sprintf("Whoever fits it fits route %d before it.", j+1), Remedy: "Put it before that one, or take it away.", Evidence: []trace.Evidence{fact}})
				break
			}
		}
		usable := false
		for _, slug := range one.To {
			p, err := g.provider(ctx, slug)
			if err != nil || p.Reach != access.Everyone && p.Reach != access.InCircle {
				continue
			}
			var n int64
			db := usedBy(g.Store.Read(ctx).Model(&store.Application{}), slug)
			if len(one.If.Applications) > 0 {
				db = db.Where("slug IN ?", one.If.Applications)
			}
			if err := db.Limit(1).Count(&n).Error; err != nil {
				return nil, store.Clear(err)
			}
			usable = usable || n > 0
		}
		if !usable {
			out = append(out, checkup.Finding{Code: "route.nowhere", Severity: checkup.Broken, Station: checkup.Access, Title: name + " leads nowhere", Detail: "None of its providers is open and serves an application that it is for: " + strings.Join(one.To, ", ") + ".", Remedy: "Open the provider, give it to the application, or take the route away.", Evidence: []trace.Evidence{fact}})
		}
		for _, d := range one.If.MailDomains {
			if publicDomain(d) {
				out = append(out, checkup.Finding{Code: "route.public-domain", Severity: checkup.Attention, Station: checkup.Access, Title: name + " routes a public mail domain", Detail: "By its look, anybody can have an address at " + d + "; all of them are sent to " + strings.Join(one.To, " or ") + ".", Remedy: "If that is meant, accept this finding with the reason. Otherwise take the domain away.", Evidence: []trace.Evidence{explain.Fact("mail domain", d)}})
			}
		}
		if len(one.To) > 1 && len(one.If.MailDomains) > 0 {
			out = append(out, checkup.Finding{Code: "route.two-for-domain", Severity: checkup.Remark, Station: checkup.Access, Title: name + " leads to several providers for one mail domain", Detail: "People choose between " + strings.Join(one.To, " and ") + "; their names must tell which is whose.", Remedy: "If everybody of the domain has one provider, name only that.", Evidence: []trace.Evidence{fact}})
		}
	}
	return out, nil
}

// publicDomain says by a domain's look whether anybody can have an address there.
func publicDomain(domain string) bool {
	first, _, _ := strings.Cut(domain, ".")
	return strings.Contains(first, "mail") || strings.Contains(first, "inbox") || first == "post"
}

// ExplainRoute answers where somebody would go, and what they would see, by the same decisions as a sign-in makes; for a draft too.
func (g *Gate) ExplainRoute(ctx context.Context, q api.RouteQuestion) (*api.RouteAnswer, error) {
	app, err := g.application(ctx, q.Application)
	if err != nil {
		return nil, err
	}
	if q.Routes != nil {
		if err := q.Routes.Check(); err != nil {
			return nil, badRequest("routes", capitalise(err.Error())+".", "")
		}
	}
	address := q.Network
	if address != "" {
		if _, err := netip.ParseAddr(address); err != nil {
			return nil, badRequest("network", fmt.Sprintf("%q is no network address.", address), "Write it such as 192.0.2.7.")
		}
	}
	s := &signIn{app: app, rec: trace.NewRecorder(g.Now(), g.Now), browser: Browser{Address: address}, looked: true, routes: q.Routes}
	s.state.Name = clipText(strings.TrimSpace(q.Name), 254)
	if q.Person != "" {
		p, _, err := g.personByID(ctx, q.Person)
		if err != nil {
			return nil, err
		}
		s.session = &heldSession{Session: store.Session{PersonID: p.ID, Person: p.Name}}
	}
	out := &api.RouteAnswer{Passed: []string{}}
	refused := func(err error) (*api.RouteAnswer, error) {
		var f *explain.Failure
		if !errors.As(err, &f) {
			return nil, err
		}
		out.Refused = explained(f.Of(app.Name).Record())
		for _, e := range s.rec.Entries() {
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
func (g *Gate) routesOf(ctx context.Context, s *signIn) (*access.Routes, error) {
	if s.routes != nil {
		return s.routes, nil
	}
	return g.Routes(ctx)
}

// straight is the provider to which somebody goes without being asked, if there is one.
func (s *signIn) straight(w *ways, routes *access.Routes, chosen string) *provider {
	// Where it matters who it is, the person is asked before the only way that is left is taken.
	asks := w.asksWho && s.state.Name == "" && routes.Field != access.FieldNever && s.rehearsal == nil
	for _, p := range w.open {
		own := chosen == "" && s.state.Name != "" && p.Directory != nil && !strings.Contains(s.state.Name, "@")
		if chosen == p.Slug || chosen == p.id || len(w.open) == 1 && !asks || own {
			return p
		}
	}
	return nil
}

// choice is the page on which the person chooses a way, or says who they are.
func (s *signIn) choice(w *ways, routes *access.Routes) *Choice {
	c := &Choice{Application: s.app.Name, SignIn: s.id, Name: s.state.Name, Portal: s.app.id == portalID}
	directory := slices.ContainsFunc(w.open, func(p *provider) bool { return p.Directory != nil })
	c.Field = routes.Field == access.FieldAlways || routes.Field != access.FieldNever && (w.asksWho || len(routes.Rules) > 0 && directory)
	c.Again = c.Field && s.state.Name != ""
	if c.Field && routes.NoButtons && !c.Again {
		return c
	}
	for _, p := range w.open {
		c.Providers = append(c.Providers, ProviderChoice{p.Slug, p.Name, p.Slug == s.browser.Way})
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
