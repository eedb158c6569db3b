package readings

import (
	"context"
	"time"

	"innergate/api"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

// again is after how long a reading that failed is tried again by schedule.
const again = 10 * time.Minute

// Due begins the readings that are due by schedule. One that asks waits for somebody; a directory from which nobody was read by hand is
// not read by schedule.
func (g *Room) Due(ctx context.Context) error {
	var slugs []string
	if err := g.Store.Read(ctx).Raw("SELECT slug FROM providers WHERE id IN (SELECT provider_id FROM readings WHERE state = ?)",
		Done).Scan(&slugs).Error; err != nil {
		return store.Clear(err)
	}
	for _, slug := range slugs {
		p, err := g.partners.Provider(ctx, slug)
		if err != nil || p.LDAP == nil || p.LDAP.Reading == nil {
			continue
		}
		in, due, err := g.due(ctx, p)
		if err != nil {
			return err
		}
		if !due {
			continue
		}
		if _, err := g.New(ctx, ground.Actor{Name: "schedule", Role: ground.RoleOwner}, slug, in); err != nil {
			g.Log.WarnContext(ctx, "people could not be read by schedule", "provider", slug, "error", err)
		}
	}
	return nil
}

// due says whether a directory is to be read, and how.
func (g *Room) due(ctx context.Context, p *partners.Provider) (api.NewReading, bool, error) {
	how, now := p.LDAP.Reading, g.Now()
	var last store.Reading
	if err := g.Store.Read(ctx).Where("provider_id = ?", p.ID).Order("id DESC").Limit(1).Find(&last).Error; err != nil {
		return api.NewReading{}, false, store.Clear(err)
	}
	working := (last.State == Looking || last.State == Writing) && !g.dead(&last)
	if working || last.State == Asking || last.State == Stopped && now.Sub(last.UpdatedAt) < again {
		return api.NewReading{}, false, nil
	}
	whole, err := g.lastDone(ctx, p.ID, true)
	if err != nil {
		return api.NewReading{}, false, err
	}
	if how.WholeHours > 0 && now.Sub(whole.UpdatedAt) >= time.Duration(how.WholeHours)*time.Hour {
		return api.NewReading{Write: true}, true, nil
	}
	newest, err := g.lastDone(ctx, p.ID, false)
	if err != nil {
		return api.NewReading{}, false, err
	}
	changed := how.ChangedMinutes > 0 && newest.Newest != "" && now.Sub(newest.UpdatedAt) >= time.Duration(how.ChangedMinutes)*time.Minute
	return api.NewReading{Write: true, Changed: true}, changed, nil
}
