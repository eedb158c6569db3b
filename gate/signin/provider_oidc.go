package signin

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/core/bridge"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/oidc"
	"innergate/core/trace"
	"innergate/core/words"
	"innergate/gate/fetch"
	"innergate/gate/partners"
)

// oidcProvider asks providers that speak OpenID Connect or plain OAuth 2.0: we are the relying party.
type oidcProvider struct{ *Room }

func (g oidcProvider) Send(ctx context.Context, s *SignIn) (*Next, error) {
	p, c := s.Provider, s.Provider.OIDC
	wish := s.State.Wish
	plain := p.Kind == config.KindOAuth2
	s.asked.Verifier = oidc.NewVerifier()
	asked := oidc.Asked{
		Endpoint:    c.AuthorizationEndpoint,
		ClientID:    c.ClientID,
		RedirectURI: g.CallbackLocation(p.Slug),
		Scopes:      p.AskedScopes(),
		State:       s.ID,
		Challenge:   oidc.Challenge(s.asked.Verifier),
		More:        c.Parameters,
	}
	if s.Rehearsal != nil && s.Rehearsal.Scope != "" {
		asked.Scopes = strings.Fields(s.Rehearsal.Scope)
	}
	if c.AnswerByForm {
		asked.ResponseMode = "form_post"
	}
	fresh := !wish.Passive && (c.Fresh || wish.Fresh || s.Rehearsal != nil && s.Rehearsal.Fresh)
	demanded, err := g.contexts(s)
	if err != nil {
		return nil, err
	}
	if plain {
		// OAuth 2.0 has no words for any of these, and could not prove them.
		switch {
		case wish.Passive:
			return nil, explain.New(explain.BridgeNoPassive).Of(p.Name)
		case wish.Fresh || wish.MaxAge != nil:
			return nil, explain.New(explain.BridgeNoFresh).Of(p.Name)
		case len(demanded) > 0 && !wish.Preferred:
			return nil, explain.New(explain.BridgeNoContext, explain.Pair("context", strings.Join(demanded, " or "), "none")).Of(p.Name)
		}
	} else {
		s.asked.Nonce = oidc.NewVerifier()
		asked.Nonce, asked.LoginHint, asked.UILocales = s.asked.Nonce, wish.LoginHint, wish.Locales
		asked.ACRValues = c.ACRValues
		if len(demanded) > 0 {
			asked.ACRValues = demanded
			if !wish.Preferred && len(p.Contexts) == 0 {
				s.asked.ACR = demanded
			}
		}
		var prompts []string
		switch {
		case wish.Passive:
			prompts = append(prompts, "none")
		case fresh:
			prompts = append(prompts, "login")
		}
		if wish.Choose && !wish.Passive {
			prompts = append(prompts, "select_account")
		}
		asked.Prompt, asked.MaxAge = strings.Join(prompts, " "), wish.MaxAge
		if fresh {
			zero := time.Duration(0)
			asked.MaxAge, s.asked.FreshSince = &zero, g.Now()
		}
		s.asked.MaxAge = asked.MaxAge
		if wish.Subject != nil && asked.LoginHint == "" {
			asked.LoginHint = wish.Subject.Value
		}
	}
	location, err := asked.URL()
	if err != nil {
		return nil, explain.New(explain.GateFailed, explain.Fact("error", err.Error()))
	}
	s.Row.OurRequestID = oidc.NewVerifier()
	s.Rec.Message(trace.Message{
		From:       trace.Gate,
		To:         trace.Provider,
		Name:       "Authentication request",
		Binding:    "query",
		Address:    c.AuthorizationEndpoint,
		Raw:        oidc.ShownURL(location),
		RelayState: s.ID,
	})
	return &Next{To: Redirect(location)}, nil
}

// contexts lists the acr values that an application's request comes to. Exact and minimum are met by one of those
// named; better is not, since nobody tells what is better than what.
func (g oidcProvider) contexts(s *SignIn) ([]string, error) {
	w := bridge.AskedOf(s.Provider.Contexts, s.State.Wish.Context)
	if w == nil {
		return nil, nil
	}
	if w.Comparison == "better" || len(w.Classes) == 0 {
		return nil, explain.New(explain.BridgeNoContext,
			explain.Pair("context", w.Comparison+" than "+strings.Join(w.Classes, " or "), "only exact values can be asked for")).
			Of(s.Provider.Name)
	}
	return w.Classes, nil
}

