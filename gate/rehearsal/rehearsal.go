package rehearsal

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/gate/sessions"
	"innergate/gate/signin"
	"innergate/gate/signout"
	"innergate/gate/traces"
	"innergate/store"
)

// RehearsePath stands before the token in a rehearsal's link.
const RehearsePath = "/rehearse/"

// NewRehearsal orders a rehearsal and returns its link, which is shown once.
func (g *Room) NewRehearsal(ctx context.Context, who ground.Actor, n api.NewRehearsal) (*api.Rehearsal, error) {
	return g.Order(ctx, who, n, "")
}

// Order orders one for somebody: about says for what, where it is not for an engineer of ours.
func (g *Room) Order(ctx context.Context, who ground.Actor, n api.NewRehearsal, about string) (*api.Rehearsal, error) {
	if n.Hours == 0 {
		n.Hours = 1
	}
	if n.Hours < 1 || n.Hours > 72 {
		return nil, ground.BadRequest("hours", "A rehearsal's link is good for 1 to 72 hours.", "")
	}
	r := store.Rehearsal{
		ID:        store.NewID(),
		Stop:      n.Stop,
		Flow:      n.Flow,
		To:        n.To,
		Out:       n.SignOut,
		Keeps:     n.KeepPerson,
		Scope:     strings.Join(n.Scopes, " "),
		Fresh:     !n.KeepSession,
		By:        who.Name,
		CreatedAt: g.Now().UTC(),
		ExpiresAt: g.Now().Add(time.Duration(n.Hours) * time.Hour).UTC(),
	}
	if err := g.changes.RehearseProposal(ctx, &n, &r); err != nil {
		return nil, err
	}
	if r.Override != "" {
		// What nobody approved is tried up to the gate, and answered by nothing.
		if n.Second != "" || n.SignOut {
			return nil, ground.BadRequest(
				"proposal-ends-here", "What is proposed is tried up to the gate only, until it was approved.",
				"Rehearse without a second application and without the sign-out, or approve the change first.",
			)
		}
		r.Stop, r.Keeps, n.Stop = true, false, true
	}
	r.About = words.FirstOf(about, r.About)
	app, err := g.Rehearsed(ctx, &n, &r)
	if err != nil {
		return nil, err
	}
	if len(r.Scope) > 1000 {
		return nil, ground.BadRequest("scopes", "The scopes have more than 1,000 characters.", "")
	}
	token := keys.NewSecret()
	r.TokenHash = keys.HashSecret(token)
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := g.Insert(tx, &r); err != nil {
			return err
		}
		return ground.Journal(tx, g.Now(), who, "ordered", "rehearsal", r.ID, app.Name, "", n.Flow)
	})
	if err != nil {
		return nil, err
	}
	v, err := g.Rehearsal(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	v.Link = g.PublicURL + RehearsePath + token
	return v, nil
}

// Rehearsed sees that what is to be rehearsed can be, and notes it in the order.
func (g *Room) Rehearsed(ctx context.Context, n *api.NewRehearsal, r *store.Rehearsal) (*partners.Application, error) {
	if n.Application == "" {
		if n.Provider == "" {
			return nil, ground.BadRequest("nothing-named", "Name an application, a provider, or both.", "")
		}
		p, err := g.partners.Provider(ctx, n.Provider)
		if err != nil {
			return nil, err
		}
		if missing := p.Missing(); len(missing) > 0 {
			return nil, incomplete(missing[0], "Take the provider's document, or enter the value.")
		}
		if n.Second != "" || n.SignOut {
			return nil, ground.BadRequest(
				"provider-alone",
				"A provider that is tried alone leads to no application, so there is none to open next or to sign out of.",
				"Name an application as well.",
			)
		}
		r.ApplicationID, r.ProviderID, r.Flow, r.Stop = partners.ProbeMark+p.ID, p.ID, "idp", true
		return g.partners.Probe(ctx, r.ApplicationID)
	}
	app, err := g.partners.Application(ctx, n.Application)
	if err != nil {
		return nil, err
	}
	if o, err := ground.DecodeBody[signin.Overriding](words.FirstOf(r.Override, "{}")); err != nil {
		return nil, err
	} else if o.Kind == "application" {
		if app, err = g.partners.MakeApplication(ctx, &store.Object{ID: o.ID, Body: o.Body}); err != nil {
			return nil, err
		}
	}
	r.ApplicationID = app.ID
	if n.Provider != "" {
		p, err := g.partners.Provider(ctx, n.Provider)
		if err != nil {
			return nil, err
		}
		if !slices.Contains(app.Providers, p.Slug) {
			return nil, ground.BadRequest(
				"provider-not-used", fmt.Sprintf("%s is not among the providers of %s.", p.Name, app.Name),
				"Give the application this provider first.",
			)
		}
		r.ProviderID = p.ID
	}
	if n.Second != "" {
		second, err := g.partners.Application(ctx, n.Second)
		if err != nil {
			return nil, err
		}
		switch {
		case second.ID == app.ID:
			return nil, ground.BadRequest("second-same", "The second application is the first one.", "Name another.")
		case second.Begins() && second.StartURL == "" && (second.OIDC == nil || second.OIDC.InitiateLogin == ""):
			return nil, noStart(second.Name)
		case n.Stop:
			return nil, ground.BadRequest(
				"second-stopped", "A rehearsal that ends at the gate leads to no application, and to no second one.",
				"",
			)
		}
		r.Second = second.ID
	}
	switch n.Flow {
	case "sp":
		if app.StartURL == "" {
			return nil, noStart(app.Name)
		}
	case "idp":
		if app.Begins() && !n.Stop {
			return nil, ground.Problem(
				http.StatusUnprocessableEntity, "sp-only", "The application takes no unsolicited response",
				app.Name+" is set to accept sign-ins only that it began itself.",
				"Rehearse the other way, or change the application's option.",
			)
		}
		if n.To != "" && !app.SAML.AllowsLink(n.To) {
			return nil, ground.BadRequest(
				"link-refused", "The deep link does not belong to the application.",
				"Add its beginning to the application's deep links.",
			)
		}
	default:
		return nil, ground.BadRequest("flow", fmt.Sprintf("%q is no way to sign in; sp and idp are.", n.Flow), "")
	}
	if len(app.Providers) == 0 {
		return nil, ground.Problem(
			http.StatusUnprocessableEntity, "no-provider", "No provider is chosen",
			app.Name+" has no provider to sign in with.", "Choose a provider for the application.",
		)
	}
	if missing := app.Missing(); len(missing) > 0 {
		return nil, incomplete(missing[0], "Take the application's metadata, or enter the value.")
	}
	return app, nil
}

