package checkups

import (
	"context"
	"fmt"
	netmail "net/mail"
	"net/url"
	"strings"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/checkup"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/store"
)

// Notices are whom the gate tells about new findings, and how the telling stands with each.
func (g *Room) Notices(ctx context.Context) (*api.NoticesView, error) {
	k, err := g.KeptNotices(ctx)
	if err != nil {
		return nil, err
	}
	v := &api.NoticesView{Notices: k.Notices, HasSecret: len(k.Sealed) > 0, Deliveries: []api.Delivery{}}
	for _, to := range recipients(k) {
		d, err := g.delivery(ctx, to)
		if err != nil {
			return nil, err
		}
		if d.Error != "" && v.Error == "" {
			v.Error = d.Error
		}
		if d.LastSent != nil && (v.LastSent == nil || d.LastSent.After(*v.LastSent)) {
			v.LastSent = d.LastSent
		}
		v.Deliveries = append(v.Deliveries, *d)
	}
	return v, nil
}

// SetNotices says whom the gate tells.
func (g *Room) SetNotices(ctx context.Context, who ground.Actor, in api.SaveNotices) (*api.NoticesView, error) {
	in.Webhook = strings.TrimSpace(in.Webhook)
	if in.Webhook != "" {
		if u, err := url.Parse(in.Webhook); err != nil || u.Host == "" || u.User != nil || u.Scheme != "https" && u.Scheme != "http" ||
			len(in.Webhook) > 1000 {
			return nil, ground.BadRequest("webhook", fmt.Sprintf("%q is no http or https address.", words.Clip(in.Webhook, 100)), "")
		}
	}
	if len(in.Mail) > 20 {
		return nil, ground.BadRequest("mail-many", "Twenty mail addresses are the most; use a list's address for more.", "")
	}
	for _, a := range in.Mail {
		if _, err := netmail.ParseAddress(a); err != nil || len(a) > 320 {
			return nil, ground.BadRequest("mail-address", fmt.Sprintf("%q is no mail address.", words.Clip(a, 100)), "")
		}
	}
	if in.From == "" {
		in.From = checkup.Attention
	}
	if in.From != checkup.Broken && in.From != checkup.Attention && in.From != checkup.Remark {
		return nil, ground.BadRequest("severity", fmt.Sprintf("%q is no severity; broken, attention and remark are.", in.From), "")
	}
	if in.Secret != nil && len(*in.Secret) > 200 {
		return nil, ground.BadRequest("secret", "The secret has more than 200 characters.", "")
	}
	if err := g.Store.Write(ctx, func(tx *gorm.DB) error { return g.writeNotices(tx, who, in) }); err != nil {
		return nil, err
	}
	return g.Notices(ctx)
}

// writeNotices keeps whom the gate tells. What is held is read in the transaction.
func (g *Room) writeNotices(tx *gorm.DB, who ground.Actor, in api.SaveNotices) error {
	held, err := g.KeptNoticesIn(tx)
	if err != nil {
		return err
	}
	fresh := &ground.KeptNotices{Notices: in.Notices}
	switch {
	case in.Secret != nil && *in.Secret != "":
		fresh.Sealed = g.Store.Sealer.Seal(store.PlaceSetting, ground.SettingNotices, []byte(*in.Secret))
	case in.Secret == nil && held.Webhook == in.Webhook:
		fresh.Sealed = held.Sealed
	}
	// Whoever is told no more gets nothing of what still waits.
	if err := tx.Where("sent_at IS NULL AND recipient NOT IN ?", append(recipients(fresh), "")).Delete(&store.Notice{}).Error; err != nil {
		return err
	}
	return g.StoreSetting(tx, who, ground.SettingNotices, "whom new findings are told", ground.MustJSON(fresh),
		ground.MustJSON(held.Notices), ground.MustJSON(in.Notices))
}
