package gate

import (
	"context"
	"crypto/rand"
	"net/http"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/keys"
	"innergate/core/oidc"
	"innergate/core/trace"
	"innergate/store"
)

// Discovery is our discovery document.
func (g *Gate) Discovery(ctx context.Context) (*oidc.Offered, error) {
	on, err := g.RegistrationOn(ctx)
	if err != nil {
		return nil, err
	}
	o := oidc.Offer(g.Issuer(), config.Scopes, config.SigningAlgorithms, on)
	return &o, nil
}

// Push takes a client's authorization request beforehand and gives out a reference to it (RFC 9126).
func (g *Gate) Push(ctx context.Context, authorization, raw, from string) *OAuthAnswer {
	x := g.newExchange("par", authorization, raw, from)
	handle, err := g.push(ctx, x, authorization, raw)
	if err != nil {
		return g.refusedExchange(ctx, x, err)
	}
	return &OAuthAnswer{Status: http.StatusCreated, Body: map[string]any{"request_uri": oidc.RequestURI + handle, "expires_in": int(pushedLife.Seconds())}}
}

func (g *Gate) push(ctx context.Context, x *exchange, authorization, raw string) (string, error) {
	form, err := g.identify(ctx, x, authorization, raw)
	if err != nil {
		return "", err
	}
	p := form
	switch {
	case p["request_uri"] != "":
		return "", explain.New("oidc.parameter-wrong", explain.Fact("parameter", "request_uri has no place in a pushed request"))
	case p["request"] != "":
		if p, err = g.signedRequest(ctx, x.app, p, x.rec); err != nil {
			return "", err
		}
	}
	// What would be refused later is refused now, where the client can still do something about it.
	if _, err := oidc.ReadRequest(p, registered(x.app), x.rec); err != nil {
		return "", err
	}
	for _, name := range []string{"client_secret", "client_assertion", "client_assertion_type"} {
		delete(p, name)
	}
	handle := keys.NewSecret()
	row := store.PushedRequest{Handle: handle, ApplicationID: x.app.id, ExpiresAt: g.Now().Add(pushedLife).UTC()}
	row.Sealed = g.Store.Sealer.Seal("pushed/"+handle, []byte(mustJSON(p)))
	return handle, g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := useUpAssertion(tx, x.app, x.used); err != nil {
			return err
		}
		var held int64
		if err := tx.Model(&store.PushedRequest{}).Where("application_id = ? AND expires_at > ?", x.app.id, g.Now().UTC()).Count(&held).Error; err != nil {
			return err
		}
		if held > 10000 {
			return explain.New("gate.busy", explain.Fact("client", x.app.Name))
		}
		return tx.Create(&row).Error
	})
}

// bearerError is the answer to a bad access token (RFC 6750, section 3.1).
func bearerError(status int, code, description string) *OAuthAnswer {
	challenge := `Bearer realm="Inner Gate"`
	if code == "" {
		return &OAuthAnswer{Status: status, Challenge: challenge} // who shows nothing is told no more than what to show
	}
	challenge += `, error="` + code + `", error_description="` + description + `"`
	return &OAuthAnswer{Status: status, Body: map[string]string{"error": code, "error_description": description}, Challenge: challenge}
}

