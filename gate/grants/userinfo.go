package grants

import (
	"context"
	"crypto/rand"
	"net/http"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/keys"
	"innergate/core/oidc"
	"innergate/core/sheet"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/issued"
	"innergate/gate/keyring"
	"innergate/gate/partners"
	"innergate/gate/traces"
	"innergate/store"
)

// Discovery is our discovery document.
func (g *Room) Discovery(ctx context.Context) (*oidc.Offered, error) {
	on, err := g.RegistrationOn(ctx)
	if err != nil {
		return nil, err
	}
	o := oidc.Offer(g.partners.Issuer(), config.Scopes, config.SigningAlgorithms, on)
	return &o, nil
}

// BearerError is the answer to a bad access token (RFC 6750, section 3.1).
func BearerError(status int, code, description string) *OAuthAnswer {
	challenge := `Bearer realm="Inner Gate"`
	if code == "" {
		return &OAuthAnswer{Status: status, Challenge: challenge} // who shows nothing is told no more than what to show
	}
	challenge += `, error="` + code + `", error_description="` + description + `"`
	return &OAuthAnswer{Status: status, Body: map[string]string{"error": code, "error_description": description}, Challenge: challenge}
}

// UserInfo tells about the person of an access token (OpenID Connect Core 1.0, section 5.3). Everything that was true
// at the sign-in is asked again.
func (g *Room) UserInfo(ctx context.Context, bearer string) (*OAuthAnswer, error) {
	if bearer == "" {
		return BearerError(http.StatusUnauthorized, "", ""), nil
	}
	t, err := g.TokenBy(ctx, bearer)
	if err != nil {
		return nil, err
	}
	if t == nil || t.Kind != "access" || !g.Now().Before(t.Ends) {
		return BearerError(http.StatusUnauthorized, "invalid_token", "The access token is not known here, or is over."), nil
	}
	h := t.HeldGrant
	why := g.Over(h)
	if why == "" {
		if why, err = g.unassigned(ctx, h); err != nil {
			return nil, err
		}
	}
	if why != "" {
		return BearerError(http.StatusUnauthorized, "invalid_token", "The sign-in of this access token is over: "+why+"."), nil
	}
	scopes := strings.Fields(t.scope)
	if !slices.Contains(scopes, oidc.ScopeOpenID) {
		return BearerError(http.StatusForbidden, "insufficient_scope", "UserInfo needs the scope openid."), nil
	}
	var rec *trace.Recorder
	if g.firstUse(t.hash) {
		rec = trace.NewRecorder(g.Now(), g.Now)
		rec.Begin(trace.Issue)
	}
	_, place := Places(h.App.OIDC, scopes, h.Body)
	values, err := g.claimsOf(ctx, h, place, rec)
	if err != nil {
		return nil, err
	}
	values["sub"] = h.Subject
	g.noteUserInfo(ctx, h, values, rec)
	o := h.App.OIDC
	if !o.SignedUserInfo {
		return &OAuthAnswer{Status: http.StatusOK, Body: values}, nil
	}
	values["iss"], values["aud"], values["iat"] = g.partners.Issuer(), o.ClientID, g.Now().Unix()
	signer, err := g.keyring.TokenSigner(ctx, h.App.Approval(), keyring.PurposeOf(o.Algorithm), o.Algorithm)
	if err != nil {
		return nil, err
	}
	token, err := signer.Sign(jose.TypeID, values) // no exp, so that it never passes for an ID token
	return &OAuthAnswer{Status: http.StatusOK, Token: token}, err
}

// firstUse says whether an access token is used for the first time since the gate started, as far as it remembers: each use
// would be too much to write down.
func (g *Room) firstUse(hash [32]byte) bool {
	g.used.Lock()
	defer g.used.Unlock()
	if g.used.tokens[hash] {
		return false
	}
	if g.used.tokens == nil || len(g.used.tokens) >= tokensRemembered {
		g.used.tokens = map[[32]byte]bool{}
	}
	g.used.tokens[hash] = true
	return true
}

// tokensRemembered is of how many access tokens the gate remembers that they were used.
const tokensRemembered = 50_000

// noteUserInfo writes into the trace of the sign-in what UserInfo said, and what it withheld.
func (g *Room) noteUserInfo(ctx context.Context, h *HeldGrant, values map[string]any, rec *trace.Recorder) {
	if rec == nil {
		return
	}
	rec.Message(trace.Message{
		From: trace.Gate, To: trace.Application, Name: "UserInfo response", Binding: "GET", Address: g.PublicURL + "/oidc/userinfo",
		Raw: oidc.ShownContent(values),
	})
	addition, err := g.traceAddition(h.TraceID, rec)
	if err == nil {
		err = g.Store.Traces.Write(ctx, func(tx *gorm.DB) error { return traces.Add(tx, addition) })
	}
	if err != nil {
		g.Log.WarnContext(ctx, "a call of UserInfo could not be written down", "error", err)
	}
}

