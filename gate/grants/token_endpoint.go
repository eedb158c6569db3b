package grants

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/core/address"
	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/keys"
	"innergate/core/oidc"
	"innergate/core/sheet"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/ground"
	"innergate/gate/issued"
	"innergate/gate/keyring"
	"innergate/gate/partners"
	"innergate/gate/traces"
	"innergate/store"
)

// OAuthAnswer is what an endpoint for clients answers.
type OAuthAnswer struct {
	Status int
	// Body is written as JSON; Token, if set, is sent in its place as application/jwt.
	Body  any
	Token string
	// Challenge is the WWW-Authenticate header, empty for none.
	Challenge string
}

const (
	// IDTokenLife is how long an ID token counts; the others are those of access and refresh tokens.
	IDTokenLife     = 10 * time.Minute
	usualAccessLife = 10 * time.Minute
	refreshIdle     = 30 * 24 * time.Hour
)

// Exchange is one request at an endpoint for clients, on its way.
type Exchange struct {
	Name  string
	Rec   *trace.Recorder
	App   *partners.Application
	grant *HeldGrant
	Used  *oidc.Used
	basic bool
	From  string
	// authenticated is set once the client has proven who it is.
	authenticated bool
	// opened is the ID token that was given, taken apart.
	opened string
	// raw is the form that came.
	raw string
}

// NewExchange begins the record of a call at an endpoint of ours: its name, the Authorization header, the form, and
// where it came from.
func (g *Room) NewExchange(name, authorization, raw, from string) *Exchange {
	x := &Exchange{Name: name, Rec: trace.NewRecorder(g.Now(), g.Now), basic: authorization != "", From: from, raw: raw}
	x.Rec.Begin(trace.Issue)
	if name == "introspect" {
		return x // asked all the time, and written down only where it fails
	}
	shown := oidc.ShownParameters(raw)
	if authorization != "" {
		scheme, _, _ := strings.Cut(authorization, " ")
		shown = "Authorization: " + words.Clip(scheme, 20) + " (not shown)\n\n" + shown
	}
	x.Rec.Message(trace.Message{
		From:    trace.Application,
		To:      trace.Gate,
		Name:    name,
		Binding: "POST",
		Address: g.PublicURL + "/oidc/" + name,
		Raw:     shown,
	})
	return x
}

// RefusedExchange turns a failure into the protocol's answer (RFC 6749, section 5.2), and keeps the trace of it.
func (g *Room) RefusedExchange(ctx context.Context, x *Exchange, err error) *OAuthAnswer {
	var f *explain.Failure
	if !errors.As(err, &f) {
		g.Log.ErrorContext(ctx, "an endpoint for clients failed", "endpoint", x.Name, "error", err)
		return &OAuthAnswer{Status: http.StatusInternalServerError, Body: map[string]string{"error": "server_error"}}
	}
	if x.App != nil {
		f.Of(x.App.Name)
	}
	e := f.Explain()
	answer := &OAuthAnswer{Status: http.StatusBadRequest}
	code := cmp.Or(e.OAuth, "invalid_request")
	proof := strings.HasPrefix(string(f.Code), "oidc.proof") && f.Code != explain.OIDCProofSeveral &&
		f.Code != explain.OIDCProofUnreadable ||
		strings.HasPrefix(string(f.Code), "jwt.") ||
		f.Code == explain.OIDCClientUnknown ||
		f.Code == explain.OIDCKeysUnreachable
	if x.Name == LogoutEndpoint {
		proof, code = false, "invalid_request"
	}
	if proof {
		code = oidc.ErrInvalidClient
	}
	if code == oidc.ErrInvalidClient {
		answer.Status = http.StatusUnauthorized
		if x.basic {
			answer.Challenge = `Basic realm="Inner Gate"`
		}
	}
	said := oidc.Printable(cmp.Or(e.Theirs, e.Cause))
	answer.Body = map[string]string{"error": code, "error_description": said}
	if f.Code == explain.OIDCDevicePending || f.Code == explain.OIDCDeviceSlow {
		return answer
	}
	if x.grant == nil {
		x.grant = g.grantOfRequest(ctx, x)
	}
	reference := g.referenceFor(ctx, x)
	if reference == "" {
		return answer
	}
	answer.Body = map[string]string{"error": code, "error_description": said + " (reference " + reference + ")"}
	x.Rec.Message(trace.Message{
		From:    trace.Gate,
		To:      trace.Application,
		Name:    x.Name + " refused",
		Binding: "POST",
		Raw:     ground.MustJSON(answer.Body),
	})
	x.Rec.Fail(f.Record())
	if err := g.keepExchange(ctx, x, f, reference); err != nil {
		g.Log.ErrorContext(ctx, "a trace could not be kept", "endpoint", x.Name, "code", f.Code, "error", err)
	}
	if x.App != nil && (x.authenticated || x.grant != nil) {
		g.partners.See(ctx, x.App.ID, store.SeenTokenRefused, string(f.Code)+": "+e.Title, reference)
	}
	return answer
}