// UserInfo tells about the person of an access token (OpenID Connect Core 1.0, section 5.3). Everything that was true at the sign-in is asked again.
func (g *Gate) UserInfo(ctx context.Context, bearer string) (*OAuthAnswer, error) {
	if bearer == "" {
		return bearerError(http.StatusUnauthorized, "", ""), nil
	}
	t, err := g.tokenBy(ctx, bearer)
	if err != nil {
		return nil, err
	}
	if t == nil || t.kind != "access" || !g.Now().Before(t.ends) {
		return bearerError(http.StatusUnauthorized, "invalid_token", "The access token is not known here, or is over."), nil
	}
	h := t.heldGrant
	why := g.over(h)
	if why == "" {
		if why, err = g.outOfCircle(ctx, h); err != nil {
			return nil, err
		}
	}
	if why != "" {
		return bearerError(http.StatusUnauthorized, "invalid_token", "The sign-in of this access token is over: "+why+"."), nil
	}
	scopes := strings.Fields(t.scope)
	if !slices.Contains(scopes, oidc.ScopeOpenID) {
		return bearerError(http.StatusForbidden, "insufficient_scope", "UserInfo needs the scope openid."), nil
	}
	values, err := g.claimsOf(ctx, h, place{claims.PlaceUserInfo, scopes, h.body.UserInfoClaims, false}, nil)
	if err != nil {
		return nil, err
	}
	values["sub"] = h.Subject
	o := h.app.OIDC
	if !o.SignedUserInfo {
		return &OAuthAnswer{Status: http.StatusOK, Body: values}, nil
	}
	values["iss"], values["aud"], values["iat"] = g.Issuer(), o.ClientID, g.Now().Unix()
	signer, err := g.tokenSigner(ctx, purposeOf(o.Algorithm), "", o.Algorithm)
	if err != nil {
		return nil, err
	}
	token, err := signer.Sign(jose.TypeID, values) // no exp, so that it never passes for an ID token
	return &OAuthAnswer{Status: http.StatusOK, Token: token}, err
}

// Introspect tells a client about a token (RFC 7662): about its own, or about one that was made for it. About another's it learns no more than about one that
// does not exist.
func (g *Gate) Introspect(ctx context.Context, authorization, raw, from string) *OAuthAnswer {
	x := g.newExchange("introspect", authorization, raw, from)
	body, err := g.introspect(ctx, x, authorization, raw)
	if err != nil {
		return g.refusedExchange(ctx, x, err)
	}
	return &OAuthAnswer{Status: http.StatusOK, Body: body}
}

func (g *Gate) introspect(ctx context.Context, x *exchange, authorization, raw string) (map[string]any, error) {
	form, err := g.identify(ctx, x, authorization, raw)
	if err != nil {
		return nil, err
	}
	if !x.app.OIDC.Introspection {
		return nil, explain.New("oidc.not-allowed", explain.Fact("endpoint", "introspection is off for this client"))
	}
	if err := g.useAssertion(ctx, x); err != nil {
		return nil, err
	}
	inactive := map[string]any{"active": false}
	t, err := g.tokenBy(ctx, form["token"])
	if err != nil || t == nil || t.used || !g.Now().Before(t.ends) || g.over(t.heldGrant) != "" {
		return inactive, err
	}
	h := t.heldGrant
	if why, err := g.outOfCircle(ctx, h); why != "" || err != nil {
		return inactive, err
	}
	if h.ApplicationID != x.app.id && (t.kind != "access" || h.app.OIDC.Audience != x.app.OIDC.ClientID) {
		return inactive, nil
	}
	out := map[string]any{"active": true, "iss": g.Issuer(), "client_id": h.app.OIDC.ClientID, "sub": h.Subject, "scope": t.scope, "exp": t.ends.Unix(), "iat": t.created.Unix()}
	if t.kind == "access" {
		out["token_type"] = "Bearer"
		out["aud"] = h.app.OIDC.ClientID
		if h.app.OIDC.Audience != "" {
			out["aud"] = h.app.OIDC.Audience
		}
	}
	return out, nil
}

// useAssertion uses a client's assertion up where nothing else is written.
func (g *Gate) useAssertion(ctx context.Context, x *exchange) error {
	if x.used == nil {
		return nil
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error { return useUpAssertion(tx, x.app, x.used) })
}

// Revoke takes a token back (RFC 7009): an access token alone, a refresh token with everything that came of its sign-in. That a token is not known is no error.
func (g *Gate) Revoke(ctx context.Context, authorization, raw, from string) *OAuthAnswer {
	x := g.newExchange("revoke", authorization, raw, from)
	if err := g.revoke(ctx, x, authorization, raw); err != nil {
		return g.refusedExchange(ctx, x, err)
	}
	return &OAuthAnswer{Status: http.StatusOK}
}

