package console

import (
	"context"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/keys"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

// tokenMark begins every API token, so that one that leaks is recognised.
const tokenMark = "innergate_"

// TokenActor finds whom an API token belongs to.
func (g *Room) TokenActor(ctx context.Context, token, from string) (*ground.Actor, error) {
	if !strings.HasPrefix(token, tokenMark) {
		return nil, errUnauthorised
	}
	t, err := store.One[store.APIToken](g.Store.Read(ctx), "token_hash = ?", keys.HashSecret(token))
	if err != nil {
		return nil, err
	}
	now := g.Now().UTC()
	if t.ID == "" || t.ExpiresAt != nil && now.After(*t.ExpiresAt) {
		return nil, errUnauthorised
	}
	if t.LastUsed == nil || now.Sub(*t.LastUsed) > time.Minute {
		if err := g.Store.Write(ctx, func(tx *gorm.DB) error {
			return tx.Model(&store.APIToken{}).Where("id = ?", t.ID).Update("last_used", now).Error
		}); err != nil {
			return nil, err
		}
	}
	return &ground.Actor{
		ID:           "token/" + t.ID,
		Maker:        t.ByID,
		Name:         "token " + t.Name,
		Role:         t.Role,
		Applications: partners.RolesOf(t.Applications),
		From:         from,
		Kind:         "token",
	}, nil
}

// makerOf is who stands behind a token: nobody else where the gate itself has made it.
func makerOf(who ground.Actor) string {
	if who.Kind == ground.System.Kind {
		return ""
	}
	return who.Human()
}

// endTokens ends the tokens that an administrator made and that may do more than the role that is left; all of them where
// none is left.
func endTokens(tx *gorm.DB, now time.Time, who ground.Actor, id, role string) error {
	var rows []store.APIToken
	if err := tx.Where("by_id = ?", "administrator/"+id).Find(&rows).Error; err != nil {
		return err
	}
	for _, t := range rows {
		if role != "" && ground.Allows(role, t.Role) {
			continue
		}
		if err := tx.Delete(&t).Error; err != nil {
			return err
		}
		if err := ground.Journal(tx, now, who, "ended", "token", t.ID, t.Name, "",
			"whoever made it may not do so much any more"); err != nil {
			return err
		}
	}
	return nil
}

// Tokens lists them without their secrets.
func (g *Room) Tokens(ctx context.Context) (*api.List[api.Token], error) {
	var rows []store.APIToken
	if err := g.Store.Read(ctx).Order("id DESC").Limit(200).Find(&rows).Error; err != nil {
		return nil, store.Clear(err)
	}
	out := &api.List[api.Token]{Items: []api.Token{}}
	for _, t := range rows {
		out.Items = append(out.Items, tokenView(t))
	}
	return out, nil
}

func tokenView(t store.APIToken) api.Token {
	return api.Token{
		ID:           t.ID,
		Name:         t.Name,
		Role:         t.Role,
		Applications: partners.RolesOf(t.Applications),
		By:           t.By,
		Created:      t.CreatedAt,
		Expires:      t.ExpiresAt,
		LastUsed:     t.LastUsed,
	}
}

// NewToken makes one. Its secret is in the answer and nowhere else. Nobody gives more than they have.
func (g *Room) NewToken(ctx context.Context, who ground.Actor, n api.NewToken) (*api.Token, error) {
	if err := g.knownScope(ctx, n.Role, n.Applications); err != nil {
		return nil, err
	}
	if strings.TrimSpace(n.Name) == "" || len(n.Name) > 100 || n.Days < 0 || n.Days > 3650 {
		return nil, ground.BadRequest(
			"token", "A token needs a name of 1 to 100 characters and a life of at most 3650 days.",
			"Name the program that will use it.",
		)
	}
	if !ground.Allows(who.Role, n.Role) {
		return nil, ground.Problem(403, "role", "You can't give this role", fmt.Sprintf("Your own role is %s.", who.Role), "")
	}
	secret := tokenMark + keys.NewSecret()
	t := store.APIToken{
		ID:           store.NewID(),
		Name:         n.Name,
		Role:         n.Role,
		Applications: scopeText(n.Applications),
		By:           who.Name,
		ByID:         makerOf(who),
		TokenHash:    keys.HashSecret(secret),
		CreatedAt:    g.Now().UTC(),
	}
	if n.Days > 0 {
		end := t.CreatedAt.AddDate(0, 0, n.Days)
		t.ExpiresAt = &end
	}
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(&t).Error; err != nil {
			return err
		}
		return ground.Journal(tx, g.Now(), who, "made", "token", t.ID, t.Name, "", t.Role)
	})
	v := tokenView(t)
	v.Secret = secret
	return &v, err
}

// RevokeToken takes one back at once.
func (g *Room) RevokeToken(ctx context.Context, who ground.Actor, id string) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		var t store.APIToken
		if err := tx.Where("id = ?", id).Take(&t).Error; err != nil {
			return ground.Missing(err, "token", id)
		}
		if err := tx.Delete(&t).Error; err != nil {
			return err
		}
		return ground.Journal(tx, g.Now(), who, "revoked", "token", t.ID, t.Name, t.Role, "")
	})
}
