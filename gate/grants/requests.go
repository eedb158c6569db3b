package grants

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"time"

	"gorm.io/gorm"

	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/keys"
	"innergate/core/oidc"
	"innergate/core/trace"
	"innergate/gate/ground"
	"innergate/gate/partners"
	"innergate/store"
)

// Push takes a client's authorization request beforehand and gives out a reference to it (RFC 9126).
func (g *Room) Push(ctx context.Context, authorization, raw, from string) *OAuthAnswer {
	x := g.NewExchange("par", authorization, raw, from)
	handle, err := g.push(ctx, x, authorization, raw)
	if err != nil {
		return g.RefusedExchange(ctx, x, err)
	}
	return &OAuthAnswer{
		Status: http.StatusCreated,
		Body:   map[string]any{"request_uri": oidc.RequestURI + handle, "expires_in": int(pushedLife.Seconds())},
	}
}

func (g *Room) push(ctx context.Context, x *Exchange, authorization, raw string) (string, error) {
	form, err := g.Identify(ctx, x, authorization, raw)
	if err != nil {
		return "", err
	}
	p := form
	switch {
	case p["request_uri"] != "":
		return "", explain.New(explain.OIDCParameterWrong, explain.Fact("parameter", "request_uri has no place in a pushed request"))
	case p["request"] != "":
		if p, err = g.SignedRequest(ctx, x.App, p, x.Rec); err != nil {
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
		if err := g.RoomToPush(x, held); err != nil {
			return err
		}
		return tx.Create(&row).Error
	})
}

// pushedLife is how long a pushed request waits.
const pushedLife = 90 * time.Second

// Registered is what requests of a client are held against.
func Registered(app *partners.Application) oidc.Registered {
	o := app.OIDC
	return oidc.Registered{
		Partner:      app.Name,
		ClientID:     o.ClientID,
		RedirectURIs: o.RedirectURIs,
		Native:       o.Native,
		RequirePKCE:  !o.WithoutPKCE,
		Scopes:       o.Scopes,
	}
}

// TakePushed uses a pushed request up: once, and for its own client only.
func (g *Room) TakePushed(ctx context.Context, app *partners.Application, handle string) (oidc.Parameters, error) {
	var rows []store.PushedRequest
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Raw("DELETE FROM pushed_requests WHERE handle = ? AND application_id = ? AND expires_at > ? RETURNING *", handle,
			app.ID, g.Now().UTC()).
			Scan(&rows).
			Error
	})
	if err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		return nil, explain.New(explain.OIDCPushedUnknown).Of(app.Name)
	}
	sealed, err := g.Store.Sealer.Open(store.PlacePushed, handle, rows[0].Sealed)
	if err != nil {
		return nil, err
	}
	return ground.DecodeBody[oidc.Parameters](string(sealed))
}

// SignedRequest reads a request that the client has signed (RFC 9101).
func (g *Room) SignedRequest(
	ctx context.Context,
	app *partners.Application,
	p oidc.Parameters,
	rec *trace.Recorder,
) (oidc.Parameters, error) {
	set, err := g.partners.ClientKeys(ctx, app, false)
	if err != nil {
		return nil, explain.OfPartner(err, app.Name)
	}
	return oidc.ReadRequestObject(
		p["request"],
		oidc.ObjectRules{
			Partner:  app.Name,
			ClientID: app.OIDC.ClientID,
			Issuer:   g.partners.Issuer(),
			Keys:     set,
			Now:      g.Now(),
			Skew:     partners.Skew(app.OIDC.ClockSkewSeconds),
		},
		rec,
	)
}

// ReadHint reads an ID token of ours that comes back as a hint. It may be over (OpenID Connect RP-Initiated Logout 1.0,
// section 2); it must be ours, and this client's.
func (g *Room) ReadHint(ctx context.Context, app *partners.Application, hint string) (subject, session string, err error) {
	set, err := g.keyring.OurKeys(ctx)
	if err != nil {
		return "", "", err
	}
	parsed, err := jose.Parse(hint)
	if err != nil {
		return "", "", err
	}
	token, err := parsed.Verify(
		jose.Rules{Algorithms: []string{jose.RS256, jose.PS256, jose.ES256, jose.EdDSA}, Types: []string{jose.TypeID}, Keys: set},
	)
	if err != nil {
		return "", "", err
	}
	issuer, _ := token.Claims.Text("iss")
	audience, _ := token.Claims.Texts("aud")
	subject, _ = token.Claims.Text("sub")
	session, _ = token.Claims.Text("sid")
	if issuer != g.partners.Issuer() || subject == "" || token.Claims.Has("events") || !token.Claims.Has("exp") ||
		!slices.Contains(audience, app.OIDC.ClientID) {
		return "", "", fmt.Errorf("the token is not an ID token for this client")
	}
	return subject, session, nil
}