func (g *Gate) revoke(ctx context.Context, x *exchange, authorization, raw string) error {
	form, err := g.identify(ctx, x, authorization, raw)
	if err != nil {
		return err
	}
	if form["token"] == "" {
		return explain.New("oidc.parameter-wrong", explain.Fact("parameter", "token is missing"))
	}
	t, err := g.tokenBy(ctx, form["token"])
	if err != nil {
		return err
	}
	now := g.Now().UTC()
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := useUpAssertion(tx, x.app, x.used); err != nil {
			return err
		}
		switch {
		case t == nil || t.ApplicationID != x.app.id:
			return nil
		case t.kind == "refresh":
			return endGrant(tx, t.ID, "its refresh token was taken back by the client", now)
		}
		return tx.Where("hash = ?", keys.HashSecret(form["token"])).Delete(&store.Token{}).Error
	})
}

const deviceLife, deviceInterval = 10 * time.Minute, 5

// Device begins a sign-in on another device (RFC 8628, section 3.1).
func (g *Gate) Device(ctx context.Context, authorization, raw, from string) *OAuthAnswer {
	x := g.newExchange("device", authorization, raw, from)
	body, err := g.device(ctx, x, authorization, raw)
	if err != nil {
		return g.refusedExchange(ctx, x, err)
	}
	return &OAuthAnswer{Status: http.StatusOK, Body: body}
}

func (g *Gate) device(ctx context.Context, x *exchange, authorization, raw string) (map[string]any, error) {
	form, err := g.identify(ctx, x, authorization, raw)
	if err != nil {
		return nil, err
	}
	if !x.app.OIDC.DeviceGrant {
		return nil, explain.New("oidc.not-allowed", explain.Fact("grant", "the device grant is off for this client"))
	}
	asked := strings.Fields(form["scope"])
	if !slices.Contains(asked, oidc.ScopeOpenID) {
		return nil, explain.New("oidc.scope-openid", explain.Pair("scope", oidc.ScopeOpenID, clipText(form["scope"], 200)))
	}
	scopes := slices.DeleteFunc(asked, func(s string) bool { return s != oidc.ScopeOpenID && !slices.Contains(x.app.OIDC.Scopes, s) })
	code, user := keys.NewSecret(), newUserCode()
	now := g.Now().UTC()
	row := store.DeviceCode{Hash: keys.HashSecret(code), UserCode: user, ApplicationID: x.app.id, Scope: scopesText(scopes), State: "waiting", Interval: deviceInterval, CreatedAt: now, ExpiresAt: now.Add(deviceLife)}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := useUpAssertion(tx, x.app, x.used); err != nil {
			return err
		}
		var open int64
		if err := tx.Model(&store.DeviceCode{}).Where("application_id = ? AND expires_at > ?", x.app.id, now).Count(&open).Error; err != nil {
			return err
		}
		if open > 1000 {
			return explain.New("gate.busy", explain.Fact("client", x.app.Name))
		}
		return tx.Create(&row).Error
	})
	if err != nil {
		return nil, err
	}
	return map[string]any{"device_code": code, "user_code": user, "verification_uri": g.PublicURL + "/device", "verification_uri_complete": g.PublicURL + "/device?code=" + user, "expires_in": int(deviceLife.Seconds()), "interval": deviceInterval}, nil
}

// newUserCode makes a code that people type: eight consonants, which spell no words (RFC 8628, section 6.1).
func newUserCode() string {
	const letters = "BCDFGHJKLMNPQRSTVWXZ"
	var b [8]byte
	rand.Read(b[:]) // never fails (crypto/rand)
	for i := range b {
		b[i] = letters[int(b[i])%len(letters)]
	}
	return string(b[:4]) + "-" + string(b[4:])
}