// grantOfRequest finds the sign-in that a refused token request is about by its code, for its trace: where the client could
// not prove who it is, too, or gave a client ID that nobody has. What was given to another client is not its own.
func (g *Room) grantOfRequest(ctx context.Context, x *Exchange) *HeldGrant {
	form, err := url.ParseQuery(x.raw)
	if err != nil || x.Name != "token" || form.Get("code") == "" {
		return nil
	}
	h, err := g.grantByCode(ctx, keys.HashSecret(form.Get("code")))
	if err != nil || h == nil || x.App != nil && x.App.ID != h.ApplicationID {
		return nil
	}
	return h
}

// referenceFor is the reference of the trace in which a refused request will stand: the one of its sign-in, or a new one. It
// is empty where there is no room for it. A client that has proven who it is has room of its own, whatever strangers send.
func (g *Room) referenceFor(ctx context.Context, x *Exchange) string {
	if x.authenticated && !g.traces.RoomForPartner(x.App.ID) || !x.authenticated && !g.traces.RoomForStranger(x.From) {
		return ""
	}
	if x.grant == nil {
		return trace.NewReference()
	}
	return g.traces.ReferenceOf(ctx, x.grant.TraceID)
}

// keepExchange stores what was refused: with the sign-in's trace, which then is no longer one that went well, or as a trace of
// its own.
func (g *Room) keepExchange(ctx context.Context, x *Exchange, f *explain.Failure, reference string) error {
	if x.grant == nil {
		t, err := g.Refusals.ClientTrace(x.From, x.Rec, x.App, x.authenticated, string(f.Code))
		if err != nil {
			return err
		}
		t.Reference = reference
		return g.Store.Traces.Write(ctx, func(tx *gorm.DB) error { return traces.Insert(tx, t) })
	}
	a, err := g.traceAddition(x.grant.TraceID, x.Rec)
	if err != nil {
		return err
	}
	a.Code = string(f.Code)
	if x.Name == "token" {
		return g.traces.KeepRefusedTaking(ctx, a, f.Code)
	}
	return g.Store.Traces.Write(ctx, func(tx *gorm.DB) error { return traces.Add(tx, a) })
}

// Token is the token endpoint (RFC 6749, section 3.2).
func (g *Room) Token(ctx context.Context, authorization, raw, from string) *OAuthAnswer {
	x := g.NewExchange("token", authorization, raw, from)
	answer, err := g.token(ctx, x, authorization, raw)
	if err != nil {
		return g.RefusedExchange(ctx, x, err)
	}
	return answer
}

// Identify reads a request's form and finds out which client sends it.
func (g *Room) Identify(ctx context.Context, x *Exchange, authorization, raw string) (oidc.Parameters, error) {
	form, err := oidc.ReadParameters(raw)
	if err != nil {
		return nil, err
	}
	x.App, x.Used, err = g.partners.Client(ctx, authorization, form, x.Rec)
	x.authenticated = err == nil && x.App.OIDC.Authentication != oidc.AuthNone
	return form, err
}

// mostOpen is how many device codes or pushed requests of one client may wait.
const mostOpen = 10_000

// roomToOpen refuses a client for which too much waits. Anybody can speak for a client that proves nothing; so each
// network has a budget of its own there, and what strangers open never counts against those who come from elsewhere.
func (x *Exchange) roomToOpen(g *Room, what string, waiting int64) error {
	busy := explain.New(explain.GateBusy, explain.Fact("client", x.App.Name), explain.Fact("address", x.From))
	if x.authenticated {
		if waiting > mostOpen {
			return busy
		}
		return nil
	}
	if !g.strangers.Take(what+" "+x.App.ID+" "+address.Network(x.From), 100, 10*time.Minute, g.Now()) || waiting > 10*mostOpen {
		return busy
	}
	return nil
}

