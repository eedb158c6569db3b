package signin

import (
	"context"
	"net/http"

	"gorm.io/gorm"

	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/oidc"
	"innergate/gate/grants"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

// Push takes a client's authorization request beforehand and gives out a reference to it (RFC 9126).
func (g *Room) Push(ctx context.Context, authorization, raw, from string) *grants.OAuthAnswer {
	x := g.grants.NewExchange("par", authorization, raw, from)
	handle, err := g.push(ctx, x, authorization, raw)
	if err != nil {
		return g.grants.RefusedExchange(ctx, x, err)
	}
	return &grants.OAuthAnswer{
		Status: http.StatusCreated,
		Body:   map[string]any{"request_uri": oidc.RequestURI + handle, "expires_in": int(pushedLife.Seconds())},
	}
}

func (g *Room) push(ctx context.Context, x *grants.Exchange, authorization, raw string) (string, error) {
	form, err := g.grants.Identify(ctx, x, authorization, raw)
	if err != nil {
		return "", err
	}
	p := form
	switch {
	case p["request_uri"] != "":
		return "", explain.New(explain.OIDCParameterWrong, explain.Fact("parameter", "request_uri has no place in a pushed request"))
	case p["request"] != "":
		if p, err = g.signedRequest(ctx, x.App, p, x.Rec); err != nil {
			return "", err
		}
	}
	// What would be refused later is refused now, where the client can still do something about it.
	if _, err := oidc.ReadRequest(p, Registered(x.App), x.Rec); err != nil {
		return "", err
	}
	for _, name := range []string{"client_secret", "client_assertion", "client_assertion_type"} {
		delete(p, name)
	}
	handle := keys.NewSecret()
	row := store.PushedRequest{Handle: handle, ApplicationID: x.App.ID, ExpiresAt: g.Now().Add(pushedLife).UTC()}
	row.Sealed = g.Store.Sealer.Seal(store.PlacePushed, handle, []byte(ground.MustJSON(p)))
	return handle, g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := partners.UseUpAssertion(tx, x.App, x.Used); err != nil {
			return err
		}
		var held int64
		if err := tx.Model(&store.PushedRequest{}).Where("application_id = ? AND expires_at > ?", x.App.ID,
			g.Now().UTC()).Count(&held).Error; err != nil {
			return err
		}
		if err := g.grants.RoomToPush(x, held); err != nil {
			return err
		}
		return tx.Create(&row).Error
	})
}
