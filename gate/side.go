package gate

import (
	"context"

	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/saml"
)

// applicationSide speaks an application's protocol.
type applicationSide interface {
	// start prepares an answer that the application did not ask for, or sends the person to where the application begins by itself.
	start(ctx context.Context, s *signIn, to string) (*Next, error)
	// issue makes the answer for a person who may come in.
	issue(ctx context.Context, s *signIn, who identity, subject saml.NameID, out []claims.Output) (*Next, error)
	// refuse makes the protocol's own answer to a request, or nil where there is none.
	refuse(ctx context.Context, s *signIn, f *explain.Failure) *Next
}

// providerSide speaks a provider's protocol.
type providerSide interface {
	// send makes our request and notes in the sign-in what the answer must fit.
	send(ctx context.Context, s *signIn) (*Next, error)
	// receive checks the answer.
	receive(ctx context.Context, s *signIn, a *arrival) (identity, error)
}

func (g *Gate) applicationSide(a *application) applicationSide {
	switch a.Kind {
	case config.KindOIDC:
		return oidcApplication{g}
	case config.KindGuarded:
		return g.guardedSide
	case config.KindLink, config.KindPortal:
		return linkApplication{g}
	}
	return samlApplication{g}
}

func (g *Gate) providerSide(p *provider) providerSide {
	switch {
	case p.OAuth():
		return oidcProvider{g}
	case p.Directory != nil:
		return g.directorySide
	}
	return samlProvider{g}
}
