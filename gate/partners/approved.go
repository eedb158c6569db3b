package partners

import (
	"context"
	"slices"

	"innergate/core/config"
	"innergate/core/saml"
	"innergate/gate/ground"
	"innergate/store"
)

// Approved is an application and a provider whose values somebody of ours has set. Who answers an application takes one,
// so that what a rehearsal puts in the place of either is never answered for: such a sign-in ends at the gate.
type Approved struct {
	app      *Application
	provider *Provider
}

// BothApproved gives what it takes to answer the application, if there is an approval of both sides.
func BothApproved(a *Application, p *Provider) (Approved, bool) {
	if a == nil || p == nil || !a.approval.Given() || !p.approval.Given() {
		return Approved{}, false
	}
	return Approved{a, p}, true
}

// Application is the one that is answered.
func (a Approved) Application() *Application { return a.app }

// Provider is the one that vouched.
func (a Approved) Provider() *Provider { return a.provider }

// ProposedProvider makes a provider ready as somebody proposes it. It is not approved; our signatures and secrets go out
// for it only where they go to the places that are approved already.
func (g *Room) ProposedProvider(ctx context.Context, row *store.Object) (*Provider, error) {
	p, err := g.MakeProvider(ctx, row)
	if err != nil {
		return nil, err
	}
	held, err := g.ProviderByID(ctx, row.ID)
	if ground.IsNotFound(err) {
		return p, nil
	}
	if err == nil && samePlaces(&p.Provider, &held.Provider) {
		p.sending = held.approval
	}
	return p, err
}

// samePlaces says whether what we sign and prove goes to the same places by the same names.
func samePlaces(a, b *config.Provider) bool {
	switch {
	case a.SAML != nil && b.SAML != nil:
		return a.SAML.EntityID == b.SAML.EntityID && sameEndpoint(a.SAML.Endpoint(), b.SAML.Endpoint()) &&
			slices.EqualFunc(a.SAML.Artifact, b.SAML.Artifact, func(x, y saml.Endpoint) bool { return sameEndpoint(&x, &y) })
	case a.OIDC != nil && b.OIDC != nil:
		return a.OIDC.Issuer == b.OIDC.Issuer && a.OIDC.TokenEndpoint == b.OIDC.TokenEndpoint && a.OIDC.ClientID == b.OIDC.ClientID &&
			a.OIDC.UserInfoEndpoint == b.OIDC.UserInfoEndpoint && ground.MustJSON(a.OIDC.More) == ground.MustJSON(b.OIDC.More)
	}
	if a.LDAP != nil && b.LDAP != nil {
		return sameServers(a.LDAP, b.LDAP)
	}
	return a.Directory != nil && b.Directory != nil || a.Kerberos != nil && b.Kerberos != nil // nothing of ours goes there
}

// sameServers says whether passwords go to the same servers, believed by the same certificates.
func sameServers(a, b *config.LDAPProvider) bool {
	return slices.Equal(a.Servers, b.Servers) && ground.MustJSON(a.Certificates) == ground.MustJSON(b.Certificates) && a.Plain == b.Plain &&
		a.BindDN == b.BindDN && a.BindBy == b.BindBy
}

func sameEndpoint(a, b *saml.Endpoint) bool {
	return a != nil && b != nil && a.Location == b.Location && a.Binding == b.Binding
}
