package gate

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/trace"
	"innergate/store"
)

// rehearsePath stands before the token in a rehearsal's link.
const rehearsePath = "/rehearse/"

// probeMark begins the ID of an application that stands for trying a provider alone.
const probeMark = "probe:"

// probe is the application with which a provider is tried alone. It gets nothing: the rehearsal ends at the gate.
func (g *Gate) probe(ctx context.Context, id string) (*application, error) {
	p, err := g.providerByID(ctx, strings.TrimPrefix(id, probeMark))
	if err != nil {
		return nil, err
	}
	a := &application{id: id}
	a.Application = config.Application{Slug: "", Name: p.Name + ", alone", Kind: config.KindOIDC, Reach: access.Everyone, Providers: []string{p.Slug}, Subject: config.Subject{Source: "transient"}, OIDC: &config.OIDCApplication{}}
	if a.mapping, err = a.Mapping.Compile(); err != nil {
		return nil, err
	}
	a.policy, err = (access.Policy{To: access.Everybody}).Compile()
	return a, err
}

// NewRehearsal orders a rehearsal and returns its link, which is shown once.
func (g *Gate) NewRehearsal(ctx context.Context, who Actor, n api.NewRehearsal) (*api.Rehearsal, error) {
	return g.newRehearsal(ctx, who, n, "")
}

// newRehearsal orders one for somebody: about says for what, where it is not for an engineer of ours.
func (g *Gate) newRehearsal(ctx context.Context, who Actor, n api.NewRehearsal, about string) (*api.Rehearsal, error) {
	if n.Hours == 0 {
		n.Hours = 1
	}
	if n.Hours < 1 || n.Hours > 72 {
		return nil, badRequest("hours", "A rehearsal's link is good for 1 to 72 hours.", "")
	}
	r := store.Rehearsal{ID: store.NewID(), Stop: n.Stop, Flow: n.Flow, To: n.To, Out: n.SignOut, Keeps: n.KeepPerson, Scope: strings.Join(n.Scopes, " "), Fresh: !n.KeepSession, By: who.Name, CreatedAt: g.Now().UTC(), ExpiresAt: g.Now().Add(time.Duration(n.Hours) * time.Hour).UTC()}
	if err := g.rehearseProposal(ctx, &n, &r); err != nil {
		return nil, err
	}
	r.About = firstOf(about, r.About)
	app, err := g.rehearsed(ctx, &n, &r)
	if err != nil {
		return nil, err
	}
	if len(r.Scope) > 1000 {
		return nil, badRequest("scopes", "The scopes have more than 1,000 characters.", "")
	}
	token := keys.NewSecret()
	r.TokenHash = keys.HashSecret(token)
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(&r).Error; err != nil {
			return err
		}
		return journal(tx, g.Now(), who, "ordered", "rehearsal", r.ID, app.Name, "", n.Flow)
	})
	if err != nil {
		return nil, err
	}
	v, err := g.Rehearsal(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	v.Link = g.PublicURL + rehearsePath + token
	return v, nil
}

// rehearsed sees that what is to be rehearsed can be, and notes it in the order.
func (g *Gate) rehearsed(ctx context.Context, n *api.NewRehearsal, r *store.Rehearsal) (*application, error) {
	if n.Application == "" {
		if n.Provider == "" {
			return nil, badRequest("nothing-named", "Name an application, a provider, or both.", "")
		}
		p, err := g.provider(ctx, n.Provider)
		if err != nil {
			return nil, err
		}
		if missing := p.Missing(); len(missing) > 0 {
			return nil, incomplete(missing[0], "Take the provider's document, or enter the value.")
		}
		if n.Second != "" || n.SignOut {
			return nil, badRequest("provider-alone", "A provider that is tried alone leads to no application, so there is none to open next or to sign out of.", "Name an application as well.")
		}
		r.ApplicationID, r.ProviderID, r.Flow, r.Stop = probeMark+p.id, p.id, "idp", true
		return g.probe(ctx, r.ApplicationID)
	}
	app, err := g.application(ctx, n.Application)
	if err != nil {
		return nil, err
	}
	if o, err := decodeBody[overriding](firstOf(r.Override, "{}")); err != nil {
		return nil, err
	} else if o.Kind == "application" {
		if app, err = g.makeApplication(ctx, &store.Object{ID: o.ID, Body: o.Body}); err != nil {
			return nil, err
		}
	}
	r.ApplicationID = app.id
	if n.Provider != "" {
		p, err := g.provider(ctx, n.Provider)
		if err != nil {
			return nil, err
		}
		if !slices.Contains(app.Providers, p.Slug) {
			return nil, badRequest("provider-not-used", fmt.Sprintf("%s is not among the providers of %s.", p.Name, app.Name), "Give the application this provider first.")
		}
		r.ProviderID = p.id
	}
	if n.Second != "" {
		second, err := g.application(ctx, n.Second)
		if err != nil {
			return nil, err
		}
		switch {
		case second.id == app.id:
			return nil, badRequest("second-same", "The second application is the first one.", "Name another.")
		case second.begins() && second.StartURL == "" && (second.OIDC == nil || second.OIDC.InitiateLogin == ""):
			return nil, noStart(second.Name)
		case n.Stop:
			return nil, badRequest("second-stopped", "A rehearsal that ends at the gate leads to no application, and to no second one.", "")
		}
		r.Second = second.id
	}
	switch n.Flow {
	case "sp":
		if app.StartURL == "" {
			return nil, noStart(app.Name)
		}
	case "idp":
		if app.begins() && !n.Stop {
			return nil, problem(http.StatusUnprocessableEntity, "sp-only", "The application takes no unsolicited response", app.Name+" is set to accept sign-ins only that it began itself.", "Rehearse the other way, or change the application's option.")
		}
		if n.To != "" && !allowedLink(app, n.To) {
			return nil, badRequest("link-refused", "The deep link does not belong to the application.", "Add its beginning to the application's deep links.")
		}
	default:
		return nil, badRequest("flow", fmt.Sprintf("%q is no way to sign in; sp and idp are.", n.Flow), "")
	}
	if len(app.Providers) == 0 {
		return nil, problem(http.StatusUnprocessableEntity, "no-provider", "No provider is chosen", app.Name+" has no provider to sign in with.", "Choose a provider for the application.")
	}
	if missing := app.Missing(); len(missing) > 0 {
		return nil, incomplete(missing[0], "Take the application's metadata, or enter the value.")
	}
	return app, nil
}