// RoomToPush refuses a client for which too many pushed requests wait.
func (g *Room) RoomToPush(x *Exchange, waiting int64) error {
	return x.roomToOpen(g, "pushed", waiting)
}

func (g *Room) token(ctx context.Context, x *Exchange, authorization, raw string) (*OAuthAnswer, error) {
	form, err := g.Identify(ctx, x, authorization, raw)
	if err != nil {
		return nil, err
	}
	switch form["grant_type"] {
	case oidc.GrantCode:
		return g.redeemCode(ctx, x, form)
	case oidc.GrantRefresh:
		return g.redeemRefresh(ctx, x, form)
	case oidc.GrantDevice:
		return g.redeemDevice(ctx, x, form)
	case "":
		return nil, explain.New(explain.OIDCParameterWrong, explain.Fact("parameter", "grant_type is missing"))
	}
	return nil, explain.New(
		explain.OIDCGrantType,
		explain.Pair("grant_type", oidc.GrantCode+" or "+oidc.GrantRefresh, words.Clip(form["grant_type"], 200)),
	)
}

func (x *Exchange) check(name, text, section string, ok bool) bool {
	return x.Rec.Check(trace.Check{Name: name, Text: text, Section: section, OK: ok})
}

func (g *Room) redeemCode(ctx context.Context, x *Exchange, form oidc.Parameters) (*OAuthAnswer, error) {
	if form["code"] == "" {
		return nil, explain.New(explain.OIDCParameterWrong, explain.Fact("parameter", "code is missing"))
	}
	h, err := g.grantByCode(ctx, keys.HashSecret(form["code"]))
	if err != nil {
		return nil, err
	}
	if !x.check("oidc.code", "The code was given to this client", "RFC 6749 4.1.3", h != nil && h.ApplicationID == x.App.ID) {
		return nil, explain.New(explain.OIDCCodeUnknown)
	}
	x.grant = h
	if !x.check("oidc.code-once", "The code was not used before", "RFC 6749 4.1.2", !h.codeUsed) {
		return nil, g.codeAgain(ctx, h)
	}
	if !x.check("oidc.code-in-time", "The code is not over", "RFC 6749 4.1.2", g.Now().Before(h.CodeEnds)) {
		return nil, explain.New(explain.OIDCCodeUnknown)
	}
	if !x.check(
		"oidc.code-redirect", "The same redirect URI as in the request", "RFC 6749 4.1.3",
		form["redirect_uri"] == h.Body.RedirectURI,
	) {
		return nil, explain.New(
			explain.OIDCCodeRedirect,
			explain.Pair("redirect_uri", h.Body.RedirectURI, cmp.Or(words.Clip(form["redirect_uri"], 500), "none")),
		)
	}
	verifier := form["code_verifier"]
	if h.Body.Challenge == "" && verifier == "" {
		x.Rec.Decide(trace.Decision{About: "PKCE", Result: "not used", By: "the request had no code challenge, as this client may"})
	} else if !x.check(
		"oidc.verifier", "The code verifier fits the code challenge", "RFC 7636 4.6",
		h.Body.Challenge != "" && oidc.VerifierFits(h.Body.Challenge, verifier),
	) {
		why := "it is another one"
		switch {
		case verifier == "":
			why = "none came"
		case h.Body.Challenge == "":
			why = "there was no challenge in the request"
		}
		return nil, explain.New(explain.OIDCVerifier, explain.Fact("code_verifier", why))
	}
	return g.giveTokens(ctx, x, h.Body.Scopes, func(tx *gorm.DB, now time.Time) error {
		return once(issued.UseCode(tx, h.ID, now))
	}, g.codeAgain)
}

// errAgain says that somebody else used a code or token in the same moment.
var errAgain = errors.New("used in the same moment")

// once is for a conditional write that must touch a row.
func once(rows int64, err error) error {
	if err == nil && rows == 0 {
		return errAgain
	}
	return err
}

// codeAgain takes back everything that a code gave, since two have had it (RFC 6749, section 4.1.2).
func (g *Room) codeAgain(ctx context.Context, h *HeldGrant) error {
	if err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		return issued.EndGrant(tx, h.ID, "its code was used twice", g.Now().UTC())
	}); err != nil {
		return err
	}
	return explain.New(explain.OIDCCodeUsed)
}

