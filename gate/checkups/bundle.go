package checkups

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"runtime"
	"strings"

	"innergate/api"
	"innergate/core/redact"
	"innergate/gate/ground"
)

// Bundle gathers what somebody needs to help with one sign-in (by reference number) or with one partner (kind and short
// name): the trace, the configuration involved, the findings, the versions. Secrets are never in it; signature and
// cipher values are taken out for good; personal values are masked unless they are asked for.
func (g *Room) Bundle(ctx context.Context, who ground.Actor, q api.BundleQuestion) (*api.Bundle, error) {
	if (q.Reference == "") == (q.Slug == "") || q.Slug != "" && q.Kind != "application" && q.Kind != "provider" {
		return nil, ground.BadRequest(
			"bundle-about",
			"A bundle is about one sign-in, by its reference number, or about one application or provider, by its short name.",
			"",
		)
	}
	if q.Personal && !ground.Allows(who.Role, ground.RoleEngineer) {
		return nil, ground.Problem(
			http.StatusForbidden, "role", "Not allowed", "Personal values are for engineers.",
			"Make the bundle without them.",
		)
	}
	b := &api.Bundle{
		Made:     g.Now().UTC(),
		By:       who.Name,
		Gate:     g.PublicURL,
		Version:  g.Version,
		Runtime:  runtime.Version() + " " + runtime.GOOS + "/" + runtime.GOARCH,
		Personal: q.Personal,
		Contents: []api.BundlePart{},
		Findings: []api.KeptFinding{},
	}
	application, provider := "", ""
	if q.Reference != "" {
		t, err := g.traces.Trace(ctx, q.Reference, q.Personal)
		if err != nil {
			return nil, err
		}
		for i := range t.Entries {
			e := &t.Entries[i]
			if m := e.Message; m != nil {
				copied := *m
				copied.Address, _, _ = strings.Cut(m.Address, "?")
				copied.Raw, copied.Opened = redact.Veiled(m.Raw), redact.Veiled(m.Opened)
				e.Message, e.Decoded, e.Opened = &copied, redact.Veiled(e.Decoded), redact.Veiled(e.Opened)
			}
		}
		b.About, b.Trace = "sign-in "+t.Reference, t
		application, provider = t.ApplicationSlug, t.ProviderSlug
		what := fmt.Sprintf("The trace: %d entries, with its messages", len(t.Entries))
		redacted := "signature and cipher values, secrets and codes"
		if !q.Personal {
			what = fmt.Sprintf("The trace: %d entries, without the text of its messages", len(t.Entries))
			redacted += ", names, identifiers and other personal values"
		}
		b.Contents = append(b.Contents, api.BundlePart{Name: "trace", What: what, Redacted: redacted})
	} else if q.Kind == "application" {
		application = q.Slug
	} else {
		provider = q.Slug
	}
	if application != "" {
		a, err := g.Application(ctx, application)
		if err != nil && q.Reference == "" {
			return nil, err
		}
		if err == nil {
			c := a.Application
			b.Application, b.About = &c, cmp.Or(b.About, "application "+c.Name)
			if err := g.bundlePart(ctx, b, "application", c.Slug, c.Name, a.Revision); err != nil {
				return nil, err
			}
		}
	}
	if provider != "" {
		p, err := g.Provider(ctx, provider)
		if err != nil && q.Reference == "" {
			return nil, err
		}
		if err == nil {
			c := p.Provider
			b.Provider, b.About = &c, cmp.Or(b.About, "provider "+c.Name)
			if err := g.bundlePart(ctx, b, "provider", c.Slug, c.Name, p.Revision); err != nil {
				return nil, err
			}
		}
	}
	b.Contents = append(
		b.Contents,
		api.BundlePart{
			Name:     "versions",
			What:     "Inner Gate " + g.Version + ", " + b.Runtime + ", the public URL, the time, and who made it",
			Redacted: "nothing",
		},
	)
	return b, nil
}

// bundlePart adds an object's findings, and tells what is in the bundle of it.
func (g *Room) bundlePart(ctx context.Context, b *api.Bundle, kind, slug, name string, revision int) error {
	found, err := g.KeptFindings(ctx, FindingFilter{Kind: kind, Slug: slug})
	if err != nil {
		return err
	}
	b.Findings = append(b.Findings, found.Items...)
	b.Contents = append(
		b.Contents,
		api.BundlePart{
			Name:     kind,
			What:     fmt.Sprintf("The configuration of %s as it is now (revision %d), and %d findings", name, revision, len(found.Items)),
			Redacted: "client secrets and private keys, which are never part of it",
		},
	)
	return nil
}