func incomplete(what, remedy string) error {
	return problem(http.StatusUnprocessableEntity, "incomplete", "It can't be rehearsed yet", capitalise(what)+".", remedy)
}

func noStart(name string) error {
	return problem(http.StatusUnprocessableEntity, "no-start", "The start address is missing", "A rehearsal that begins at the application needs the application's own start address; "+name+" has none.", "Enter the start address on the application's page.")
}

// Rehearsal shows one with the traces of its sign-ins.
func (g *Gate) Rehearsal(ctx context.Context, id string) (*api.Rehearsal, error) {
	var r store.Rehearsal
	if err := g.Store.Read(ctx).Where("id = ?", id).Take(&r).Error; err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return nil, notFound("rehearsal", id)
		}
		return nil, store.Clear(err)
	}
	app, err := g.applicationByID(ctx, r.ApplicationID)
	if err != nil {
		return nil, err
	}
	v := &api.Rehearsal{ID: r.ID, Application: app.Slug, Flow: r.Flow, SignOut: r.Out, KeepPerson: r.Keeps, By: r.By, Created: r.CreatedAt, Expires: r.ExpiresAt, Traces: []api.TraceSummary{}}
	if r.ProviderID != "" {
		if p, err := g.providerByID(ctx, r.ProviderID); err == nil {
			v.Provider = p.Slug
		}
	}
	if r.Second != "" {
		if a, err := g.applicationByID(ctx, r.Second); err == nil {
			v.Second = a.Slug
		}
	}
	var rows []store.Trace
	if err := g.Store.Read(ctx).Omit("entries").Where("rehearsal_id = ?", id).Order("id DESC").Limit(50).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	for _, row := range rows {
		v.Traces = append(v.Traces, g.summary(ctx, row))
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
	Failure *FailurePage
}

// OpenRehearsal shows what a link is for, before anything begins.
func (g *Gate) OpenRehearsal(ctx context.Context, b Browser, token string) *RehearsalPage {
	r, app, err := g.rehearsalByToken(ctx, b, token)
	if err != nil {
		return &RehearsalPage{Failure: rehearsalFailure(err)}
	}
	page := &RehearsalPage{Application: app.Name, By: r.By, Flow: r.Flow, Step: "first", More: r.Second != "" || r.Out}
	h, err := g.rehearsalSession(ctx, r)
	if err != nil {
		return &RehearsalPage{Failure: rehearsalFailure(err)}
	}
	if h == nil || !rehearses(r, b) {
		return page
	}
	last, err := g.lastUse(ctx, h.ID, r.Second)
	switch {
	case err != nil:
		return &RehearsalPage{Failure: rehearsalFailure(err)}
	case r.Second != "" && last.IsZero():
		second, err := g.applicationByID(ctx, r.Second)
		if err != nil {
			return &RehearsalPage{Failure: rehearsalFailure(explain.New("rehearsal.over"))}
		}
		page.Step, page.Application, page.More = "second", second.Name, r.Out
	case r.Out:
		page.Step, page.More = "out", false
	}
	return page
}