func (g *Room) tokenAgain(ctx context.Context, h *HeldGrant) error {
	if err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		return issued.EndGrant(tx, h.ID, "a refresh token was used twice", g.Now().UTC())
	}); err != nil {
		return err
	}
	return explain.New(explain.OIDCTokenUsed)
}

func (g *Room) redeemRefresh(ctx context.Context, x *Exchange, form oidc.Parameters) (*OAuthAnswer, error) {
	if form["refresh_token"] == "" {
		return nil, explain.New(explain.OIDCParameterWrong, explain.Fact("parameter", "refresh_token is missing"))
	}
	t, err := g.TokenBy(ctx, form["refresh_token"])
	if err != nil {
		return nil, err
	}
	if !x.check(
		"oidc.refresh-token", "The refresh token was given to this client", "RFC 6749 6",
		t != nil && t.Kind == "refresh" && t.ApplicationID == x.App.ID,
	) {
		return nil, explain.New(explain.OIDCTokenUnknown)
	}
	h := t.HeldGrant
	x.grant = h
	if !x.check("oidc.refresh-once", "The refresh token was not used before", "RFC 9700 4.14.2", !t.used) {
		return nil, g.tokenAgain(ctx, h)
	}
	if !x.check("oidc.refresh-in-time", "The refresh token is not over", "RFC 6749 6", g.Now().Before(t.Ends)) {
		return nil, explain.New(explain.OIDCTokenUnknown)
	}
	scopes := h.Body.Scopes
	if asked := strings.Fields(form["scope"]); len(asked) > 0 {
		if slices.ContainsFunc(asked, func(s string) bool { return !slices.Contains(h.Body.Scopes, s) }) {
			return nil, explain.New(
				explain.OIDCScopeMore,
				explain.Pair("scope", sheet.ScopesText(h.Body.Scopes), words.Clip(form["scope"], 500)),
			)
		}
		scopes = asked
	}
	h.Body.Nonce = "" // a refreshed ID token is for no request (OpenID Connect Core 1.0, section 12.2)
	return g.giveTokens(ctx, x, scopes, func(tx *gorm.DB, now time.Time) error {
		return once(issued.UseToken(tx, keys.HashSecret(form["refresh_token"]), now))
	}, g.tokenAgain)
}

// giveTokens makes an ID token, an access token and, where it may be, a refresh token. One transaction uses up what was
// exchanged for them.
func (g *Room) giveTokens(
	ctx context.Context,
	x *Exchange,
	scopes []string,
	useUp func(*gorm.DB, time.Time) error,
	again func(context.Context, *HeldGrant) error,
) (*OAuthAnswer, error) {
	h, now := x.grant, g.Now().UTC()
	why := g.Over(h)
	if why == "" {
		var err error
		if why, err = g.unassigned(ctx, h); err != nil {
			return nil, err
		}
	}
	if !x.check("oidc.grant", "Person, application, provider and sign-in still count", "our rule", why == "") {
		return nil, grantOver(h, why)
	}
	o := h.App.OIDC
	life := usualAccessLife
	if o.AccessMinutes > 0 {
		life = time.Duration(o.AccessMinutes) * time.Minute
	}
	if left := h.ExpiresAt.Sub(now); left < life {
		life = left
	}
	access, err := g.accessToken(ctx, h, scopes, now, life)
	if err != nil {
		return nil, err
	}
	rows := []store.Token{
		{
			Hash:      keys.HashSecret(access),
			GrantID:   h.ID,
			Kind:      "access",
			Scope:     sheet.ScopesText(scopes),
			CreatedAt: now,
			ExpiresAt: now.Add(life),
		},
	}
	body := map[string]any{
		"access_token": access,
		"token_type":   "Bearer",
		"expires_in":   int(life.Seconds()),
		"scope":        sheet.ScopesText(scopes),
	}
	if slices.Contains(scopes, oidc.ScopeOpenID) {
		token, err := g.newIDToken(ctx, x, h, scopes, access, now)
		if err != nil {
			return nil, err
		}
		body["id_token"] = token
	}
	if h.Offline || o.Refresh {
		refresh := keys.NewSecret()
		ends := h.ExpiresAt
		if idle := now.Add(refreshIdle); idle.Before(ends) {
			ends = idle
		}
		rows = append(
			rows,
			store.Token{
				Hash:      keys.HashSecret(refresh),
				GrantID:   h.ID,
				Kind:      "refresh",
				Scope:     sheet.ScopesText(h.Body.Scopes),
				CreatedAt: now,
				ExpiresAt: ends,
			},
		)
		body["refresh_token"] = refresh
	}
	sent, err := json.Marshal(body)
	if err != nil {
		return nil, err
	}
	x.Rec.Message(
		trace.Message{
			From:    trace.Gate,
			To:      trace.Application,
			Name:    traces.TokenResponse,
			Binding: "POST",
			Raw:     given(body),
			Opened:  x.opened,
		},
	)
	addition, err := g.traceAddition(h.TraceID, x.Rec)
	if err != nil {
		return nil, err
	}
	err = g.Store.Write(ctx, func(tx *gorm.DB) error {
		if err := partners.UseUpAssertion(tx, x.App, x.Used); err != nil {
			return err
		}
		if err := useUp(tx, now); err != nil {
			return err
		}
		for _, r := range rows {
			if err := issued.InsertToken(tx, &r); err != nil {
				return err
			}
		}
		return nil
	})
	if errors.Is(err, errAgain) {
		return nil, again(ctx, h)
	}
	if err != nil {
		return nil, err
	}
	if g.traces.KeepTakenUp(ctx, h.TraceID, addition) {
		g.Metrics.SignedIn.Add(1)
	}
	return &OAuthAnswer{Status: http.StatusOK, Body: json.RawMessage(sent)}, nil
}