// Receive checks the answer that came by way of the browser, exchanges the code and checks what comes for it.
func (g oidcProvider) Receive(ctx context.Context, s *SignIn, a *Arrival) (bridge.Identity, error) {
	p, c := s.Provider, s.Provider.OIDC
	if p.Outsiders {
		ctx = fetch.ForOutsider(ctx)
	}
	code, err := oidc.ReadAnswer(
		a.parameters,
		oidc.AnswerRules{Partner: p.Name, Issuers: c.Issuers(), IssuerPromised: c.IssuerInAnswer, State: s.ID,
			Passive: s.State.Wish.Passive, ACR: s.asked.ACR},
		s.Rec,
	)
	if err != nil {
		return bridge.Identity{}, err
	}
	if err := g.onceOnly(ctx, s); err != nil {
		return bridge.Identity{}, err
	}
	tokens, err := g.redeem(ctx, s, code)
	if err != nil {
		return bridge.Identity{}, err
	}
	who := bridge.Identity{
		Attributes: claims.Bag{},
		UsedIssuer: "sign-in/" + p.ID,
		UsedID:     s.asked.Verifier[:22],
		UsedUntil:  g.Now().Add(2 * Life),
	}
	var found oidc.Claims
	subject, issuer := "", c.Issuer
	if p.Kind == config.KindOIDC {
		t, err := g.idToken(ctx, s, tokens, code)
		if err != nil {
			return bridge.Identity{}, err
		}
		who.AuthnInstant, who.Context, who.AMR, who.Session = t.AuthTime, t.ACR, t.AMR, t.SessionID
		if subject, issuer = t.Subject, t.Issuer; issuer != c.Issuer {
			who.Authorities = []string{issuer}
		}
		if err := found.Add("ID token", t.Claims); err != nil {
			return bridge.Identity{}, explain.New(explain.OIDCClaimsUnreadable, explain.Fact("claims", err.Error())).Of(p.Name)
		}
		who.Shown = t.Subject
		if c.EndSessionEndpoint != "" && len(tokens.IDToken) < 8<<10 {
			who.Hint = tokens.IDToken
		}
	} else if err := found.Add("token answer", tokens.Said()); err != nil {
		return bridge.Identity{}, explain.New(explain.OIDCClaimsUnreadable, explain.Fact("claims", err.Error())).Of(p.Name)
	}
	if err := g.furtherClaims(ctx, s, tokens, &found, who.Shown); err != nil {
		return bridge.Identity{}, err
	}
	who.Attributes = found.Values
	for _, name := range found.Values.Names() {
		s.Rec.Decide(trace.Decision{About: "claim", Result: name, By: found.From[name]})
	}
	if c.SubjectFrom != "" {
		if subject = found.Values.First(c.SubjectFrom); subject == "" {
			return bridge.Identity{}, explain.New(explain.MapRequiredMissing,
				explain.Pair("value", c.SubjectFrom, words.Clip(strings.Join(found.Values.Names(), ", "), 500))).Of(p.Name)
		}
		who.Shown = subject
	}
	if who.Subject, err = bridge.OpenIDLink(c.Issuer, issuer, c.SubjectFrom, subject); err != nil {
		return bridge.Identity{}, explain.New(explain.OIDCClaimsUnreadable, explain.Fact("claims", err.Error())).Of(p.Name)
	}
	return who, nil
}

// onceOnly uses the request up before its code is sent anywhere: a code goes to the token endpoint once, whatever the
// browser sends twice.
func (g oidcProvider) onceOnly(ctx context.Context, s *SignIn) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		used := tx.Exec(
			"UPDATE sign_ins SET our_request_id = '' WHERE id = ? AND our_request_id = ? AND our_request_id <> '' AND finished_at IS NULL",
			s.ID, s.Row.OurRequestID,
		)
		if used.Error == nil && used.RowsAffected == 0 {
			return explain.New(explain.BrowserFinished)
		}
		s.Row.OurRequestID = ""
		return used.Error
	})
}

func (g oidcProvider) redeem(ctx context.Context, s *SignIn, code string) (*oidc.Tokens, error) {
	p, c := s.Provider, s.Provider.OIDC
	client, err := g.partners.ClientAt(ctx, p, "")
	if err != nil {
		return nil, err
	}
	request, err := client.Redeem(code, g.CallbackLocation(p.Slug), s.asked.Verifier, partners.AudienceOf(c), g.Now())
	if err != nil {
		return nil, err
	}
	answer, err := g.partners.BackChannel(ctx, s.Rec, p, "Token request", "Token response", c.TokenEndpoint, request)
	if err != nil {
		return nil, err
	}
	return oidc.ReadTokens(
		*answer,
		oidc.TokenRules{Partner: p.Name, Client: client, Methods: c.AuthMethods, PlainOAuth: p.Kind == config.KindOAuth2},
		s.Rec,
	)
}

