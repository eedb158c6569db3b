package exchange

import (
	"context"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/keys"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/traces"
	"innergate/store"
)

const (
	handoverBrowser = 3 // browsers, unless it is said
	handoverMost    = 20
	handoverHours   = 7 * 24
	handoverLongest = 60 * 24
	handoversOpen   = 10 // at once for one object
)

// NewHandover makes a link for the engineer of an application or provider. It is shown once.
func (g *Room) NewHandover(ctx context.Context, who ground.Actor, kind, slug string, in api.NewHandover) (*api.Handover, error) {
	if in.Hours == 0 {
		in.Hours = handoverHours
	}
	if in.Openings == 0 {
		in.Openings = handoverBrowser
	}
	switch {
	case in.Hours < 1 || in.Hours > handoverLongest:
		return nil, ground.BadRequest("hours", "A handover link is good for 1 hour to 60 days.", "")
	case in.Openings < 1 || in.Openings > handoverMost:
		return nil, ground.BadRequest("openings", fmt.Sprintf("A handover link can be opened in 1 to %d browsers.", handoverMost), "")
	case len(in.Remark) > 2000:
		return nil, ground.BadRequest("remark", "The remark has more than 2,000 characters.", "")
	}
	if _, err := g.sheet(ctx, kind, slug); err != nil {
		return nil, err // a link or a directory has no other side
	}
	id, err := g.objectID(ctx, kind, slug)
	if err != nil {
		return nil, err
	}
	token, now := keys.NewSecret(), g.Now().UTC()
	row := store.Handover{
		ID:        store.NewIDAt(now),
		TokenHash: keys.HashSecret(token),
		Kind:      kind,
		ObjectID:  id,
		Remark:    strings.TrimSpace(in.Remark),
		By:        who.Name,
		ByID:      who.Human(),
		Most:      in.Openings,
		CreatedAt: now,
		ExpiresAt: now.Add(time.Duration(in.Hours) * time.Hour),
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		var open int64
		if err := tx.Model(&store.Handover{}).Where("object_id = ? AND revoked_at IS NULL AND expires_at > ?", id,
			now).Count(&open).Error; err != nil {
			return err
		}
		if open >= handoversOpen {
			return ground.Conflict(
				"handovers-many", fmt.Sprintf("%d handover links are open for it already.", open),
				"Revoke those that are not needed.",
			)
		}
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		return ground.Journal(tx, now, who, "made a handover link for", kind, id, slug, "", row.ID)
	})
	if err != nil {
		return nil, err
	}
	v, err := g.handoverView(ctx, &row)
	if err != nil {
		return nil, err
	}
	v.Link = g.PublicURL + "/handover/" + token
	return v, nil
}

func (g *Room) objectID(ctx context.Context, kind, slug string) (string, error) {
	if kind == "application" {
		a, err := g.partners.Application(ctx, slug)
		if err != nil {
			return "", err
		}
		return a.ID, nil
	}
	p, err := g.partners.Provider(ctx, slug)
	if err != nil {
		return "", err
	}
	return p.ID, nil
}

// Handovers lists the links of an application or provider, the newest first.
func (g *Room) Handovers(ctx context.Context, kind, slug string) (*api.List[api.Handover], error) {
	id, err := g.objectID(ctx, kind, slug)
	if err != nil {
		return nil, err
	}
	var rows []store.Handover
	if err := g.Store.Read(ctx).Where("kind = ? AND object_id = ?", kind, id).Order("id DESC").Limit(50).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[api.Handover]{Items: []api.Handover{}}
	for i := range rows {
		v, err := g.handoverView(ctx, &rows[i])
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, *v)
	}
	return out, nil
}

func (g *Room) handoverView(ctx context.Context, row *store.Handover) (*api.Handover, error) {
	v := &api.Handover{
		ID:         row.ID,
		Remark:     row.Remark,
		By:         row.By,
		Created:    row.CreatedAt,
		Expires:    row.ExpiresAt,
		Most:       row.Most,
		Openings:   []api.HandoverOpening{},
		Left:       []string{},
		Rehearsals: []api.TraceSummary{},
		State:      "open",
	}
	var openings []store.HandoverOpening
	if err := g.Store.Read(ctx).Where("handover_id = ?", row.ID).Order("id").Find(&openings).Error; err != nil {
		return nil, store.Clear(err)
	}
	for _, o := range openings {
		v.Openings = append(
			v.Openings,
			api.HandoverOpening{At: o.FirstAt, Last: o.LastAt, Address: o.Address, Device: words.Device(o.Device)},
		)
	}
	switch {
	case row.RevokedAt != nil:
		v.State = "revoked"
	case !g.Now().Before(row.ExpiresAt):
		v.State = "over"
	case len(openings) >= row.Most:
		v.State = "used up" // by others; those who have opened it can go on
	}
	if err := g.Store.Read(ctx).Model(&store.Proposal{}).Where("origin = ?",
		ground.HandoverAbout+row.ID).Order("id DESC").Limit(50).Pluck("id", &v.Left).Error; err != nil {
		return nil, store.Clear(err)
	}
	v.Left = words.List(v.Left)
	traces, err := g.handoverTraces(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	for _, t := range traces {
		v.Rehearsals = append(v.Rehearsals, g.traces.Summary(ctx, t))
	}
	return v, nil
}

func (g *Room) handoverTraces(ctx context.Context, id string) ([]store.Trace, error) {
	var rehearsals []string
	if err := g.Store.Read(ctx).Model(&store.Rehearsal{}).Where("about = ?", ground.HandoverAbout+id).Order("id DESC").Limit(200).
		Pluck("id", &rehearsals).Error; err != nil {
		return nil, store.Clear(err)
	}
	return traces.Gather(ctx, g.traces, g.Store.Traces.Read(ctx).Model(&store.Trace{}).Omit("entries").
		Where("rehearsal_id IN ?", rehearsals).Order("id DESC").Limit(20), traces.Newest)
}

// RevokeHandover ends a link at once, for those who have opened it as well.
func (g *Room) RevokeHandover(ctx context.Context, who ground.Actor, id string) error {
	now := g.Now().UTC()
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		var row store.Handover
		if err := tx.Where("id = ?", id).Take(&row).Error; err != nil {
			return ground.Missing(err, "handover link", id)
		}
		if row.RevokedAt != nil {
			return nil
		}
		if err := tx.Model(&store.Handover{}).Where("id = ?", id).Updates(map[string]any{"revoked_at": now,
			"revoked_by": who.Name}).Error; err != nil {
			return err
		}
		return ground.Journal(tx, now, who, "revoked a handover link for", row.Kind, row.ObjectID, id, "", "")
	})
}
