package traces

import (
	"context"
	"slices"
	"strings"
	"time"

	"innergate/api"
	"innergate/core/explain"
	"innergate/gate/partners"
	"innergate/store"
)

// Statistics counts the sign-ins of the last days: over time, by application, provider and code, with the failure rate
// of the last day beside that of the days before.
func (g *Room) Statistics(ctx context.Context, days int, application, provider string) (*api.Statistics, error) {
	if days < 1 || days > 366 {
		days = 7
	}
	now := g.Now().UTC()
	from := now.Truncate(time.Hour).Add(-time.Duration(days)*24*time.Hour + time.Hour)
	db := g.Store.Read(ctx).Model(&store.SignInCount{}).Where("hour >= ?", from)
	if application != "" {
		a, err := g.partners.Application(ctx, application)
		if err != nil {
			return nil, err
		}
		db = db.Where("application_id = ?", a.ID)
	}
	if provider != "" {
		p, err := g.partners.Provider(ctx, provider)
		if err != nil {
			return nil, err
		}
		db = db.Where("provider_id = ?", p.ID)
	}
	var rows []store.SignInCount
	if err := db.Order("hour").Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.Statistics{
		From:         from,
		Until:        now,
		Bucket:       "hour",
		Buckets:      []api.CountBucket{},
		Applications: []api.CountLine{},
		Providers:    []api.CountLine{},
		Codes:        []api.CountLine{},
	}
	width := time.Hour
	switch {
	case days > 120:
		width, out.Bucket = 7*24*time.Hour, "week"
	case days > 7:
		width, out.Bucket = 24*time.Hour, "day"
	}
	for at := from.Truncate(width); !at.After(now); at = at.Add(width) {
		out.Buckets = append(out.Buckets, api.CountBucket{At: at})
	}
	apps, providers, codes := map[string]*api.CountLine{}, map[string]*api.CountLine{}, map[string]*api.CountLine{}
	add := func(m map[string]*api.CountLine, key string, r store.SignInCount) {
		l := m[key]
		if l == nil {
			l = &api.CountLine{Name: key}
			m[key] = l
		}
		if r.Outcome == OutcomeSignedIn {
			l.SignedIn += r.Count
		} else {
			l.Refused += r.Count
		}
	}
	yesterday := now.Add(-24 * time.Hour)
	var recent, usual [2]int64 // signed in, refused
	for _, r := range rows {
		good := r.Outcome == OutcomeSignedIn
		if i := int(r.Hour.Sub(out.Buckets[0].At) / width); i >= 0 && i < len(out.Buckets) {
			if good {
				out.Buckets[i].SignedIn += r.Count
			} else {
				out.Buckets[i].Refused += r.Count
			}
		}
		side := &usual
		if r.Hour.After(yesterday) {
			side = &recent
		}
		if good {
			side[0] += r.Count
			out.SignedIn += r.Count
		} else {
			side[1] += r.Count
			out.Refused += r.Count
		}
		add(apps, r.ApplicationID, r)
		add(providers, r.ProviderID, r)
		if r.Code != "" {
			add(codes, r.Code, r)
		}
	}
	out.RateNow, out.RateUsual = rate(recent), rate(usual)
	var err error
	if out.Applications, err = g.namedCounts(ctx, "application", apps); err != nil {
		return nil, err
	}
	if out.Providers, err = g.namedCounts(ctx, "provider", providers); err != nil {
		return nil, err
	}
	for code, l := range codes {
		if e, ok := explain.Lookup(explain.Code(code)); ok {
			l.Title = e.Title
		}
		out.Codes = append(out.Codes, *l)
	}
	most(out.Codes)
	out.Codes = out.Codes[:min(30, len(out.Codes))]
	return out, nil
}

// rate is the share of refused sign-ins, or nothing where there were none at all.
func rate(n [2]int64) *float64 {
	if n[0]+n[1] == 0 {
		return nil
	}
	r := float64(n[1]) / float64(n[0]+n[1])
	return &r
}

func most(list []api.CountLine) {
	slices.SortFunc(list, func(a, b api.CountLine) int {
		if d := b.SignedIn + b.Refused - a.SignedIn - a.Refused; d != 0 {
			return int(d)
		}
		return strings.Compare(a.Name, b.Name)
	})
}

// namedCounts puts names to IDs, the busiest first. What was deleted stands together.
func (g *Room) namedCounts(ctx context.Context, kind string, by map[string]*api.CountLine) ([]api.CountLine, error) {
	out := []api.CountLine{}
	for id, l := range by {
		out = append(out, api.CountLine{Name: id, SignedIn: l.SignedIn, Refused: l.Refused})
	}
	most(out)
	out = out[:min(50, len(out))]
	for i := range out {
		id := out[i].Name
		out[i].Name = "none was chosen"
		if id == "" {
			continue
		}
		ref, err := g.Reference(ctx, kind, id)
		if err != nil {
			return nil, err
		}
		if out[i].Name, out[i].Slug = ref.Name, ref.Slug; ref.Slug == "" {
			out[i].Name = "one that was deleted"
		}
		if kind == "application" && ref.Slug != "" {
			if a, err := g.partners.Application(ctx, ref.Slug); err == nil {
				out[i].LastSuccess = g.LastSuccess(ctx, a)
			}
		}
	}
	return out, nil
}

// LastSuccess is when somebody last signed in to the application.
func (g *Room) LastSuccess(ctx context.Context, a *partners.Application) *time.Time {
	var row store.Application
	if g.Store.Read(ctx).Select("last_sign_in").Where("id = ?", a.ID).Limit(1).Find(&row).Error != nil {
		return nil
	}
	return row.LastSignIn
}
