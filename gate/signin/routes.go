package signin

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/address"
	"innergate/core/checkup"
	"innergate/core/explain"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/persons"
	"innergate/gate/sessions"
	"innergate/gate/traces"
	"innergate/store"
)

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
							one.To, " or ",
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
