package traces

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

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
	db, done := g.Store.Traces.Long(ctx)
	defer done()
	db = db.Model(&store.SignInCount{}).Where("hour >= ?", from)
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
	out := &api.Statistics{From: from, Until: now, Bucket: "hour", Buckets: []api.CountBucket{}}
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
	db = db.Session(&gorm.Session{})
	if err := g.overTime(ctx, db, out, width); err != nil {
		return nil, err
	}
	return out, g.byWhat(ctx, db, out)
}

// byWhat counts by application, provider and code.
func (g *Room) byWhat(ctx context.Context, db *gorm.DB, out *api.Statistics) error {
	rows, silent, err := gather[whatCount](ctx, g, db.Select("application_id, provider_id, code, "+good+" AS good, "+bad+" AS bad").
		Group("application_id, provider_id, code"))
	if err != nil {
		return err
	}
	out.Silent = silent
	applications, providers, codes := counts{}, counts{}, counts{}
	for _, one := range rows {
		r := one.Row
		applications.add(r.ApplicationID, r.Good, r.Bad)
		providers.add(r.ProviderID, r.Good, r.Bad)
		if r.Code != "" {
			codes.add(r.Code, r.Good, r.Bad)
		}
	}
	out.Codes = codes.most(30)
	for i := range out.Codes {
		if e, ok := explain.Lookup(explain.Code(out.Codes[i].Name)); ok {
			out.Codes[i].Title = e.Title
		}
	}
	if out.Applications, err = g.named(ctx, "application", applications.most(50)); err != nil {
		return err
	}
	out.Providers, err = g.named(ctx, "provider", providers.most(50))
	return err
}

// whatCount and hourCount are what is counted of sign-ins that went well, and that did not.
type (
	whatCount struct {
		ApplicationID, ProviderID, Code string
		Good, Bad                       int64
	}
	hourCount struct {
		Hour      time.Time
		Good, Bad int64
	}
)

// counts are those of sign-ins, by what they are counted by.
type counts map[string]*api.CountLine

func (c counts) add(key string, good, bad int64) {
	l := c[key]
	if l == nil {
		l = &api.CountLine{Name: key}
		c[key] = l
	}
	l.SignedIn, l.Refused = l.SignedIn+good, l.Refused+bad
}

// most are the busiest.
func (c counts) most(limit int) []api.CountLine {
	out := make([]api.CountLine, 0, len(c))
	for _, l := range c {
		out = append(out, *l)
	}
	slices.SortFunc(out, func(a, b api.CountLine) int {
		return cmp.Or(cmp.Compare(b.SignedIn+b.Refused, a.SignedIn+a.Refused), strings.Compare(a.Name, b.Name))
	})
	return out[:min(limit, len(out))]
}

// good and bad are the sums of sign-ins that went well, and of those that did not.
const (
	good = "sum(CASE outcome WHEN '" + OutcomeSignedIn + "' THEN count ELSE 0 END)"
	bad  = "sum(CASE outcome WHEN '" + OutcomeSignedIn + "' THEN 0 ELSE count END)"
)

// overTime lays the counts out over the buckets, and compares the last day with those before.
func (g *Room) overTime(ctx context.Context, db *gorm.DB, out *api.Statistics, width time.Duration) error {
	rows, err := Gather(ctx, g, db.Select("hour, "+good+" AS good, "+bad+" AS bad").Group("hour"),
		func(a, b hourCount) int { return a.Hour.Compare(b.Hour) })
	if err != nil {
		return err
	}
	yesterday := out.Until.Add(-24 * time.Hour)
	var recent, usual [2]int64 // signed in, refused
	for _, r := range rows {
		if i := int(r.Hour.Sub(out.Buckets[0].At) / width); i >= 0 && i < len(out.Buckets) {
			out.Buckets[i].SignedIn += r.Good
			out.Buckets[i].Refused += r.Bad
		}
		side := &usual
		if r.Hour.After(yesterday) {
			side = &recent
		}
		side[0], side[1] = side[0]+r.Good, side[1]+r.Bad
		out.SignedIn, out.Refused = out.SignedIn+r.Good, out.Refused+r.Bad
	}
	out.RateNow, out.RateUsual = rate(recent), rate(usual)
	return nil
}

// rate is the share of refused sign-ins, or nothing where there were none at all.
func rate(n [2]int64) *float64 {
	if n[0]+n[1] == 0 {
		return nil
	}
	r := float64(n[1]) / float64(n[0]+n[1])
	return &r
}

// named puts names to the IDs by which lines were counted. What was deleted stands together.
func (g *Room) named(ctx context.Context, kind string, out []api.CountLine) ([]api.CountLine, error) {
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

// Lately counts the sign-ins of the last day, of which each node looks at its newest thousand.
func (g *Room) Lately(ctx context.Context) (api.CountLine, error) {
	newest := g.Store.Traces.Read(ctx).Model(&store.Trace{}).
		Table("(SELECT outcome, started_at, rehearsal_id FROM traces ORDER BY id DESC LIMIT 1000)").
		Select("coalesce(sum(outcome = '"+OutcomeSignedIn+"'), 0) AS good, coalesce(sum(outcome IN "+
			"('"+OutcomeRefused+"', '"+OutcomeNotTakenUp+
			"')), 0) AS bad").
		Where("rehearsal_id = '' AND started_at > ?", g.Now().Add(-24*time.Hour).UTC())
	all, _, err := gather[whatCount](ctx, g, newest)
	var out api.CountLine
	for _, one := range all {
		out.SignedIn, out.Refused = out.SignedIn+one.Row.Good, out.Refused+one.Row.Bad
	}
	return out, err
}
