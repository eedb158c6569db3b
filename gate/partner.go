package gate

import (
	"context"

	"innergate/core/config"
	"innergate/core/saml"
)

// partner is an application or a provider as far as its metadata goes.
type partner struct {
	kind, id, slug, name string
	revision             int
	watch                *config.Watch
	entityID             string
	app                  *config.Application
	provider             *config.Provider
}

// partner finds an application or provider that speaks SAML, and so has metadata.
func (g *Gate) partner(ctx context.Context, kind, slug string) (*partner, error) {
	p, err := g.eitherPartner(ctx, kind, slug)
	if err == nil && (p.app != nil && p.app.SAML == nil || p.provider != nil && p.provider.SAML == nil) {
		return nil, noMetadata(p.name)
	}
	return p, err
}

// eitherPartner finds one whatever it speaks.
func (g *Gate) eitherPartner(ctx context.Context, kind, slug string) (*partner, error) {
	if kind == "application" {
		a, err := g.application(ctx, slug)
		if err != nil {
			return nil, err
		}
		c, err := decodeBody[config.Application](mustJSON(a.Application))
		p := &partner{kind: kind, id: a.id, slug: a.Slug, name: a.Name, revision: a.revision, entityID: a.Identifier(), app: &c}
		if a.SAML != nil {
			p.watch = a.SAML.Metadata
		}
		return p, err
	}
	held, err := g.provider(ctx, slug)
	if err != nil {
		return nil, err
	}
	c, err := decodeBody[config.Provider](mustJSON(held.Provider))
	p := &partner{kind: kind, id: held.id, slug: held.Slug, name: held.Name, revision: held.revision, entityID: held.Authority(), provider: &c}
	if held.SAML != nil {
		p.watch = held.SAML.Metadata
	}
	return p, err
}

func (p *partner) role() saml.RoleKind {
	if p.kind == "application" {
		return saml.RoleSP
	}
	return saml.RoleIDP
}

func (p *partner) flat() []line {
	if p.app != nil {
		return flat(*p.app)
	}
	return flat(*p.provider)
}

// give puts the metadata's values in, or its certificates only.
func (p *partner) give(entity *saml.Entity, role *saml.Role, certificatesOnly bool) {
	switch {
	case certificatesOnly && p.app != nil:
		p.app.SAML.Certificates = pemOf(role)
	case certificatesOnly:
		p.provider.SAML.Certificates = pemOf(role)
	case p.app != nil:
		giveApplication(p.app, entity, role)
	default:
		giveProvider(p.provider, entity, role)
	}
}

func (p *partner) copy() *partner {
	out := *p
	if p.app != nil {
		a, _ := decodeBody[config.Application](mustJSON(p.app)) // our own form always reads back
		out.app = &a
	} else {
		c, _ := decodeBody[config.Provider](mustJSON(p.provider))
		out.provider = &c
	}
	return &out
}

func (p *partner) certificates() []config.Certificate {
	if p.app != nil {
		return p.app.SAML.Certificates
	}
	return p.provider.SAML.Certificates
}

func (g *Gate) savePartner(ctx context.Context, who Actor, p *partner) error {
	if p.app != nil {
		_, err := g.SaveApplication(ctx, who, p.slug, *p.app, p.revision)
		return err
	}
	_, err := g.SaveProvider(ctx, who, p.slug, *p.provider, p.revision)
	return err
}

func noMetadata(name string) error {
	return badRequest("no-metadata", name+" does not speak SAML, so there is no SAML metadata of it.", "An OpenID provider's values are taken from its discovery document.")
}
