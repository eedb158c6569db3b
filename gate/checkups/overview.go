package checkups

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"innergate/api"
	"innergate/core/checkup"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/trace"
	"innergate/gate/ground"
	"innergate/gate/keyring"
	"innergate/gate/traces"
	"innergate/store"
)

// Overview is what the console's first page shows. It looks at the newest few hundred objects at most.
func (g *Room) Overview(ctx context.Context) (*api.Overview, error) {
	o := &api.Overview{PublicURL: g.PublicURL, Version: g.Version, Recent: []api.TraceSummary{}, Findings: []api.OverviewFinding{}}
	traces, err := g.traces.Traces(ctx, store.Page{Limit: 8}, traces.Filter{})
	if err != nil {
		return nil, err
	}
	o.Recent = traces.Items
	for query, into := range map[string]*int{
		"SELECT count(*) FROM (SELECT 1 FROM applications LIMIT 1000)": &o.Applications,
		"SELECT count(*) FROM (SELECT 1 FROM providers LIMIT 1000)":    &o.Providers,
	} {
		if err := g.Store.Read(ctx).Raw(query).Scan(into).Error; err != nil {
			return nil, store.Clear(err)
		}
	}
	lately, err := g.traces.Lately(ctx)
	if err != nil {
		return nil, err
	}
	o.SignedIn, o.Refused = int(lately.SignedIn), int(lately.Refused)
	o.More = o.Applications == 1000 || o.Providers == 1000
	return o, g.overviewFindings(ctx, o)
}

func (g *Room) overviewFindings(ctx context.Context, o *api.Overview) error {
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
	secrets, err := g.partners.AllSecrets(ctx)
	if err != nil {
		return err
	}
	for _, row := range providers {
		if p, err := ground.DecodeBody[config.Provider](row.Body); err == nil {
			_, findings := checkup.Provider(&p, g.SPEntityID(), g.Now())
			if p.OIDC != nil {
				findings = append(findings, checkup.TheirSecrets(&p, secrets[row.ID], g.Now())...)
			}
			add("provider", row.Slug, row.Name, findings)
		}
	}
	for _, row := range apps {
		if a, err := ground.DecodeBody[config.Application](row.Body); err == nil {
			_, findings := checkup.Application(&a, nil, g.IDPEntityID(), g.Now())
			if a.OIDC != nil {
				findings = append(findings, checkup.OurSecrets(&a, secrets[row.ID], g.Now())...)
			}
			add("application", row.Slug, row.Name, findings)
		}
	}
	if err := g.exchangeFindings(ctx, add); err != nil {
		return err
	}
	// What is broken comes first.
	slices.SortStableFunc(o.Findings, func(a, b api.OverviewFinding) int { return strings.Compare(rank(a.Severity), rank(b.Severity)) })
	return nil
}

func rank(severity string) string {
	if severity == checkup.Broken {
		return "0"
	}
	return "1"
}

// exchangeFindings finds what is wrong with what is exchanged: metadata that can't be refreshed, is over or waits for a
// decision, sources, and keys of ours.
func (g *Room) exchangeFindings(ctx context.Context, add func(kind, slug, name string, list []checkup.Finding)) error {
	var watched []struct{ OwnerKind, OwnerID string }
	query := "SELECT owner_kind, owner_id FROM partner_watches WHERE failures > 0 OR valid_until < ? UNION SELECT owner_kind, " +
		"owner_id FROM partner_documents WHERE verdict = 'waiting' LIMIT 100"
	if err := g.Store.Read(ctx).Raw(query, g.Now().Add(48*time.Hour).UTC()).Scan(&watched).Error; err != nil {
		return store.Clear(err)
	}
	for _, w := range watched {
		ref, err := g.Reference(ctx, w.OwnerKind, w.OwnerID)
		if err != nil {
			return err
		}
		if ref.Slug == "" {
			continue
		}
		p, err := g.watch.EitherPartner(ctx, w.OwnerKind, ref.Slug)
		if err != nil {
			return err
		}
		station := checkup.ProviderTrust
		if w.OwnerKind == "application" {
			station = checkup.ApplicationTrust
		}
		_, findings, err := g.watch.Watch(ctx, w.OwnerID, station, p.Watch)
		if err != nil {
			return err
		}
		add(w.OwnerKind, ref.Slug, ref.Name, findings)
	}
	return g.besideFindings(ctx, add)
}

