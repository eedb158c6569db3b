package pushed

import (
	"context"
	"net/http"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/keys"
	"innergate/core/scim"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

const (
	// tokenMark begins every token of senders, so that one that leaks is recognised.
	tokenMark = "igp_"
	// tokensAtOnce is how many count at the same time.
	tokensAtOnce = 2
	hintLength   = 7
	usedAgain    = time.Minute // after which a use is written down again
)

// Sender finds out whether a request comes from a provider. Whoever proves nothing learns nothing: not even whether there is one.
func (g *Room) Sender(ctx context.Context, slug, authorization string) (*Sender, error) {
	refused := bad(http.StatusUnauthorized, "", "The token is not known here, is over, or is another provider's.")
	kind, token, _ := strings.Cut(authorization, " ")
	if !strings.EqualFold(kind, "bearer") || !strings.HasPrefix(token, tokenMark) || len(token) > 200 {
		return nil, refused
	}
	row, err := store.One[store.PushToken](g.Store.Read(ctx), "hash = ?", keys.HashSecret(token))
	if err != nil {
		return nil, err
	}
	now := g.Now().UTC()
	if row.ID == "" || row.ExpiresAt != nil && !row.ExpiresAt.After(now) {
		return nil, refused
	}
	p, err := g.partners.ProviderByID(ctx, row.ProviderID)
	if ground.IsNotFound(err) || err == nil && (p.Slug != slug || p.Pushed == nil || !p.Pushed.On) {
		return nil, refused
	}
	if err != nil {
		return nil, err
	}
	if row.LastUsed == nil || now.Sub(*row.LastUsed) > usedAgain {
		if err := g.Store.Write(ctx, func(tx *gorm.DB) error {
			return tx.Exec("UPDATE push_tokens SET last_used = ? WHERE id = ?", now, row.ID).Error
		}); err != nil {
			return nil, err
		}
	}
	return &Sender{Provider: p, Base: g.Base(p)}, nil
}

// Base is the address at which a provider pushes.
func (g *Room) Base(p *partners.Provider) string { return g.PublicURL + "/scim/v2/" + p.Slug }

// provider finds a provider that may push.
func (g *Room) provider(ctx context.Context, slug string) (*partners.Provider, error) {
	p, err := g.partners.Provider(ctx, slug)
	if err == nil && p.Pushed == nil {
		err = ground.Conflict("not-pushed", p.Name+" pushes nobody.", "Let it push its people first (pushed).")
	}
	return p, err
}

// NewToken makes a token for a provider. It is in the answer and nowhere else; two count at once.
func (g *Room) NewToken(ctx context.Context, who ground.Actor, slug string, in api.NewSecret) (*api.Secret, error) {
	p, err := g.provider(ctx, slug)
	if err != nil {
		return nil, err
	}
	if in.Days < 0 || in.Days > 3650 {
		return nil, ground.BadRequest("days", "A token is good for 1 to 3650 days, or for as long as it is not taken back (0).", "")
	}
	now := g.Now().UTC()
	token := tokenMark + keys.NewSecret()
	row := store.PushToken{ID: store.NewID(), ProviderID: p.ID, Hash: keys.HashSecret(token), Hint: token[:hintLength], By: who.Name,
		CreatedAt: now}
	if in.Days > 0 {
		end := now.AddDate(0, 0, in.Days)
		row.ExpiresAt = &end
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := g.partners.OwnersForSecret(tx, who, p.ID); err != nil {
			return err
		}
		var valid int64
		if err := tx.Model(&store.PushToken{}).Where("provider_id = ? AND (expires_at IS NULL OR expires_at > ?)", p.ID, now).
			Count(&valid).Error; err != nil {
			return err
		}
		if valid >= tokensAtOnce {
			return ground.Conflict("tokens-two", p.Name+" has two tokens that count, the most that can be at once.",
				"Take back the one that is no longer used; the list shows when each was used last.")
		}
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		return ground.Journal(tx, now, who, "made", "token for pushing", p.ID, p.Name, "", row.Hint+"…")
	})
	if err != nil {
		return nil, err
	}
	v := tokenView(row)
	v.Secret = token
	return &v, nil
}

func tokenView(row store.PushToken) api.Secret {
	return api.Secret{ID: row.ID, State: "active", Hint: row.Hint, By: row.By, Created: row.CreatedAt, Expires: row.ExpiresAt,
		LastUsed: row.LastUsed}
}

// DropToken takes a token back.
func (g *Room) DropToken(ctx context.Context, who ground.Actor, slug, id string) error {
	p, err := g.provider(ctx, slug)
	if err != nil {
		return err
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := g.partners.OwnersForSecret(tx, who, p.ID); err != nil {
			return err
		}
		gone, err := store.Exec(tx, "DELETE FROM push_tokens WHERE id = ? AND provider_id = ?", id, p.ID)
		if err != nil {
			return err
		}
		if gone == 0 {
			return ground.NotFound("token", id)
		}
		return ground.Journal(tx, g.Now(), who, "took back", "token for pushing", p.ID, p.Name, "", "")
	})
}

// Pushes shows how a provider pushes: where, with which tokens, and whom so far.
func (g *Room) Pushes(ctx context.Context, slug string) (*api.Pushes, error) {
	p, err := g.provider(ctx, slug)
	if err != nil {
		return nil, err
	}
	v := &api.Pushes{On: p.Pushed.On, Address: g.Base(p), Tokens: []api.Secret{}, Remarks: []api.PushRemark{}}
	var rows []store.PushToken
	if err := g.Store.Read(ctx).Where("provider_id = ?", p.ID).Order("id").Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	for _, r := range rows {
		v.Tokens = append(v.Tokens, tokenView(r))
	}
	if err := g.Store.Row(ctx, "SELECT (SELECT count(*) FROM pushed_people WHERE provider_id = ?), (SELECT count(*) FROM "+
		"pushed_people WHERE "+
		"provider_id = ? AND NOT active), (SELECT count(*) FROM pushed_groups WHERE provider_id = ?), (SELECT count(*) FROM pushed_people "+
		"WHERE provider_id = ? AND problem <> '')", p.ID, p.ID, p.ID, p.ID).Scan(&v.People, &v.Inactive, &v.Groups,
		&v.Problems); err != nil {
		return nil, store.Clear(err)
	}
	seen, err := g.partners.Seen(ctx, p.ID, g.Now().AddDate(0, 0, -30))
	if err != nil {
		return nil, err
	}
	for _, s := range seen {
		if s.Kind == store.SeenSender {
			v.Remarks = append(v.Remarks, api.PushRemark{Text: s.Detail, First: s.FirstAt, Last: s.LastAt})
		}
	}
	return v, nil
}

// remark writes down habits of a sender that were taken.
func (g *Room) remark(ctx context.Context, s *Sender, list []scim.Remark) {
	for _, r := range list {
		g.partners.See(ctx, s.ID, store.SeenSender, r.Text, "")
	}
}
