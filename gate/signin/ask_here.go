package signin

import (
	"context"
	"strings"

	"gorm.io/gorm"

	"innergate/core/explain"
	"innergate/core/oidc"
	"innergate/core/trace"
	"innergate/gate/ground"
	"innergate/gate/issued"
	"innergate/store"
)

// Start begins at the gate, as a tile does: the person signs in and the application gets an unsolicited response, or,
// if it takes none, the person is sent to the application's own address.
func (g *Room) Start(ctx context.Context, b Browser, slug, to string) *Next {
	s := g.Begin(b, "idp")
	return g.Walk(ctx, s, func(ctx context.Context, s *SignIn) (*Next, error) {
		app, err := g.partners.Application(ctx, slug)
		if ground.IsNotFound(err) {
			return nil, explain.New(explain.SAMLApplicationUnknown, explain.Fact("short name", slug))
		}
		if err != nil {
			return nil, err
		}
		s.App = app
		return g.ApplicationSide(app).Start(ctx, s, to)
	}, g.Outward)
}

// BeginConsole begins a sign-in to the console through a provider.
func (g *Room) BeginConsole(ctx context.Context, b Browser, slug string) *Next {
	s := g.Begin(b, "idp")
	return g.Walk(ctx, s, func(ctx context.Context, s *SignIn) (*Next, error) {
		app, err := g.partners.ConsoleApplication(ctx)
		if err != nil {
			return nil, err
		}
		s.App = app
		s.State.Asked = &oidc.Request{ClientID: app.OIDC.ClientID, Scopes: []string{oidc.ScopeOpenID}}
		s.State.Console = true
		s.Row.ApplicationID, s.Row.RequestID = app.ID, "console:"+s.ID
		s.Choose(slug)
		return nil, nil
	}, g.Outward)
}

// BeginDevice begins the sign-in for the code of another device (RFC 8628, section 3.3). Linked is set where the code came
// with a link and nobody typed it. Guesses are counted.
func (g *Room) BeginDevice(ctx context.Context, b Browser, code string, linked bool) *Next {
	s := g.Begin(b, "sp")
	s.State.Linked = linked
	return g.Walk(ctx, s, Failing(g.askDevice(ctx, s, code)), g.Outward)
}

func (g *Room) askDevice(ctx context.Context, s *SignIn, typed string) error {
	user := strings.ToUpper(strings.NewReplacer(" ", "", "-", "").Replace(typed))
	if len(user) == 8 {
		user = user[:4] + "-" + user[4:]
	}
	guesses := "device:" + s.Browser.Address
	if err := g.Guessing(ctx, guesses, 20); err != nil {
		return explain.New(explain.GateBusy, explain.Fact("address", s.Browser.Address))
	}
	var row store.DeviceCode
	waiting := g.Store.Read(ctx).Where("user_code = ? AND state = 'waiting' AND expires_at > ?", user, g.Now().UTC())
	if err := waiting.Limit(1).Find(&row).Error; err != nil {
		return store.Clear(err)
	}
	if row.UserCode == "" {
		return explain.New(explain.OIDCDeviceOver)
	}
	g.Guessed(ctx, guesses)
	app, err := g.partners.ApplicationByID(ctx, row.ApplicationID)
	if err != nil {
		return err
	}
	s.App = app
	s.State.Asked = &oidc.Request{ClientID: app.OIDC.ClientID, Scopes: strings.Fields(row.Scope)}
	s.State.Device = row.Hash
	s.Row.ApplicationID, s.Row.RequestID = app.ID, "device:"+s.ID
	by := "typed by the person"
	if s.State.Linked {
		by = "brought by a link"
	}
	s.Rec.Decide(trace.Decision{About: "device", Result: "code " + row.UserCode, By: by})
	return nil
}

// grantDevice gives the waiting device its grant, once.
func (g *Room) grantDevice(tx *gorm.DB, s *SignIn, grant *store.Grant) error {
	if len(s.State.Device) == 0 {
		return nil
	}
	waited, err := issued.GrantDevice(tx, s.State.Device, grant.ID, g.Now().UTC())
	if err == nil && waited == 0 {
		return explain.New(explain.OIDCDeviceOver).Of(s.App.Name)
	}
	return err
}

func (g *Room) denyDevice(ctx context.Context, s *SignIn) error {
	if len(s.State.Device) == 0 {
		return nil
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		return issued.DenyDevice(tx, s.State.Device)
	})
}