// rehearsalSession is the session of a rehearsal's own, if it has one that counts.
func (g *Gate) rehearsalSession(ctx context.Context, r *store.Rehearsal) (*heldSession, error) {
	if r.Second == "" && !r.Out {
		return nil, nil
	}
	var row store.Session
	if err := g.Store.Read(ctx).Where("id = ?", r.ID).Limit(1).Find(&row).Error; err != nil {
		return nil, store.Clear(err)
	}
	return g.openSession(ctx, row)
}

// follows says whether a rehearsal goes on after a sign-in to this application.
func follows(r *store.Rehearsal, applicationID string) bool {
	return r.Out || r.Second != "" && r.Second != applicationID
}

func rehearsalFailure(err error) *FailurePage {
	var f *explain.Failure
	if !errors.As(err, &f) {
		f = explain.New("gate.failed", explain.Fact("error", "see the log"))
	}
	return &FailurePage{Explanation: f.Explain(), Status: http.StatusGone}
}

func (g *Gate) rehearsalByToken(ctx context.Context, b Browser, token string) (*store.Rehearsal, *application, error) {
	var r store.Rehearsal
	err := g.Store.Read(ctx).Where("token_hash = ?", keys.HashSecret(token)).Take(&r).Error
	if errors.Is(err, store.ErrNotFound) || err == nil && g.Now().After(r.ExpiresAt) {
		return nil, nil, explain.New("rehearsal.over")
	}
	if err != nil {
		return nil, nil, store.Clear(err)
	}
	if len(r.BrowserHash) > 0 && !rehearses(&r, b) {
		return nil, nil, explain.New("rehearsal.over")
	}
	app, err := g.applicationByID(ctx, r.ApplicationID)
	if err != nil {
		return nil, nil, explain.New("rehearsal.over")
	}
	return &r, app, nil
}

// BeginRehearsal starts the sign-in behind a link. The first browser that begins has the rehearsal to itself. The value returned goes into its
// rehearsal cookie; it is tied to the link's token, so that the browser may begin again.
func (g *Gate) BeginRehearsal(ctx context.Context, b Browser, token string) (*Next, string) {
	r, app, err := g.rehearsalByToken(ctx, b, token)
	if err != nil {
		return &Next{Failure: rehearsalFailure(err)}, ""
	}
	cookie := b.Rehearsal
	if len(r.BrowserHash) == 0 {
		cookie = r.ID + "." + keys.NewSecret()
		err := g.Store.Write(ctx, func(tx *gorm.DB) error {
			set := tx.Exec("UPDATE rehearsals SET browser_hash = ? WHERE id = ? AND browser_hash IS NULL", keys.HashSecret(cookie), r.ID)
			if set.Error == nil && set.RowsAffected == 0 {
				return explain.New("rehearsal.over")
			}
			return set.Error
		})
		if err != nil {
			return &Next{Failure: rehearsalFailure(err)}, ""
		}
	}
	b.Rehearsal = cookie
	page := g.OpenRehearsal(ctx, b, token)
	switch {
	case page.Failure != nil:
		return &Next{Failure: page.Failure}, ""
	case page.Step == "out":
		return g.rehearseOut(ctx, b, r), cookie
	case page.Step == "second":
		if app, err = g.applicationByID(ctx, r.Second); err != nil {
			return &Next{Failure: rehearsalFailure(err)}, ""
		}
	}
	if (r.Flow == "sp" || page.Step == "second") && app.StartURL != "" {
		return &Next{Redirect: app.StartURL}, cookie
	}
	s := g.begin(b, "idp")
	s.app = app
	if err := g.joinRehearsal(ctx, s); err != nil {
		return g.failed(ctx, s, err), ""
	}
	app = s.app
	if strings.HasPrefix(app.id, probeMark) {
		s.row.ApplicationID, s.row.RequestID = app.id, "probe:"+s.id
		return g.route(ctx, s, ""), cookie
	}
	next, err := g.applicationSide(app).start(ctx, s, r.To)
	if err != nil {
		return g.failed(ctx, s, err), cookie
	}
	if next != nil {
		return next, cookie
	}
	return g.route(ctx, s, ""), cookie
}

func rehearses(r *store.Rehearsal, b Browser) bool {
	sum := sha256.Sum256([]byte(b.Rehearsal))
	return subtle.ConstantTimeCompare(r.BrowserHash, sum[:]) == 1
}