// Introspect tells a client about a token (RFC 7662): about its own, or about one that was made for it. About another's
// it learns no more than about one that does not exist.
func (g *Room) Introspect(ctx context.Context, authorization, raw, from string) *OAuthAnswer {
	x := g.NewExchange("introspect", authorization, raw, from)
	body, err := g.introspect(ctx, x, authorization, raw)
	if err != nil {
		return g.RefusedExchange(ctx, x, err)
	}
	return &OAuthAnswer{Status: http.StatusOK, Body: body}
}

func (g *Room) introspect(ctx context.Context, x *Exchange, authorization, raw string) (map[string]any, error) {
	form, err := g.Identify(ctx, x, authorization, raw)
	if err != nil {
		return nil, err
	}
	if !x.App.OIDC.Introspection {
		return nil, explain.New(explain.OIDCNotAllowed, explain.Fact("endpoint", "introspection is off for this client"))
	}
	if form["token"] == "" {
		return nil, explain.New(explain.OIDCParameterWrong, explain.Fact("parameter", "token is missing"))
	}
	if err := g.useAssertion(ctx, x); err != nil {
		return nil, err
	}
	inactive := map[string]any{"active": false}
	t, err := g.TokenBy(ctx, form["token"])
	if err != nil || t == nil || t.used || !g.Now().Before(t.Ends) || g.Over(t.HeldGrant) != "" {
		return inactive, err
	}
	h := t.HeldGrant
	if why, err := g.unassigned(ctx, h); why != "" || err != nil {
		return inactive, err
	}
	if h.ApplicationID != x.App.ID && (t.Kind != "access" || h.App.OIDC.Audience != x.App.OIDC.ClientID) {
		return inactive, nil
	}
	out := map[string]any{
		"active":    true,
		"iss":       g.partners.Issuer(),
		"client_id": h.App.OIDC.ClientID,
		"sub":       h.Subject,
		"scope":     t.scope,
		"exp":       t.Ends.Unix(),
		"iat":       t.created.Unix(),
	}
	if t.Kind == "access" {
		out["token_type"] = "Bearer"
		out["aud"] = h.App.OIDC.ClientID
		if h.App.OIDC.Audience != "" {
			out["aud"] = h.App.OIDC.Audience
		}
	}
	return out, nil
}

// useAssertion uses a client's assertion up where nothing else is written.
func (g *Room) useAssertion(ctx context.Context, x *Exchange) error {
	if x.Used == nil {
		return nil
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error { return partners.UseUpAssertion(tx, x.App, x.Used) })
}

// Revoke takes a token back (RFC 7009): an access token alone, a refresh token with everything that came of its
// sign-in. That a token is not known is no error.
func (g *Room) Revoke(ctx context.Context, authorization, raw, from string) *OAuthAnswer {
	x := g.NewExchange("revoke", authorization, raw, from)
	if err := g.revoke(ctx, x, authorization, raw); err != nil {
		return g.RefusedExchange(ctx, x, err)
	}
	return &OAuthAnswer{Status: http.StatusOK}
}

func (g *Room) revoke(ctx context.Context, x *Exchange, authorization, raw string) error {
	form, err := g.Identify(ctx, x, authorization, raw)
	if err != nil {
		return err
	}
	if form["token"] == "" {
		return explain.New(explain.OIDCParameterWrong, explain.Fact("parameter", "token is missing"))
	}
	t, err := g.TokenBy(ctx, form["token"])
	if err != nil {
		return err
	}
	now := g.Now().UTC()
	ours := t != nil && t.ApplicationID == x.App.ID
	var addition *store.TraceAddition
	if ours {
		x.Rec.Decide(trace.Decision{About: "token", Result: "taken back", By: "the client gave back its " + t.Kind + " token"})
		if addition, err = g.traceAddition(t.TraceID, x.Rec); err != nil {
			return err
		}
	}
	if err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := partners.UseUpAssertion(tx, x.App, x.Used); err != nil || !ours {
			return err
		}
		switch t.Kind {
		case "refresh":
			return issued.EndGrant(tx, t.ID, "its refresh token was taken back by the client", now)
		}
		return issued.DeleteToken(tx, keys.HashSecret(form["token"]))
	}); err != nil || !ours {
		return err
	}
	g.traces.KeepAddition(ctx, addition)
	return nil
}

const deviceLife, deviceInterval = 10 * time.Minute, 5

