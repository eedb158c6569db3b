package signin

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/explain"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/sessions"
	"innergate/gate/traces"
	"innergate/store"
)

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