func incomplete(what, remedy string) error {
	return ground.Problem(http.StatusUnprocessableEntity, "incomplete", "It can't be rehearsed yet", words.Capitalise(what)+".", remedy)
}

func noStart(name string) error {
	return ground.Problem(
		http.StatusUnprocessableEntity, "no-start", "The start address is missing",
		"A rehearsal that begins at the application needs the application's own start address; "+name+" has none.",
		"Enter the start address on the application's page.",
	)
}

// Rehearsal shows one with the traces of its sign-ins.
func (g *Room) Rehearsal(ctx context.Context, id string) (*api.Rehearsal, error) {
	var r store.Rehearsal
	if err := g.Store.Read(ctx).Where("id = ?", id).Take(&r).Error; err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return nil, ground.NotFound("rehearsal", id)
		}
		return nil, store.Clear(err)
	}
	app, err := g.partners.ApplicationByID(ctx, r.ApplicationID)
	if err != nil {
		return nil, err
	}
	v := &api.Rehearsal{
		ID:          r.ID,
		Application: app.Slug,
		Flow:        r.Flow,
		SignOut:     r.Out,
		KeepPerson:  r.Keeps,
		By:          r.By,
		Created:     r.CreatedAt,
		Expires:     r.ExpiresAt,
		Traces:      []api.TraceSummary{},
	}
	if r.ProviderID != "" {
		if p, err := g.partners.ProviderByID(ctx, r.ProviderID); err == nil {
			v.Provider = p.Slug
		}
	}
	if r.Second != "" {
		if a, err := g.partners.ApplicationByID(ctx, r.Second); err == nil {
			v.Second = a.Slug
		}
	}
	newest := g.Store.Traces.Read(ctx).Model(&store.Trace{}).Omit("entries").Where("rehearsal_id = ?", id).Order("id DESC").Limit(50)
	rows, err := traces.Gather(ctx, g.traces, newest, traces.Newest)
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		v.Traces = append(v.Traces, g.traces.Summary(ctx, row))
	}
	return v, nil
}

// RehearsalPage is what the page behind a rehearsal's link says.
type RehearsalPage struct {
	Application string
	By          string
	Flow        string
	// Step is what comes next where there are several: first, second or out. More is set where another follows it.
	Step    string
	More    bool
	Failure *signin.FailurePage
}

// OpenRehearsal shows what a link is for, before anything begins.
func (g *Room) OpenRehearsal(ctx context.Context, b signin.Browser, token string) *RehearsalPage {
	r, app, err := g.rehearsalByToken(ctx, b, token)
	if err != nil {
		return &RehearsalPage{Failure: failure(err)}
	}
	page := &RehearsalPage{Application: app.Name, By: r.By, Flow: r.Flow, Step: "first", More: r.Second != "" || r.Out}
	h, err := g.rehearsalSession(ctx, r)
	if err != nil {
		return &RehearsalPage{Failure: failure(err)}
	}
	if h == nil || !signin.Rehearses(r, b) {
		return page
	}
	last, err := g.sessions.LastUse(ctx, h.ID, r.Second)
	switch {
	case err != nil:
		return &RehearsalPage{Failure: failure(err)}
	case r.Second != "" && last.IsZero():
		second, err := g.partners.ApplicationByID(ctx, r.Second)
		if err != nil {
			return &RehearsalPage{Failure: failure(explain.New(explain.RehearsalOver))}
		}
		page.Step, page.Application, page.More = "second", second.Name, r.Out
	case r.Out:
		page.Step, page.More = "out", false
	}
	return page
}