// Device begins a sign-in on another device (RFC 8628, section 3.1).
func (g *Room) Device(ctx context.Context, authorization, raw, from string) *OAuthAnswer {
	x := g.NewExchange("device", authorization, raw, from)
	body, err := g.device(ctx, x, authorization, raw)
	if err != nil {
		return g.RefusedExchange(ctx, x, err)
	}
	return &OAuthAnswer{Status: http.StatusOK, Body: body}
}

func (g *Room) device(ctx context.Context, x *Exchange, authorization, raw string) (map[string]any, error) {
	form, err := g.Identify(ctx, x, authorization, raw)
	if err != nil {
		return nil, err
	}
	if !x.App.OIDC.DeviceGrant {
		return nil, explain.New(explain.OIDCNotAllowed, explain.Fact("grant", "the device grant is off for this client"))
	}
	asked := strings.Fields(form["scope"])
	if !slices.Contains(asked, oidc.ScopeOpenID) {
		return nil, explain.New(explain.OIDCScopeOpenid, explain.Pair("scope", oidc.ScopeOpenID, words.Clip(form["scope"], 200)))
	}
	scopes := slices.DeleteFunc(asked, func(s string) bool { return s != oidc.ScopeOpenID && !slices.Contains(x.App.OIDC.Scopes, s) })
	code, user := keys.NewSecret(), newUserCode()
	now := g.Now().UTC()
	row := store.DeviceCode{
		Hash:          keys.HashSecret(code),
		UserCode:      user,
		ApplicationID: x.App.ID,
		Scope:         sheet.ScopesText(scopes),
		State:         "waiting",
		Interval:      deviceInterval,
		CreatedAt:     now,
		ExpiresAt:     now.Add(deviceLife),
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := partners.UseUpAssertion(tx, x.App, x.Used); err != nil {
			return err
		}
		var open int64
		if err := tx.Model(&store.DeviceCode{}).Where("application_id = ? AND expires_at > ?", x.App.ID,
			now).Count(&open).Error; err != nil {
			return err
		}
		if err := x.roomToOpen(g, "device", open); err != nil {
			return err
		}
		return issued.InsertDevice(tx, &row)
	})
	if err != nil {
		return nil, err
	}
	return map[string]any{
		"device_code":               code,
		"user_code":                 user,
		"verification_uri":          g.PublicURL + "/device",
		"verification_uri_complete": g.PublicURL + "/device?code=" + user,
		"expires_in":                int(deviceLife.Seconds()),
		"interval":                  deviceInterval,
	}, nil
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

// redeemDevice answers a device that asks whether somebody has signed in (RFC 8628, section 3.5).
func (g *Room) redeemDevice(ctx context.Context, x *Exchange, form oidc.Parameters) (*OAuthAnswer, error) {
	if !x.App.OIDC.DeviceGrant {
		return nil, explain.New(explain.OIDCNotAllowed, explain.Fact("grant", "the device grant is off for this client"))
	}
	if form["device_code"] == "" {
		return nil, explain.New(explain.OIDCParameterWrong, explain.Fact("parameter", "device_code is missing"))
	}
	now := g.Now().UTC()
	hash := keys.HashSecret(form["device_code"])
	var row store.DeviceCode
	slow := false
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Where("hash = ? AND application_id = ?", hash, x.App.ID).Limit(1).Find(&row).Error; err != nil || row.UserCode == "" ||
			row.State != "waiting" {
			return err
		}
		// A second of tolerance for a client's clock and the way.
		if slow = row.PolledAt != nil && now.Sub(*row.PolledAt) < time.Duration(row.Interval-1)*time.Second; slow {
			row.Interval += 5
		}
		return issued.PolledDevice(tx, hash, row.Interval, now)
	})
	switch {
	case err != nil:
		return nil, err
	case row.UserCode == "":
		return nil, explain.New(explain.OIDCDeviceUnknown)
	case !now.Before(row.ExpiresAt):
		return nil, explain.New(explain.OIDCDeviceOver)
	case row.State == "denied":
		return nil, explain.New(explain.OIDCConfirmDenied)
	case slow:
		return nil, explain.New(explain.OIDCDeviceSlow)
	case row.State == "waiting":
		return nil, explain.New(explain.OIDCDevicePending)
	}
	if x.grant, err = g.GrantByID(ctx, row.GrantID); err != nil || x.grant == nil {
		return nil, cmpErr(err, explain.New(explain.OIDCDeviceOver))
	}
	return g.giveTokens(ctx, x, x.grant.Body.Scopes, func(tx *gorm.DB, _ time.Time) error {
		return once(issued.UseDevice(tx, hash))
		// a device that asks twice at once keeps what it has got
	}, func(context.Context, *HeldGrant) error { return explain.New(explain.OIDCDeviceUnknown) })
}

func cmpErr(err, other error) error {
	if err != nil {
		return err
	}
	return other
}
