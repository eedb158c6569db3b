package gate

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/trace"
	"innergate/store"
)

// NewRehearsal orders a rehearsal and returns its link, which is shown once.
func (g *Gate) NewRehearsal(ctx context.Context, who Actor, n api.NewRehearsal) (*api.Rehearsal, error) {
	app, err := g.application(ctx, n.Application)
	if err != nil {
		return nil, err
	}
	if n.Hours == 0 {
		n.Hours = 1
	}
	if n.Hours < 1 || n.Hours > 72 {
		return nil, badRequest("hours", "A rehearsal's link is good for 1 to 72 hours.", "")
	}
	r := store.Rehearsal{ID: store.NewID(), Stop: n.Stop, ApplicationID: app.id, Flow: n.Flow, To: n.To, Fresh: !n.KeepSession, By: who.Name, CreatedAt: g.Now().UTC(), ExpiresAt: g.Now().Add(time.Duration(n.Hours) * time.Hour).UTC()}
	if n.Provider != "" {
		p, err := g.provider(ctx, n.Provider)
		if err != nil {
			return nil, err
		}
		if !contains(app.Providers, p.Slug) {
			return nil, badRequest("provider-not-used", fmt.Sprintf("%s is not among the providers of %s.", p.Name, app.Name), "Give the application this provider first.")
		}
		r.ProviderID = p.id
	}
	switch n.Flow {
	case "sp":
		if app.StartURL == "" {
			return nil, problem(http.StatusUnprocessableEntity, "no-start", "The start address is missing", "A rehearsal that begins at the application needs the application's own start address.", "Enter the start address on the application's page.")
		}
	case "idp":
		if app.begins() {
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
		return nil, problem(http.StatusUnprocessableEntity, "incomplete", "It can't be rehearsed yet", capitalise(missing[0])+".", "Take the application's metadata, or enter the value.")
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
	v.Link = g.PublicURL + "/rehearse/" + token
	return v, nil
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
	v := &api.Rehearsal{ID: r.ID, Application: app.Slug, Flow: r.Flow, By: r.By, Created: r.CreatedAt, Expires: r.ExpiresAt, Traces: []api.TraceSummary{}}
	if r.ProviderID != "" {
		if p, err := g.providerByID(ctx, r.ProviderID); err == nil {
			v.Provider = p.Slug
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
	Failure     *FailurePage
}

// OpenRehearsal shows what a link is for, before anything begins.
func (g *Gate) OpenRehearsal(ctx context.Context, b Browser, token string) *RehearsalPage {
	r, app, err := g.rehearsalByToken(ctx, b, token)
	if err != nil {
		return &RehearsalPage{Failure: rehearsalFailure(err)}
	}
	return &RehearsalPage{Application: app.Name, By: r.By, Flow: r.Flow}
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
	if r.Flow == "sp" {
		return &Next{Redirect: app.StartURL}, cookie
	}
	b.Rehearsal = cookie
	s := g.begin(b, "idp")
	s.app = app
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
	if !rehearses(&r, s.browser) || g.Now().After(r.ExpiresAt) || r.ApplicationID != s.app.id {
		return nil
	}
	s.rehearsal, s.row.RehearsalID = &r, r.ID
	s.rec.Decide(trace.Decision{About: "rehearsal", Result: "yes", By: "ordered by " + r.By})
	return nil
}