func (g *Room) newIDToken(ctx context.Context, x *Exchange, h *HeldGrant, scopes []string, access string, now time.Time) (string, error) {
	o := h.App.OIDC
	signer, err := g.keyring.TokenSigner(ctx, h.App.Approval(), keyring.PurposeOf(o.Algorithm), o.Algorithm)
	if err != nil {
		return "", err
	}
	place, _ := Places(o, scopes, h.Body)
	values, err := g.claimsOf(ctx, h, place, x.Rec)
	if err != nil {
		return "", err
	}
	issued := oidc.Issued{
		Issuer:      g.partners.Issuer(),
		Subject:     h.Subject,
		ClientID:    o.ClientID,
		Nonce:       h.Body.Nonce,
		Now:         now,
		Life:        IDTokenLife,
		AuthTime:    h.Body.AuthTime,
		ACR:         h.Body.ACR,
		AMR:         h.Body.AMR,
		SessionID:   h.ID,
		AccessToken: access,
		Algorithm:   signer.Algorithm(),
		Values:      values,
	}
	content := issued.Claims()
	x.opened = oidc.ShownContent(map[string]any{"alg": signer.Algorithm(), "typ": jose.TypeID}, content)
	return signer.Sign(jose.TypeID, content)
}

// given writes a token answer for people: what was given, without the values.
func given(body map[string]any) string {
	shown := map[string]any{}
	for name, value := range body {
		if text, ok := value.(string); ok && name != "scope" && name != "token_type" {
			value = fmt.Sprintf("(%d characters, not shown)", len(text))
		}
		shown[name] = value
	}
	return "status 200, application/json\n\n" + oidc.ShownContent(shown)
}

// accessToken is opaque, or, where the application names a resource, signed for it (RFC 9068).
func (g *Room) accessToken(ctx context.Context, h *HeldGrant, scopes []string, now time.Time, life time.Duration) (string, error) {
	o := h.App.OIDC
	if o.Audience == "" {
		return keys.NewSecret(), nil
	}
	signer, err := g.keyring.TokenSigner(ctx, h.App.Approval(), keyring.PurposeOf(o.Algorithm), o.Algorithm)
	if err != nil {
		return "", err
	}
	content := map[string]any{
		"iss":       g.partners.Issuer(),
		"sub":       h.Subject,
		"aud":       o.Audience,
		"client_id": o.ClientID,
		"iat":       now.Unix(),
		"exp":       now.Add(life).Unix(),
		"jti":       keys.RandomID(),
		"scope":     sheet.ScopesText(scopes),
	}
	if !h.Body.AuthTime.IsZero() {
		content["auth_time"] = h.Body.AuthTime.Unix()
	}
	if h.Body.ACR != "" {
		content["acr"] = h.Body.ACR
	}
	return signer.Sign(jose.TypeAccess, content)
}