// BeginDevice begins the sign-in for a code that a person has typed. Guesses are counted.
func (g *Gate) BeginDevice(ctx context.Context, b Browser, typed string) *Next {
	s := g.begin(b, "sp")
	user := strings.ToUpper(strings.NewReplacer(" ", "", "-", "").Replace(typed))
	if len(user) == 8 {
		user = user[:4] + "-" + user[4:]
	}
	if err := g.guessing(ctx, "device:"+b.Address, 20); err != nil {
		return g.failed(ctx, s, explain.New("gate.busy", explain.Fact("address", b.Address)))
	}
	var row store.DeviceCode
	if err := g.Store.Read(ctx).Where("user_code = ? AND state = 'waiting' AND expires_at > ?", user, g.Now().UTC()).Limit(1).Find(&row).Error; err != nil {
		return g.failed(ctx, s, store.Clear(err))
	}
	if row.UserCode == "" {
		return g.failed(ctx, s, explain.New("oidc.device-over"))
	}
	g.guessed(ctx, "device:"+b.Address)
	app, err := g.applicationByID(ctx, row.ApplicationID)
	if err != nil {
		return g.failed(ctx, s, err)
	}
	s.app = app
	s.state.Asked = &oidc.Request{ClientID: app.OIDC.ClientID, Scopes: strings.Fields(row.Scope)}
	s.state.Device = row.Hash
	s.row.ApplicationID, s.row.RequestID = app.id, "device:"+s.id
	s.rec.Decide(trace.Decision{About: "device", Result: "code " + row.UserCode, By: "typed by the person"})
	return g.route(ctx, s, "")
}

// grantDevice gives the waiting device its grant, once.
func (g *Gate) grantDevice(tx *gorm.DB, s *signIn, grant *store.Grant) error {
	if len(s.state.Device) == 0 {
		return nil
	}
	done := tx.Exec("UPDATE device_codes SET state = 'granted', grant_id = ? WHERE hash = ? AND state = 'waiting' AND expires_at > ?", grant.ID, s.state.Device, g.Now().UTC())
	if done.Error == nil && done.RowsAffected == 0 {
		return explain.New("oidc.device-over").Of(s.app.Name)
	}
	return done.Error
}

func (g *Gate) denyDevice(ctx context.Context, s *signIn) error {
	if len(s.state.Device) == 0 {
		return nil
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE device_codes SET state = 'denied' WHERE hash = ? AND state = 'waiting'", s.state.Device).Error
	})
}

// redeemDevice answers a device that asks whether somebody has signed in (RFC 8628, section 3.5).
func (g *Gate) redeemDevice(ctx context.Context, x *exchange, form oidc.Parameters) (*OAuthAnswer, error) {
	if !x.app.OIDC.DeviceGrant {
		return nil, explain.New("oidc.not-allowed", explain.Fact("grant", "the device grant is off for this client"))
	}
	now := g.Now().UTC()
	hash := keys.HashSecret(form["device_code"])
	var row store.DeviceCode
	slow := false
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Where("hash = ? AND application_id = ?", hash, x.app.id).Limit(1).Find(&row).Error; err != nil || row.UserCode == "" || row.State != "waiting" {
			return err
		}
		// A second of tolerance for a client's clock and the way.
		if slow = row.PolledAt != nil && now.Sub(*row.PolledAt) < time.Duration(row.Interval-1)*time.Second; slow {
			row.Interval += 5
		}
		return tx.Exec("UPDATE device_codes SET polled_at = ?, interval = ? WHERE hash = ?", now, row.Interval, hash).Error
	})
	switch {
	case err != nil:
		return nil, err
	case row.UserCode == "" || !now.Before(row.ExpiresAt):
		return nil, explain.New("oidc.device-over")
	case row.State == "denied":
		return nil, explain.New("oidc.confirm-denied")
	case slow:
		return nil, explain.New("oidc.device-slow")
	case row.State == "waiting":
		return nil, explain.New("oidc.device-pending")
	}
	if x.grant, err = g.grantByID(ctx, row.GrantID); err != nil || x.grant == nil {
		return nil, cmpErr(err, explain.New("oidc.device-over"))
	}
	return g.giveTokens(ctx, x, x.grant.body.Scopes, func(tx *gorm.DB, _ time.Time) error {
		gone := tx.Where("hash = ?", hash).Delete(&store.DeviceCode{})
		if gone.Error == nil && gone.RowsAffected == 0 {
			return errAgain
		}
		return gone.Error
	}, func(context.Context, *heldGrant) error { return explain.New("oidc.device-over") }) // a device that asks twice at once keeps what it has got
}

func cmpErr(err, other error) error {
	if err != nil {
		return err
	}
	return other
}
