package signin

import (
	"context"
	"net/http"
	"strings"

	"gorm.io/gorm"

	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/oidc"
	"innergate/core/trace"
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
		return "", explain.New("oidc.parameter-wrong", explain.Fact("parameter", "request_uri has no place in a pushed request"))
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
	row.Sealed = g.Store.Sealer.Seal("pushed/"+handle, []byte(ground.MustJSON(p)))
	return handle, g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := partners.UseUpAssertion(tx, x.App, x.Used); err != nil {
			return err
		}
		var held int64
		if err := tx.Model(&store.PushedRequest{}).Where("application_id = ? AND expires_at > ?", x.App.ID,
			g.Now().UTC()).Count(&held).Error; err != nil {
			return err
		}
		if held > 10000 {
			return explain.New("gate.busy", explain.Fact("client", x.App.Name))
		}
		return tx.Create(&row).Error
	})
}

// BeginDevice begins the sign-in for a code that a person has typed. Guesses are counted.
func (g *Room) BeginDevice(ctx context.Context, b Browser, typed string) *Next {
	s := g.Begin(b, "sp")
	user := strings.ToUpper(strings.NewReplacer(" ", "", "-", "").Replace(typed))
	if len(user) == 8 {
		user = user[:4] + "-" + user[4:]
	}
	if err := g.Guessing(ctx, "device:"+b.Address, 20); err != nil {
		return g.Failed(ctx, s, explain.New("gate.busy", explain.Fact("address", b.Address)))
	}
	var row store.DeviceCode
	if err := g.Store.Read(ctx).Where("user_code = ? AND state = 'waiting' AND expires_at > ?", user,
		g.Now().UTC()).Limit(1).Find(&row).Error; err != nil {
		return g.Failed(ctx, s, store.Clear(err))
	}
	if row.UserCode == "" {
		return g.Failed(ctx, s, explain.New("oidc.device-over"))
	}
	g.Guessed(ctx, "device:"+b.Address)
	app, err := g.partners.ApplicationByID(ctx, row.ApplicationID)
	if err != nil {
		return g.Failed(ctx, s, err)
	}
	s.App = app
	s.State.Asked = &oidc.Request{ClientID: app.OIDC.ClientID, Scopes: strings.Fields(row.Scope)}
	s.State.Device = row.Hash
	s.Row.ApplicationID, s.Row.RequestID = app.ID, "device:"+s.ID
	s.Rec.Decide(trace.Decision{About: "device", Result: "code " + row.UserCode, By: "typed by the person"})
	return g.Route(ctx, s, "")
}

// grantDevice gives the waiting device its grant, once.
func (g *Room) grantDevice(tx *gorm.DB, s *SignIn, grant *store.Grant) error {
	if len(s.State.Device) == 0 {
		return nil
	}
	done := tx.Exec(
		"UPDATE device_codes SET state = 'granted', grant_id = ? WHERE hash = ? AND state = 'waiting' AND expires_at > ?",
		grant.ID,
		s.State.Device,
		g.Now().UTC(),
	)
	if done.Error == nil && done.RowsAffected == 0 {
		return explain.New("oidc.device-over").Of(s.App.Name)
	}
	return done.Error
}

func (g *Room) denyDevice(ctx context.Context, s *SignIn) error {
	if len(s.State.Device) == 0 {
		return nil
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE device_codes SET state = 'denied' WHERE hash = ? AND state = 'waiting'", s.State.Device).Error
	})
}
