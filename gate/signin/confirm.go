package signin

import (
	"context"
	"slices"
	"strings"

	"gorm.io/gorm"

	"innergate/core/explain"
	"innergate/core/oidc"
	"innergate/core/trace"
	"innergate/gate/persons"
	"innergate/store"
)

// agree asks the person before anything goes to the application, where that is wanted.
func (g *Room) agree(ctx context.Context, s *SignIn) (*Next, error) {
	s.agreed = s.evidence.Agreed(s.Person.ID)
	if err := g.mayLookAfter(ctx, s); err != nil {
		return nil, err
	}
	page, err := g.toConfirm(ctx, s)
	if err != nil || page == nil {
		return nil, err
	}
	return g.confirm(ctx, s, page)
}

// toConfirm says whether the person must be asked before anything goes to the application, and what: where it asks for
// that itself, where it is not the company's own and they did not agree before, and where the answer goes to a program
// on this very machine, which any program could be (RFC 8252, section 8.6).
func (g *Room) toConfirm(ctx context.Context, s *SignIn) (*Confirm, error) {
	q := s.State.Asked
	if q == nil || s.agreed {
		return nil, nil
	}
	o := s.App.OIDC
	native := o.Native && oidc.IsLocal(q.RedirectURI)
	ask := q.Consent || native || len(s.State.Device) > 0
	if o.Consent && !ask {
		agreed, err := g.agreed(ctx, s)
		if err != nil {
			return nil, err
		}
		ask = !agreed
	}
	if !ask {
		return nil, nil
	}
	if q.Passive {
		return nil, explain.New(explain.OIDCConfirmNeeded).Of(s.App.Name)
	}
	c := &Confirm{
		Application: s.App.Name,
		Person:      s.Person.Shown,
		SignIn:      s.ID,
		HomePage:    o.HomePage,
		Privacy:     o.Privacy,
		Terms:       o.Terms,
		Native:      native,
		Device:      len(s.State.Device) > 0,
		Linked:      s.State.Linked,
		Role:        s.role,
		Hands:       q.HandsOnInWords(),
	}
	return c, nil
}

func (g *Room) agreed(ctx context.Context, s *SignIn) (bool, error) {
	if s.Person.ID == "" {
		return false, nil
	}
	row, err := store.One[store.Consent](g.Store.Read(ctx), "person_id = ? AND application_id = ?", s.Person.ID, s.App.ID)
	if err != nil {
		return false, err
	}
	before := strings.Fields(row.Scope)
	return row.PersonID != "" &&
		!slices.ContainsFunc(s.State.Asked.HandsOn(), func(one string) bool { return !slices.Contains(before, one) }), nil
}

// confirm keeps what the provider vouched for until the person has answered.
func (g *Room) confirm(ctx context.Context, s *SignIn, page *Confirm) (*Next, error) {
	s.waitAt(&agreeing{s.evidence, s.Person.ID})
	s.Rec.Decide(trace.Decision{About: "consent", Result: "the person is asked", By: "hands on " + strings.Join(s.State.Asked.Scopes, " ")})
	next := &Next{To: page}
	return next, g.Keep(ctx, s, next)
}

// Confirmed goes on with what the person answered.
func (g *Room) Confirmed(ctx context.Context, b Browser, id string, yes bool) *Next {
	return g.resumed(ctx, b, id, func(ctx context.Context, s *SignIn) (*Next, error) { return g.answered(ctx, s, yes) })
}

func (g *Room) answered(ctx context.Context, s *SignIn, yes bool) (*Next, error) {
	step, err := Due[*agreeing](s)
	if err != nil {
		return nil, err
	}
	s.Rec.Begin(trace.Decide)
	if !yes {
		s.State.Wish.Passive = true // the application is told at once; the person has said all there is to say
		if err := g.denyDevice(ctx, s); err != nil {
			return nil, err
		}
		return nil, explain.New(explain.OIDCConfirmDenied).Of(s.App.Name)
	}
	s.Rec.Decide(trace.Decision{About: "consent", Result: "given", By: "the person"})
	s.evidence = step.Evidence.WithAgreement(step.Person, g.Now())
	return g.Homeward(ctx, s)
}

// keepConsent remembers what the person agreed to, where it is asked for once.
func keepConsent(tx *gorm.DB, s *SignIn, g *Room) error {
	if !s.agreed || !s.App.OIDC.Consent || s.Person.ID == "" || s.Rehearsal != nil {
		return nil
	}
	return persons.KeepConsent(tx, s.Person.ID, s.App.ID, strings.Join(s.State.Asked.HandsOn(), " "), g.Now().UTC())
}
