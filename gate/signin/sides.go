package signin

import (
	"context"

	"gorm.io/gorm"

	"innergate/core/bridge"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/saml"
	"innergate/gate/partners"
)

// ApplicationSide is the side that speaks an application's protocol.
type ApplicationSide interface {
	// Start prepares an answer that the application did not ask for, or sends the person to where the application
	// begins by itself.
	Start(ctx context.Context, s *SignIn, to string) (*Next, error)
	// Settle writes, within the one transaction that settles a sign-in, what stands behind the answer: a code, a ticket. It
	// leaves for Issue what only the answer may say.
	Settle(tx *gorm.DB, s *SignIn, to partners.Approved, who bridge.Identity, subject saml.NameID) error
	// Issue makes the answer for a person who may come in, where both sides are approved as they are.
	Issue(
		ctx context.Context, s *SignIn, to partners.Approved, who bridge.Identity, subject saml.NameID, out []claims.Output,
	) (*Next, error)
	// Refuse makes the protocol's own answer to a request, or nil where there is none.
	Refuse(ctx context.Context, s *SignIn, f *explain.Failure) *Next
}

// ProviderSide is the side that speaks a provider's protocol.
type ProviderSide interface {
	// Send makes our request and notes in the sign-in what the answer must fit.
	Send(ctx context.Context, s *SignIn) (*Next, error)
	// Receive checks the answer.
	Receive(ctx context.Context, s *SignIn, a *Arrival) (bridge.Identity, error)
}

// ApplicationSide is the side that speaks an application's protocol.
func (g *Room) ApplicationSide(a *partners.Application) ApplicationSide {
	switch a.Kind {
	case config.KindOIDC:
		return oidcApplication{g}
	case config.KindGuarded:
		return g.Guarded
	case config.KindLink, config.KindPortal:
		return g.Links
	}
	return samlApplication{g}
}

// ProviderSide is the side that speaks a provider's protocol.
func (g *Room) ProviderSide(p *partners.Provider) ProviderSide {
	switch {
	case p.OAuth():
		return oidcProvider{g}
	case p.Directory != nil:
		return g.Own
	case p.LDAP != nil:
		return g.LDAP
	case p.Kerberos != nil:
		return g.Tickets
	}
	return samlProvider{g}
}
