package signin

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"errors"
	"strings"

	"innergate/core/trace"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

// follows says whether a rehearsal goes on after a sign-in to this application.
func follows(r *store.Rehearsal, applicationID string) bool {
	return r.Out || r.Second != "" && r.Second != applicationID
}

// Rehearses says whether a rehearsal belongs to a browser.
func Rehearses(r *store.Rehearsal, b Browser) bool {
	sum := sha256.Sum256([]byte(b.Rehearsal))
	return subtle.ConstantTimeCompare(r.BrowserHash, sum[:]) == 1
}

// JoinRehearsal makes a sign-in part of the rehearsal that its browser is in, if it is for the same application.
// Everything else goes on as if there were none.
func (g *Room) JoinRehearsal(ctx context.Context, s *SignIn) error {
	if s.Rehearsal != nil || s.Browser.Rehearsal == "" {
		return nil
	}
	id, _, _ := strings.Cut(s.Browser.Rehearsal, ".")
	var r store.Rehearsal
	err := g.Store.Read(ctx).Where("id = ?", id).Take(&r).Error
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return store.Clear(err)
	}
	if !Rehearses(&r, s.Browser) || g.Now().After(r.ExpiresAt) || r.ApplicationID != s.App.ID && r.Second != s.App.ID {
		return nil
	}
	s.Rehearsal, s.Row.RehearsalID = &r, r.ID
	s.Rec.Decide(trace.Decision{About: "rehearsal", Result: "yes", By: "ordered by " + r.By})
	return g.override(ctx, s, true)
}

// rehearsedAs finds the application of a browser's rehearsal as it is there, where it fits what asks; else it returns
// the failure that was found before.
func (g *Room) rehearsedAs(
	ctx context.Context,
	b Browser,
	failure error,
	fits func(*partners.Application) bool,
) (*partners.Application, error) {
	id, _, _ := strings.Cut(b.Rehearsal, ".")
	if id == "" {
		return nil, failure
	}
	r, err := store.One[store.Rehearsal](g.Store.Read(ctx), "id = ?", id)
	if err != nil {
		return nil, err
	}
	if r.Override == "" || !Rehearses(&r, b) || g.Now().After(r.ExpiresAt) {
		return nil, failure
	}
	o, err := ground.DecodeBody[Overriding](r.Override)
	if err != nil || o.Kind != "application" {
		return nil, failure
	}
	app, err := g.partners.MakeApplication(ctx, &store.Object{ID: o.ID, Body: o.Body})
	if err != nil || !fits(app) {
		return nil, failure
	}
	return app, nil
}

// Overriding is a configuration that holds in one rehearsal in place of what is set.
type Overriding struct {
	Kind string `json:"kind"`
	ID   string `json:"id"`
	Body string `json:"body"`
	Why  string `json:"why"`
	// Proposal is where the configuration comes from, if it is a proposed one: a secret may lie there.
	Proposal string `json:"proposal,omitempty"`
}

// proposedSecret takes the client secret that a proposal brings, if it does and still waits.
func (g *Room) proposedSecret(ctx context.Context, o Overriding, p *partners.Provider) error {
	if o.Proposal == "" || p.OIDC == nil {
		return nil
	}
	row, err := g.partners.ProposalRow(ctx, o.Proposal)
	if err != nil {
		return err
	}
	p.Outsiders = row.Origin != ""
	if len(row.Secret) > 0 {
		p.Secret, err = g.partners.LeftSecret(row)
	}
	return err
}

// override puts the configuration that a rehearsal was ordered with in the place of what is set, for this sign-in
// alone.
func (g *Room) override(ctx context.Context, s *SignIn, say bool) error {
	if s.Rehearsal == nil || s.Rehearsal.Override == "" {
		return nil
	}
	o, err := ground.DecodeBody[Overriding](s.Rehearsal.Override)
	if err != nil {
		return err
	}
	row := &store.Object{ID: o.ID, Body: o.Body}
	switch {
	case o.Kind == "provider":
		if s.instead, err = g.partners.ProposedProvider(ctx, row); err != nil {
			return err
		}
		if err = g.proposedSecret(ctx, o, s.instead); err != nil {
			return err
		}
		if s.Provider != nil && s.Provider.ID == o.ID {
			s.Provider = s.instead
		}
	case s.App.ID == o.ID:
		if s.App, err = g.partners.MakeApplication(ctx, row); err != nil {
			return err
		}
	default:
		return nil
	}
	if say {
		s.Rec.Decide(trace.Decision{About: "configuration", Result: "not what is set: " + o.Why, By: "the rehearsal was ordered so"})
	}
	return nil
}

// providerIn is a provider as a sign-in sees it.
func (g *Room) providerIn(ctx context.Context, s *SignIn, slug string) (*partners.Provider, error) {
	if s.instead != nil && s.instead.Slug == slug {
		return s.instead, nil
	}
	return g.partners.Provider(ctx, slug)
}