// rehearsalSession is the session of a rehearsal's own, if it has one that counts.
func (g *Room) rehearsalSession(ctx context.Context, r *store.Rehearsal) (*sessions.HeldSession, error) {
	if r.Second == "" && !r.Out {
		return nil, nil
	}
	row, err := store.One[store.Session](g.Store.Read(ctx), "id = ?", r.ID)
	if err != nil {
		return nil, err
	}
	return g.sessions.OpenSession(ctx, row)
}

func (g *Room) rehearsalByToken(ctx context.Context, b signin.Browser, token string) (*store.Rehearsal, *partners.Application, error) {
	var r store.Rehearsal
	err := g.Store.Read(ctx).Where("token_hash = ?", keys.HashSecret(token)).Take(&r).Error
	if errors.Is(err, store.ErrNotFound) || err == nil && g.Now().After(r.ExpiresAt) {
		return nil, nil, explain.New(explain.RehearsalOver)
	}
	if err != nil {
		return nil, nil, store.Clear(err)
	}
	if len(r.BrowserHash) > 0 && !signin.Rehearses(&r, b) {
		return nil, nil, explain.New(explain.RehearsalOver)
	}
	app, err := g.partners.ApplicationByID(ctx, r.ApplicationID)
	if err != nil {
		return nil, nil, explain.New(explain.RehearsalOver)
	}
	return &r, app, nil
}

// BeginRehearsal starts the sign-in behind a link. The first browser that begins has the rehearsal to itself. The value
// returned goes into its rehearsal cookie; it is tied to the link's token, so that the browser may begin again.
func (g *Room) BeginRehearsal(ctx context.Context, b signin.Browser, token string) (*signin.Next, string) {
	r, app, err := g.rehearsalByToken(ctx, b, token)
	if err != nil {
		return &signin.Next{To: failure(err)}, ""
	}
	cookie := b.Rehearsal
	if len(r.BrowserHash) == 0 {
		cookie = r.ID + "." + keys.NewSecret()
		err := g.Store.Write(ctx, func(tx *gorm.DB) error {
			set := tx.Exec("UPDATE rehearsals SET browser_hash = ? WHERE id = ? AND browser_hash IS NULL", keys.HashSecret(cookie), r.ID)
			if set.Error == nil && set.RowsAffected == 0 {
				return explain.New(explain.RehearsalOver)
			}
			return set.Error
		})
		if err != nil {
			return &signin.Next{To: failure(err)}, ""
		}
	}
	b.Rehearsal = cookie
	page := g.OpenRehearsal(ctx, b, token)
	switch {
	case page.Failure != nil:
		return &signin.Next{To: page.Failure}, ""
	case page.Step == "out":
		return g.rehearseOut(ctx, b, r), cookie
	case page.Step == "second":
		if app, err = g.partners.ApplicationByID(ctx, r.Second); err != nil {
			return &signin.Next{To: failure(err)}, ""
		}
	}
	if (r.Flow == "sp" || page.Step == "second") && app.StartURL != "" {
		return &signin.Next{To: signin.Redirect(app.StartURL)}, cookie
	}
	s := g.signin.Begin(b, "idp")
	s.App = app
	return g.signin.Walk(ctx, s, func(ctx context.Context, s *signin.SignIn) (*signin.Next, error) {
		if err := g.signin.JoinRehearsal(ctx, s); err != nil {
			return nil, err
		}
		if strings.HasPrefix(s.App.ID, partners.ProbeMark) {
			s.Row.ApplicationID, s.Row.RequestID = s.App.ID, "probe:"+s.ID
			return nil, nil
		}
		return g.signin.ApplicationSide(s.App).Start(ctx, s, r.To)
	}, g.signin.Outward), cookie
}

// rehearseOut ends a rehearsal with signing out of everything that it went to.
func (g *Room) rehearseOut(ctx context.Context, b signin.Browser, r *store.Rehearsal) *signin.Next {
	s := g.signin.Begin(b, "slo")
	s.Rehearsal, s.Row.RehearsalID = r, r.ID
	return g.signin.Walk(ctx, s, func(ctx context.Context, s *signin.SignIn) (*signin.Next, error) {
		h, err := g.rehearsalSession(ctx, r)
		if err == nil && h == nil {
			err = explain.New(explain.SessionOver)
		}
		if err != nil {
			return nil, err
		}
		o := &signout.SignOut{By: "a rehearsal", Rehearsal: r.ID}
		if err := g.signout.SignOutOf(ctx, s, h, o, "", true); err != nil {
			return nil, err
		}
		return g.signout.OnwardOut(ctx, s, o)
	})
}

// Insert writes a new rehearsal.
func (g *Room) Insert(tx *gorm.DB, r *store.Rehearsal) error { return tx.Create(r).Error }

// failure is the page for a rehearsal that can't go on.
func failure(err error) *signin.FailurePage {
	var f *explain.Failure
	if !errors.As(err, &f) {
		f = explain.New(explain.GateFailed, explain.Fact("error", "see the log"))
	}
	return &signin.FailurePage{Explanation: f.Explain(), Status: http.StatusGone}
}
