package exchange

import (
	"context"
	"strings"
	"time"

	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/sheet"
	"innergate/core/xmlsig"
	"innergate/gate/keyring"
	"innergate/gate/watch"
)

// OurMetadata is our metadata for applications in general (both empty), as the identity provider towards one
// application, or as the service provider towards one provider. It also returns the IDs of keys that it holds beside
// the active one.
func (g *Room) OurMetadata(ctx context.Context, side, slug string, signed bool) ([]byte, error) {
	entity, approval, _, err := g.ourEntity(ctx, side, slug)
	if err != nil {
		return nil, err
	}
	var signer *xmlsig.Signer
	if signed {
		if signer, err = g.keyring.Signer(ctx, approval, "", ""); err != nil {
			return nil, err
		}
	}
	return saml.WriteMetadata(*entity, 30*24*time.Hour, g.Now(), signer)
}

// ourEntity lays out what we are towards a partner.
func (g *Room) ourEntity(ctx context.Context, side, slug string) (*saml.Entity, keyring.Approval, *keyring.Ring, error) {
	role := saml.Role{Kind: saml.RoleIDP, DisplayName: "Inner Gate"}
	entity := &saml.Entity{EntityID: string(g.IDPEntityID())}
	approval := keyring.Ourselves
	zero := 0
	artifact := saml.Endpoint{
		Service:  saml.ServiceArtifact,
		Binding:  saml.BindingSOAP,
		Location: g.PublicURL + "/saml/idp/artifact",
		Index:    &zero,
		Default:  true,
	}
	idp := func(base string) {
		role.NameIDFormats = []string{saml.FormatPersistent, saml.FormatTransient, saml.FormatEmail, saml.FormatUnspecified}
		role.Endpoints = append(role.Endpoints, artifact)
		for _, b := range []string{saml.BindingRedirect, saml.BindingPost} {
			role.Endpoints = append(
				role.Endpoints,
				saml.Endpoint{Service: saml.ServiceSSO, Binding: b, Location: base + "/sso"},
				saml.Endpoint{Service: saml.ServiceSLO, Binding: b, Location: base + "/slo"},
			)
		}
		role.Endpoints = append(role.Endpoints, saml.Endpoint{Service: saml.ServiceSLO, Binding: saml.BindingSOAP, Location: base + "/slo"})
	}
	switch side {
	case "":
		idp(g.PublicURL + "/saml/idp")
	case "application":
		a, err := g.partners.Application(ctx, slug)
		if err == nil && a.SAML == nil {
			err = watch.NoMetadata(a.Name)
		}
		if err != nil {
			return nil, approval, nil, err
		}
		approval, entity.EntityID = a.Approval(), string(g.partners.IDPEntity(a))
		idp(strings.TrimSuffix(g.partners.SSOAddress(a), "/sso"))
		role.NameIDFormats = servedFormats(a)
		role.WantAuthnRequestsSigned = a.SAML.RequireSignedRequests
		entity.Roles = nil
	default:
		p, err := g.partners.Provider(ctx, slug)
		if err == nil && p.SAML == nil {
			err = watch.NoMetadata(p.Name)
		}
		if err != nil {
			return nil, approval, nil, err
		}
		approval, entity.EntityID = p.Approval(), string(g.partners.SPEntity(p))
		role.Kind, role.AuthnRequestsSigned, role.WantAssertionsSigned = saml.RoleSP, !p.SAML.SendUnsigned, true
		encryption, err := g.keyring.Ring(ctx, keys.PurposeEncryption, p.ID)
		if err != nil {
			return nil, approval, nil, err
		}
		for _, c := range encryption.Published {
			role.Keys = append(role.Keys, saml.KeyDescriptor{Use: "encryption", Certificate: c})
		}
		if p.SAML.NameIDFormat != "" {
			role.NameIDFormats = []string{p.SAML.NameIDFormat}
		}
		one := 1
		role.Endpoints = []saml.Endpoint{
			{
				Service:  saml.ServiceACS,
				Binding:  saml.BindingPost,
				Location: g.ACSLocation(p.Slug),
				Index:    &zero,
				Default:  p.SAML.ResponseBinding != "HTTP-Artifact",
			},
		}
		if len(p.SAML.Artifact) > 0 {
			role.Endpoints = append(
				role.Endpoints,
				saml.Endpoint{
					Service:  saml.ServiceACS,
					Binding:  saml.BindingArtifact,
					Location: g.ACSLocation(p.Slug),
					Index:    &one,
					Default:  p.SAML.ResponseBinding == "HTTP-Artifact",
				},
			)
		}
		for _, b := range []string{saml.BindingRedirect, saml.BindingPost, saml.BindingSOAP} {
			role.Endpoints = append(role.Endpoints, saml.Endpoint{Service: saml.ServiceSLO, Binding: b, Location: g.SLOLocation(p.Slug)})
		}
		for _, rule := range p.Whole {
			if len(rule.From) > 0 && rule.From[0] != "NameID" {
				role.RequestedAttributes = append(
					role.RequestedAttributes,
					saml.RequestedAttribute{
						Name:         rule.From[0],
						NameFormat:   sheet.NameFormatOf(rule.From[0]),
						FriendlyName: rule.Set,
						Required:     rule.Required,
					},
				)
			}
		}
	}
	signing, err := g.keyring.Ring(ctx, keys.PurposeSigning, approval.Owner())
	if err != nil {
		return nil, approval, nil, err
	}
	for i := len(signing.Published) - 1; i >= 0; i-- {
		role.Keys = append([]saml.KeyDescriptor{{Use: "signing", Certificate: signing.Published[i]}}, role.Keys...)
	}
	entity.Roles = []saml.Role{role}
	return entity, approval, signing, nil
}

// OurKeySet is what applications check our tokens with: the keys that sign, those that come next, and those that have
// signed lately.
func (g *Room) OurKeySet(ctx context.Context) ([]byte, error) {
	return g.keyring.WriteKeySet(ctx, "", keys.PurposeTokenRSA, keys.PurposeTokenEC, keys.PurposeTokenEd)
}

// OurClientKeySet is what a provider checks our proofs with.
func (g *Room) OurClientKeySet(ctx context.Context, slug string) ([]byte, error) {
	p, err := g.partners.Provider(ctx, slug)
	if err != nil {
		return nil, err
	}
	return g.keyring.WriteKeySet(ctx, p.ID, keys.PurposeClient)
}