// ownKeyFindings finds the end of a key's certificate 60, 30 and 7 days ahead. A next key that was made already makes
// it milder.
func ownKeyFindings(k *api.Key, all []api.Key, now time.Time) []checkup.Finding {
	days := int(k.NotAfter.Sub(now).Hours()/24) + 1
	if days > 60 {
		return nil
	}
	f := checkup.Finding{
		Code:     "key.ends-soon",
		Severity: checkup.Attention,
		Title:    fmt.Sprintf("Our own certificate (%s) ends in %d days", k.Purpose, days),
		Detail:   "Partners that heed its dates will refuse us then.",
		Remedy:   "Make the next key in the keyring, publish it, and switch when every partner has it.",
		Evidence: []trace.Evidence{
			explain.Fact("SHA-256 fingerprint", k.SHA256),
			explain.Fact("ends", k.NotAfter.UTC().Format(time.RFC3339)),
		},
	}
	next := slices.ContainsFunc(all, func(n api.Key) bool {
		return n.State == keyring.KeyNext && n.Purpose == k.Purpose && (n.For == nil) == (k.For == nil)
	})
	switch {
	case days <= 0:
		f.Code, f.Severity, f.Title = "key.expired", checkup.Broken, fmt.Sprintf("Our own certificate (%s) has ended", k.Purpose)
	case days <= 7:
		f.Severity = checkup.Broken
	case days > 30 && !next:
		f.Severity = checkup.Attention
	case next:
		f.Severity, f.Detail = checkup.Remark, "The next key is made already."
	}
	return []checkup.Finding{f}
}

// Find searches applications, providers, entity IDs, fingerprints of our keys and trace numbers for the palette.
func (g *Room) Find(ctx context.Context, text string, names bool) (*api.List[api.FoundItem], error) {
	out := &api.List[api.FoundItem]{Items: []api.FoundItem{}}
	text = strings.TrimSpace(text)
	if text == "" {
		return out, nil
	}
	apps, err := g.Applications(ctx, store.Page{Limit: 6, Search: text}, ground.Narrow{}, "")
	if err != nil {
		return nil, err
	}
	for _, a := range apps.Items {
		out.Items = append(
			out.Items,
			api.FoundItem{Kind: "application", Name: a.Name, Hint: a.Identifier(), Path: "/applications/" + a.Slug},
		)
	}
	providers, err := g.Providers(ctx, store.Page{Limit: 6, Search: text}, ground.Narrow{})
	if err != nil {
		return nil, err
	}
	for _, p := range providers.Items {
		out.Items = append(out.Items, api.FoundItem{Kind: "provider", Name: p.Name, Hint: p.Authority(), Path: "/providers/" + p.Slug})
	}
	traces, err := g.traces.Traces(ctx, store.Page{Limit: 6, Search: text}, traces.Filter{Names: names})
	if err != nil {
		return nil, err
	}
	for _, t := range traces.Items {
		out.Items = append(
			out.Items,
			api.FoundItem{Kind: "trace", Name: t.Reference, Hint: t.Application + ", " + t.Outcome, Path: "/traces/" + t.Reference},
		)
	}
	if len(text) >= 8 {
		certs, err := g.keyring.Certificates(ctx, store.Page{Limit: 4, Search: strings.ToLower(text)})
		if err != nil {
			return nil, err
		}
		for _, c := range certs.Items {
			out.Items = append(
				out.Items,
				api.FoundItem{Kind: "certificate", Name: c.Owner.Name, Hint: c.SHA256, Path: "/" + c.Owner.Kind + "s/" + c.Owner.Slug},
			)
		}
	}
	list, err := g.keyring.Keys(ctx)
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