// joinRehearsal makes a sign-in part of the rehearsal that its browser is in, if it is for the same application. Everything else goes on as if there were none.
func (g *Gate) joinRehearsal(ctx context.Context, s *signIn) error {
	if s.rehearsal != nil || s.browser.Rehearsal == "" {
		return nil
	}
	id, _, _ := strings.Cut(s.browser.Rehearsal, ".")
	var r store.Rehearsal
	err := g.Store.Read(ctx).Where("id = ?", id).Take(&r).Error
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return store.Clear(err)
	}
	if !rehearses(&r, s.browser) || g.Now().After(r.ExpiresAt) || r.ApplicationID != s.app.id && r.Second != s.app.id {
		return nil
	}
	s.rehearsal, s.row.RehearsalID = &r, r.ID
	s.rec.Decide(trace.Decision{About: "rehearsal", Result: "yes", By: "ordered by " + r.By})
	return g.override(ctx, s, true)
}

// rehearsedAs finds the application of a browser's rehearsal as it is there, where it fits what asks; else it returns the failure that was found before.
func (g *Gate) rehearsedAs(ctx context.Context, b Browser, failure error, fits func(*application) bool) (*application, error) {
	id, _, _ := strings.Cut(b.Rehearsal, ".")
	if id == "" {
		return nil, failure
	}
	var r store.Rehearsal
	if err := g.Store.Read(ctx).Where("id = ?", id).Limit(1).Find(&r).Error; err != nil {
		return nil, store.Clear(err)
	}
	if r.Override == "" || !rehearses(&r, b) || g.Now().After(r.ExpiresAt) {
		return nil, failure
	}
	o, err := decodeBody[overriding](r.Override)
	if err != nil || o.Kind != "application" {
		return nil, failure
	}
	app, err := g.makeApplication(ctx, &store.Object{ID: o.ID, Body: o.Body})
	if err != nil || !fits(app) {
		return nil, failure
	}
	return app, nil
}

// overriding is a configuration that holds in one rehearsal in place of what is set.
type overriding struct {
	Kind string `json:"kind"`
	ID   string `json:"id"`
	Body string `json:"body"`
	Why  string `json:"why"`
	// Proposal is where the configuration comes from, if it is a proposed one: a secret may lie there.
	Proposal string `json:"proposal,omitempty"`
}

// proposedSecret takes the client secret that a proposal brings, if it does and still waits. Where the other side brings another token endpoint without a secret, ours is not sent there:
// nobody of ours has approved the address.
func (g *Gate) proposedSecret(ctx context.Context, o overriding, p *provider) error {
	if o.Proposal == "" || p.OIDC == nil {
		return nil
	}
	row, err := g.proposalRow(ctx, o.Proposal)
	if err != nil {
		return err
	}
	if len(row.Secret) > 0 {
		p.secret, err = g.leftSecret(row)
		return err
	}
	held, err := g.providerByID(ctx, o.ID)
	p.withheld = err == nil && row.Origin != "" && (held.OIDC == nil || held.OIDC.TokenEndpoint != p.OIDC.TokenEndpoint)
	return err
}

// override puts the configuration that a rehearsal was ordered with in the place of what is set, for this sign-in alone.
func (g *Gate) override(ctx context.Context, s *signIn, say bool) error {
	if s.rehearsal == nil || s.rehearsal.Override == "" {
		return nil
	}
	o, err := decodeBody[overriding](s.rehearsal.Override)
	if err != nil {
		return err
	}
	row := &store.Object{ID: o.ID, Body: o.Body}
	switch {
	case o.Kind == "provider":
		if s.instead, err = g.makeProvider(ctx, row); err != nil {
			return err
		}
		if err = g.proposedSecret(ctx, o, s.instead); err != nil {
			return err
		}
		if s.provider != nil && s.provider.id == o.ID {
			s.provider = s.instead
		}
	case s.app.id == o.ID:
		if s.app, err = g.makeApplication(ctx, row); err != nil {
			return err
		}
	default:
		return nil
	}
	if say {
		s.rec.Decide(trace.Decision{About: "configuration", Result: "not what is set: " + o.Why, By: "the rehearsal was ordered so"})
	}
	return nil
}

// providerIn is a provider as a sign-in sees it.
func (g *Gate) providerIn(ctx context.Context, s *signIn, slug string) (*provider, error) {
	if s.instead != nil && s.instead.Slug == slug {
		return s.instead, nil
	}
	return g.provider(ctx, slug)
}

// rehearseOut ends a rehearsal with signing out of everything that it went to.
func (g *Gate) rehearseOut(ctx context.Context, b Browser, r *store.Rehearsal) *Next {
	s := g.begin(b, "slo")
	s.rehearsal, s.row.RehearsalID = r, r.ID
	h, err := g.rehearsalSession(ctx, r)
	if err == nil && h == nil {
		err = explain.New("session.over")
	}
	o := &signOut{By: "a rehearsal", Rehearsal: r.ID}
	if err == nil {
		err = g.signOutOf(ctx, s, h, o, "", true)
	}
	if err != nil {
		return g.failed(ctx, s, err)
	}
	return g.onwardOut(ctx, s, o)
}