// idToken checks the ID token; where it names a key that is not held, the key set is fetched again and the check
// repeated once.
func (g oidcProvider) idToken(ctx context.Context, s *SignIn, tokens *oidc.Tokens, code string) (*oidc.IDToken, error) {
	p, c := s.Provider, s.Provider.OIDC
	for again := false; ; again = true {
		set, fetched, err := g.partners.KeySet(ctx, c.KeysURL, again)
		if err != nil {
			return nil, explain.OfPartner(err, p.Name)
		}
		if fetched {
			s.Rec.Decide(
				trace.Decision{About: "keys", Result: fmt.Sprintf("%d keys of %s", len(set.Keys), p.Name), By: "fetched from " + c.KeysURL},
			)
		}
		rules := oidc.IDTokenRules{
			Partner: p.Name, Issuers: c.Issuers(), ClientID: c.ClientID, Nonce: s.asked.Nonce, Keys: set, Algorithms: c.Algorithms,
			Now: g.Now(), Skew: partners.Skew(c.ClockSkewSeconds),
			MaxAge: s.asked.MaxAge, FreshSince: s.asked.FreshSince, ACR: s.asked.ACR, AccessToken: tokens.AccessToken, Code: code,
		}
		if !s.asked.FreshSince.IsZero() {
			rules.MaxAge = nil // what counts is that it was after our request
		}
		t, err := oidc.CheckIDToken(tokens.IDToken, rules, s.Rec)
		var f *explain.Failure
		if !again && errors.As(err, &f) && (f.Code == explain.JWTKeyUnknown || f.Code == explain.JWTKeyUnfit) {
			continue
		}
		if err != nil {
			return nil, err
		}
		return t, nil
	}
}

// furtherClaims asks UserInfo and whatever else is set, with the access token.
func (g oidcProvider) furtherClaims(ctx context.Context, s *SignIn, tokens *oidc.Tokens, found *oidc.Claims, subject string) error {
	p, c := s.Provider, s.Provider.OIDC
	ask := func(name, address string) (*oidc.Answer, error) {
		return g.partners.AskWithToken(ctx, s.Rec, p, name, address, tokens.AccessToken)
	}
	add := func(name string, o jose.Object) error {
		if err := found.Add(name, o); err != nil {
			return explain.New(explain.OIDCClaimsUnreadable, explain.Fact("claims", err.Error())).Of(p.Name)
		}
		return nil
	}
	if c.UserInfoEndpoint != "" && !c.SkipUserInfo {
		answer, err := ask("UserInfo", c.UserInfoEndpoint)
		if err != nil {
			return err
		}
		rules := oidc.UserInfoRules{Partner: p.Name, Subject: subject, Issuers: c.Issuers(), ClientID: c.ClientID}
		if p.Kind == config.KindOIDC && strings.HasPrefix(answer.ContentType, "application/jwt") {
			if rules.Keys, _, err = g.partners.KeySet(ctx, c.KeysURL, false); err != nil {
				return explain.OfPartner(err, p.Name)
			}
		}
		o, err := oidc.ReadUserInfo(*answer, rules, s.Rec)
		if err != nil {
			return err
		}
		if err := add("UserInfo", o); err != nil {
			return err
		}
	}
	for _, m := range c.More {
		answer, err := ask(words.Capitalise(m.As), m.URL)
		if err != nil {
			return err
		}
		o, err := oidc.ReadMore(*answer, m.As, m.Where, p.Name, s.Rec)
		if err != nil {
			return err
		}
		if err := add(m.URL, o); err != nil {
			return err
		}
	}
	return nil
}

// ReceiveOIDC takes a provider's answer to our redirect URI.
func (g *Room) ReceiveOIDC(ctx context.Context, b Browser, slug, raw, how string) *Next {
	stranger := g.Begin(b, "sp")
	stranger.Rec.Begin(trace.Receive)
	s, parameters, err := g.joinOIDC(ctx, b, stranger, slug, raw, how)
	return g.Walk(ctx, s, Failing(err), g.receive(&Arrival{parameters: parameters}), g.Homeward)
}

// joinOIDC reads a provider's answer and finds the sign-in that it belongs to. It returns a sign-in to fail with even
// where it fails.
func (g *Room) joinOIDC(ctx context.Context, b Browser, stranger *SignIn, slug, raw, how string) (*SignIn, oidc.Parameters, error) {
	p, err := g.partners.OpenIDProviderAt(ctx, slug)
	if err != nil {
		return stranger, nil, err
	}
	stranger.Provider = p
	message := trace.Message{
		From:    trace.Provider,
		To:      trace.Gate,
		Name:    "Authentication response",
		Binding: how,
		Address: g.CallbackLocation(slug),
		Raw:     oidc.ShownParameters(raw),
	}
	parameters, err := oidc.ReadParameters(raw)
	if err != nil {
		stranger.Rec.Message(message)
		return stranger, nil, explain.OfPartner(err, p.Name)
	}
	if parameters["state"] == "" {
		stranger.Rec.Message(message)
		_, err := oidc.ReadAnswer(parameters, oidc.AnswerRules{Partner: p.Name, State: "a"}, stranger.Rec)
		return stranger, nil, err
	}
	s, err := g.Resume(ctx, b, parameters["state"])
	if err == nil && s.Row.ProviderID != p.ID {
		// An answer of one provider in another one's sign-in: a mix-up, or an attack.
		s.Row.BrowserHash, err = nil, explain.New(explain.OIDCAnswerIssuer, explain.Pair("provider", nameOf(s.Provider), p.Name))
	}
	s.Rec.Message(message)
	if err != nil && s.Provider == nil {
		s.Provider = p
	}
	return s, parameters, err
}
