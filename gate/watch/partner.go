package watch

import (
	"context"

	"innergate/core/config"
	"innergate/core/difference"
	"innergate/core/saml"
	"innergate/core/takein"
	"innergate/gate/ground"
)

// partner is an application or a provider as far as its metadata goes.
type partner struct {
	kind, id, slug, name string
	revision             int
	Watch                *config.Watch
	entityID             string
	App                  *config.Application
	Provider             *config.Provider
}

// partner finds an application or provider that speaks SAML, and so has metadata.
func (g *Room) partner(ctx context.Context, kind, slug string) (*partner, error) {
	p, err := g.EitherPartner(ctx, kind, slug)
	if err == nil && (p.App != nil && p.App.SAML == nil || p.Provider != nil && p.Provider.SAML == nil) {
		return nil, NoMetadata(p.name)
	}
	return p, err
}

// EitherPartner finds one whatever it speaks.
func (g *Room) EitherPartner(ctx context.Context, kind, slug string) (*partner, error) {
	if kind == "application" {
		a, err := g.partners.Application(ctx, slug)
		if err != nil {
			return nil, err
		}
		c, err := ground.DecodeBody[config.Application](ground.MustJSON(a.Application))
		p := &partner{kind: kind, id: a.ID, slug: a.Slug, name: a.Name, revision: a.Revision, entityID: a.Identifier(), App: &c}
		if a.SAML != nil {
			p.Watch = a.SAML.Metadata
		}
		return p, err
	}
	held, err := g.partners.Provider(ctx, slug)
	if err != nil {
		return nil, err
	}
	c, err := ground.DecodeBody[config.Provider](ground.MustJSON(held.Provider))
	p := &partner{
		kind:     kind,
		id:       held.ID,
		slug:     held.Slug,
		name:     held.Name,
		revision: held.Revision,
		entityID: held.Authority(),
		Provider: &c,
	}
	if held.SAML != nil {
		p.Watch = held.SAML.Metadata
	}
	return p, err
}

func (p *partner) role() saml.RoleKind {
	if p.kind == "application" {
		return saml.RoleSP
	}
	return saml.RoleIDP
}

func (p *partner) flat() []difference.Line {
	if p.App != nil {
		return difference.Flat(*p.App)
	}
	return difference.Flat(*p.Provider)
}

// give puts the metadata's values in, or its certificates only.
func (p *partner) give(entity *saml.Entity, role *saml.Role, certificatesOnly bool) {
	switch {
	case certificatesOnly && p.App != nil:
		p.App.SAML.Certificates = takein.PEMOf(role)
	case certificatesOnly:
		p.Provider.SAML.Certificates = takein.PEMOf(role)
	case p.App != nil:
		takein.GiveApplication(p.App, entity, role)
	default:
		takein.GiveProvider(p.Provider, entity, role)
	}
}

func (p *partner) copy() *partner {
	out := *p
	if p.App != nil {
		a, _ := ground.DecodeBody[config.Application](ground.MustJSON(p.App)) // our own form always reads back
		out.App = &a
	} else {
		c, _ := ground.DecodeBody[config.Provider](ground.MustJSON(p.Provider))
		out.Provider = &c
	}
	return &out
}

func (p *partner) certificates() []config.Certificate {
	if p.App != nil {
		return p.App.SAML.Certificates
	}
	return p.Provider.SAML.Certificates
}

func (g *Room) savePartner(ctx context.Context, who ground.Actor, p *partner) error {
	if p.App != nil {
		_, err := g.configuration.SaveApplication(ctx, who, p.slug, *p.App, p.revision)
		return err
	}
	_, err := g.configuration.SaveProvider(ctx, who, p.slug, *p.Provider, p.revision)
	return err
}

// NoMetadata refuses what takes metadata where the partner has none.
func NoMetadata(name string) error {
	return ground.BadRequest(
		"no-metadata", name+" does not speak SAML, so there is no SAML metadata of it.",
		"An OpenID provider's values are taken from its discovery document.",
	)
}
