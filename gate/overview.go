package gate

import (
	"context"
	"strings"
	"time"

	"innergate/api"
	"innergate/core/checkup"
	"innergate/core/config"
	"innergate/store"
)

// Overview is what the console's first page shows. It looks at the newest few hundred objects at most.
func (g *Gate) Overview(ctx context.Context) (*api.Overview, error) {
	o := &api.Overview{PublicURL: g.PublicURL, Version: g.Version, Recent: []api.TraceSummary{}, Findings: []api.OverviewFinding{}}
	traces, err := g.Traces(ctx, store.Page{Limit: 8}, TraceFilter{})
	if err != nil {
		return nil, err
	}
	o.Recent = traces.Items
	for _, q := range []struct {
		sql  string
		into *int
		args []any
	}{
		{"SELECT count(*) FROM (SELECT 1 FROM applications LIMIT 1000)", &o.Applications, nil}, {"SELECT count(*) FROM (SELECT 1 FROM providers LIMIT 1000)", &o.Providers, nil},
		{"SELECT count(*) FROM (SELECT outcome, started_at, rehearsal_id FROM traces ORDER BY id DESC LIMIT 1000) WHERE outcome = 'signed-in' AND rehearsal_id = '' AND started_at > ?", &o.SignedIn, []any{g.Now().Add(-24 * time.Hour).UTC()}},
		{"SELECT count(*) FROM (SELECT outcome, started_at, rehearsal_id FROM traces ORDER BY id DESC LIMIT 1000) WHERE outcome = 'refused' AND rehearsal_id = '' AND started_at > ?", &o.Refused, []any{g.Now().Add(-24 * time.Hour).UTC()}},
	} {
		if err := g.Store.Read(ctx).Raw(q.sql, q.args...).Scan(q.into).Error; err != nil {
			return nil, store.Clear(err)
		}
	}
	o.More = o.Applications == 1000 || o.Providers == 1000
	return o, g.overviewFindings(ctx, o)
}

func (g *Gate) overviewFindings(ctx context.Context, o *api.Overview) error {
	var apps []store.Application
	if err := g.Store.Read(ctx).Order("updated_at DESC").Limit(200).Find(&apps).Error; err != nil {
		return store.Clear(err)
	}
	var providers []store.Provider
	if err := g.Store.Read(ctx).Order("updated_at DESC").Limit(200).Find(&providers).Error; err != nil {
		return store.Clear(err)
	}
	add := func(kind, slug, name string, list []checkup.Finding) {
		for _, f := range list {
			if f.Severity != checkup.Remark && len(o.Findings) < 30 {
				o.Findings = append(o.Findings, api.OverviewFinding{Finding: f, Kind: kind, Slug: slug, Name: name})
			}
		}
	}
	for _, row := range providers {
		if p, err := decodeBody[config.Provider](row.Body); err == nil {
			_, findings := checkup.Provider(&p, g.SPEntityID(), g.Now())
			add("provider", row.Slug, row.Name, findings)
		}
	}
	for _, row := range apps {
		if a, err := decodeBody[config.Application](row.Body); err == nil {
			_, findings := checkup.Application(&a, nil, g.IDPEntityID(), g.Now())
			add("application", row.Slug, row.Name, findings)
		}
	}
	return nil
}

// Find searches applications, providers, entity IDs, fingerprints of our keys and trace numbers for the palette.
func (g *Gate) Find(ctx context.Context, text string) (*api.List[api.FoundItem], error) {
	out := &api.List[api.FoundItem]{Items: []api.FoundItem{}}
	text = strings.TrimSpace(text)
	if text == "" {
		return out, nil
	}
	apps, err := g.Applications(ctx, store.Page{Limit: 6, Search: text}, "", "")
	if err != nil {
		return nil, err
	}
	for _, a := range apps.Items {
		out.Items = append(out.Items, api.FoundItem{Kind: "application", Name: a.Name, Hint: a.SAML.EntityID, Path: "/applications/" + a.Slug})
	}
	providers, err := g.Providers(ctx, store.Page{Limit: 6, Search: text}, "")
	if err != nil {
		return nil, err
	}
	for _, p := range providers.Items {
		out.Items = append(out.Items, api.FoundItem{Kind: "provider", Name: p.Name, Hint: p.SAML.EntityID, Path: "/providers/" + p.Slug})
	}
	traces, err := g.Traces(ctx, store.Page{Limit: 6, Search: text}, TraceFilter{})
	if err != nil {
		return nil, err
	}
	for _, t := range traces.Items {
		out.Items = append(out.Items, api.FoundItem{Kind: "trace", Name: t.Reference, Hint: t.Application + ", " + t.Outcome, Path: "/traces/" + t.Reference})
	}
	list, err := g.Keys(ctx)
	if err != nil {
		return nil, err
	}
	for _, k := range list.Items {
		if strings.Contains(k.SHA256, strings.ToLower(text)) || strings.Contains(k.SHA1, strings.ToLower(text)) {
			out.Items = append(out.Items, api.FoundItem{Kind: "key", Name: k.Purpose, Hint: k.SHA256, Path: "/keyring"})
		}
	}
	return out, nil
}
