package gate

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/oidc"
	"innergate/core/saml"
	"innergate/core/trace"
)

// oidcProvider asks providers that speak OpenID Connect or plain OAuth 2.0: we are the relying party.
type oidcProvider struct{ *Gate }

// CallbackLocation is our redirect URI at a provider. Each provider has one of its own, so that no answer is taken for another provider's (RFC 9700, section 4.4).
func (g *Gate) CallbackLocation(provider string) string {
	return g.PublicURL + "/oidc/callback/" + provider
}

func (g oidcProvider) send(ctx context.Context, s *signIn) (*Next, error) {
	p, c := s.provider, s.provider.OIDC
	wish := s.state.Wish
	plain := p.Kind == config.KindOAuth2
	s.state.Verifier, s.state.Nonce, s.state.FreshSince, s.state.MaxAge, s.state.ACR = oidc.NewVerifier(), "", time.Time{}, nil, nil
	asked := oidc.Asked{Endpoint: c.AuthorizationEndpoint, ClientID: c.ClientID, RedirectURI: g.CallbackLocation(p.Slug), Scopes: p.AskedScopes(), State: s.id, Challenge: oidc.Challenge(s.state.Verifier), More: c.Parameters}
	if s.rehearsal != nil && s.rehearsal.Scope != "" {
		asked.Scopes = strings.Fields(s.rehearsal.Scope)
	}
	if c.AnswerByForm {
		asked.ResponseMode = "form_post"
	}
	fresh := !wish.Passive && (c.Fresh || wish.Fresh || s.rehearsal != nil && s.rehearsal.Fresh)
	demanded, err := g.contexts(s)
	if err != nil {
		return nil, err
	}
	if plain {
		// OAuth 2.0 has no words for any of these, and could not prove them.
		switch {
		case wish.Passive:
			return nil, explain.New("bridge.no-passive").Of(p.Name)
		case wish.Fresh || wish.MaxAge != nil:
			return nil, explain.New("bridge.no-fresh").Of(p.Name)
		case len(demanded) > 0 && !wish.Preferred:
			return nil, explain.New("bridge.no-context", explain.Pair("context", strings.Join(demanded, " or "), "none")).Of(p.Name)
		}
	} else {
		s.state.Nonce = oidc.NewVerifier()
		asked.Nonce, asked.LoginHint, asked.UILocales = s.state.Nonce, wish.LoginHint, wish.Locales
		asked.ACRValues = c.ACRValues
		if len(demanded) > 0 {
			asked.ACRValues = demanded
			if !wish.Preferred {
				s.state.ACR = demanded
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
			asked.MaxAge, s.state.FreshSince = &zero, g.Now()
		}
		s.state.MaxAge = asked.MaxAge
		if wish.Subject != nil && asked.LoginHint == "" {
			asked.LoginHint = wish.Subject.Value
		}
	}
	location, err := asked.URL()
	if err != nil {
		return nil, explain.New("gate.failed", explain.Fact("error", err.Error()))
	}
	s.row.OurRequestID = oidc.NewVerifier()
	s.rec.Message(trace.Message{From: trace.Gate, To: trace.Provider, Name: "Authentication request", Binding: "query", Address: c.AuthorizationEndpoint, Raw: oidc.ShownURL(location), RelayState: s.id})
	return &Next{Redirect: location}, nil
}

// contexts lists the acr values that an application's request comes to. Exact and minimum are met by one of those named; better is not, since nobody tells what is
// better than what.
func (g oidcProvider) contexts(s *signIn) ([]string, error) {
	w := s.state.Wish.Context
	if w == nil {
		return nil, nil
	}
	if w.Comparison == "better" || len(w.Classes) == 0 {
		return nil, explain.New("bridge.no-context", explain.Pair("context", w.Comparison+" than "+strings.Join(w.Classes, " or "), "only exact values can be asked for")).Of(s.provider.Name)
	}
	return w.Classes, nil
}

// receive checks the answer that came by way of the browser, exchanges the code and checks what comes for it.
func (g oidcProvider) receive(ctx context.Context, s *signIn, a *arrival) (identity, error) {
	p, c := s.provider, s.provider.OIDC
	code, err := oidc.ReadAnswer(a.parameters, oidc.AnswerRules{Partner: p.Name, Issuers: c.Issuers(), IssuerPromised: c.IssuerInAnswer, State: s.id}, s.rec)
	if err != nil {
		return identity{}, err
	}
	if err := g.onceOnly(ctx, s); err != nil {
		return identity{}, err
	}
	tokens, err := g.redeem(ctx, s, code)
	if err != nil {
		return identity{}, err
	}
	who := identity{Attributes: claims.Bag{}, UsedIssuer: "sign-in/" + p.id, UsedID: s.state.Verifier[:22], UsedUntil: g.Now().Add(2 * signInLife)}
	var found oidc.Claims
	subject := ""
	if p.Kind == config.KindOIDC {
		t, err := g.idToken(ctx, s, tokens, code)
		if err != nil {
			return identity{}, err
		}
		who.AuthnInstant, who.Context, who.AMR, who.Session, subject = t.AuthTime, t.ACR, t.AMR, t.SessionID, t.Subject
		if t.Issuer != c.Issuer {
			// Two directories of one provider may give the same subject to different people.
			subject = t.Issuer + "\x1f" + t.Subject
			who.Authorities = []string{t.Issuer}
		}
		if err := found.Add("ID token", t.Claims); err != nil {
			return identity{}, explain.New("oidc.claims-unreadable", explain.Fact("claims", err.Error())).Of(p.Name)
		}
		who.Shown = t.Subject
		if c.EndSessionEndpoint != "" && len(tokens.IDToken) < 8<<10 {
			who.Hint = tokens.IDToken
		}
	} else if err := found.Add("token answer", tokens.Said()); err != nil {
		return identity{}, explain.New("oidc.claims-unreadable", explain.Fact("claims", err.Error())).Of(p.Name)
	}
	if err := g.furtherClaims(ctx, s, tokens, &found, who.Shown); err != nil {
		return identity{}, err
	}
	who.Attributes = found.Values
	for _, name := range found.Values.Names() {
		s.rec.Decide(trace.Decision{About: "claim", Result: name, By: found.From[name]})
	}
	field := cmp.Or(c.SubjectFrom, "sub")
	if c.SubjectFrom == "" {
		who.Subject = "sub\x1f" + subject
		return who, nil
	}
	v := found.Values.First(field)
	if v == "" {
		return identity{}, explain.New("map.required-missing", explain.Pair("value", field, "")).Of(p.Name)
	}
	who.Subject, who.Shown = "claim\x1f"+field+"\x1f"+v, v
	return who, nil
}

// onceOnly uses the request up before its code is sent anywhere: a code goes to the token endpoint once, whatever the browser sends twice.
func (g oidcProvider) onceOnly(ctx context.Context, s *signIn) error {
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		used := tx.Exec("UPDATE sign_ins SET our_request_id = '' WHERE id = ? AND our_request_id = ? AND our_request_id <> '' AND finished_at IS NULL", s.id, s.row.OurRequestID)
		if used.Error == nil && used.RowsAffected == 0 {
			return explain.New("browser.finished")
		}
		s.row.OurRequestID = ""
		return used.Error
	})
}

// audience is whom our assertion is for (RFC 7523, section 3).
func audienceOf(c *config.OIDCProvider) string { return cmp.Or(c.Issuer, c.TokenEndpoint) }

// clientAt is who we are at a provider, with the secret that counts now, or another one that is to be tried.
func (g *Gate) clientAt(ctx context.Context, p *provider, secret string) (oidc.Client, error) {
	c := oidc.Client{ID: p.OIDC.ClientID, Method: p.OIDC.Method(), Secret: secret}
	switch c.Method {
	case oidc.AuthBasic, oidc.AuthPost:
		if c.Secret = cmp.Or(c.Secret, p.secret); c.Secret != "" {
			return c, nil
		}
		held, err := g.theirSecret(ctx, p.id)
		if err != nil {
			return c, err
		}
		if held == "" {
			return c, explain.New("oidc.client-secret-none").Of(p.Name)
		}
		c.Secret = held
	case oidc.AuthPrivateKey:
		signer, err := g.tokenSigner(ctx, PurposeClient, p.id, "")
		if err != nil {
			return c, err
		}
		c.Signer = signer
	}
	return c, nil
}

func (g oidcProvider) redeem(ctx context.Context, s *signIn, code string) (*oidc.Tokens, error) {
	p, c := s.provider, s.provider.OIDC
	if p.withheld {
		return nil, explain.New("oidc.client-secret-none").Of(p.Name)
	}
	client, err := g.clientAt(ctx, p, "")
	if err != nil {
		return nil, err
	}
	request, err := client.Redeem(code, g.CallbackLocation(p.Slug), s.state.Verifier, audienceOf(c), g.Now())
	if err != nil {
		return nil, err
	}
	answer, err := g.backChannel(ctx, s.rec, p, "Token request", "Token response", c.TokenEndpoint, request)
	if err != nil {
		return nil, err
	}
	return oidc.ReadTokens(*answer, oidc.TokenRules{Partner: p.Name, Client: client, Methods: c.AuthMethods, PlainOAuth: p.Kind == config.KindOAuth2}, s.rec)
}

// backChannel sends a form to a provider and takes the answer, both into the trace with everything secret left out.
func (g *Gate) backChannel(ctx context.Context, rec *trace.Recorder, p *provider, name, answerName, address string, request *oidc.BackChannel) (*oidc.Answer, error) {
	header := map[string]string{"Accept": "application/json"}
	sent := request.Shown
	if request.Authorization != "" {
		header["Authorization"] = request.Authorization
		sent = "Authorization: Basic (not shown)\n\n" + sent
	}
	rec.Message(trace.Message{From: trace.Gate, To: trace.Provider, Name: name, Binding: "POST", Address: address, Raw: sent})
	got, err := g.Fetch.Do(ctx, Want{URL: address, Post: []byte(request.Body), ContentType: "application/x-www-form-urlencoded", MaxBytes: oidc.MaxDocument, Timeout: backTimeout, Header: header, AnyStatus: true})
	if err != nil {
		return nil, explain.New("oidc.back-channel", explain.Fact("reason", err.Error()), explain.Fact("address", address)).Of(p.Name)
	}
	answer := &oidc.Answer{Status: got.Status, ContentType: got.ContentType, Body: got.Body}
	raw, opened := answer.Shown()
	rec.Message(trace.Message{From: trace.Provider, To: trace.Gate, Name: answerName, Binding: "POST", Address: address, Raw: raw, Opened: opened})
	return answer, nil
}

// idToken checks the ID token; where it names a key that is not held, the key set is fetched again and the check repeated once.
func (g oidcProvider) idToken(ctx context.Context, s *signIn, tokens *oidc.Tokens, code string) (*oidc.IDToken, error) {
	p, c := s.provider, s.provider.OIDC
	for again := false; ; again = true {
		set, fetched, err := g.keySet(ctx, c.KeysURL, again)
		if err != nil {
			return nil, ofPartner(err, p.Name)
		}
		if fetched {
			s.rec.Decide(trace.Decision{About: "keys", Result: fmt.Sprintf("%d keys of %s", len(set.Keys), p.Name), By: "fetched from " + c.KeysURL})
		}
		rules := oidc.IDTokenRules{
			Partner: p.Name, Issuers: c.Issuers(), ClientID: c.ClientID, Nonce: s.state.Nonce, Keys: set, Algorithms: c.Algorithms, Now: g.Now(), Skew: skew(c.ClockSkewSeconds),
			MaxAge: s.state.MaxAge, FreshSince: s.state.FreshSince, ACR: s.state.ACR, AccessToken: tokens.AccessToken, Code: code,
		}
		if !s.state.FreshSince.IsZero() {
			rules.MaxAge = nil // what counts is that it was after our request
		}
		t, err := oidc.CheckIDToken(tokens.IDToken, rules, s.rec)
		var f *explain.Failure
		if !again && errors.As(err, &f) && f.Code == "jwt.key-unknown" {
			continue
		}
		if err != nil {
			return nil, err
		}
		return t, nil
	}
}

func ofPartner(err error, name string) error {
	var f *explain.Failure
	if errors.As(err, &f) {
		return f.Of(name)
	}
	return err
}

// furtherClaims asks UserInfo and whatever else is set, with the access token.
func (g oidcProvider) furtherClaims(ctx context.Context, s *signIn, tokens *oidc.Tokens, found *oidc.Claims, subject string) error {
	p, c := s.provider, s.provider.OIDC
	ask := func(name, address string) (oidc.Answer, error) {
		s.rec.Message(trace.Message{From: trace.Gate, To: trace.Provider, Name: name + " request", Binding: "GET", Address: address, Raw: "Authorization: Bearer (not shown)"})
		got, err := g.Fetch.Do(ctx, Want{URL: address, MaxBytes: oidc.MaxDocument, Timeout: backTimeout, Header: map[string]string{"Accept": "application/json, application/jwt", "Authorization": "Bearer " + tokens.AccessToken}, AnyStatus: true, Direct: true})
		if err != nil {
			return oidc.Answer{}, explain.New("oidc.back-channel", explain.Fact("reason", err.Error()), explain.Fact("address", address)).Of(p.Name)
		}
		answer := oidc.Answer{Status: got.Status, ContentType: got.ContentType, Body: got.Body}
		raw, opened := answer.Shown()
		s.rec.Message(trace.Message{From: trace.Provider, To: trace.Gate, Name: name + " response", Binding: "GET", Address: address, Raw: raw, Opened: opened})
		return answer, nil
	}
	add := func(name string, o jose.Object) error {
		if err := found.Add(name, o); err != nil {
			return explain.New("oidc.claims-unreadable", explain.Fact("claims", err.Error())).Of(p.Name)
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
			if rules.Keys, _, err = g.keySet(ctx, c.KeysURL, false); err != nil {
				return ofPartner(err, p.Name)
			}
		}
		o, err := oidc.ReadUserInfo(answer, rules, s.rec)
		if err != nil {
			return err
		}
		if err := add("UserInfo", o); err != nil {
			return err
		}
	}
	for _, m := range c.More {
		answer, err := ask(capitalise(m.As), m.URL)
		if err != nil {
			return err
		}
		o, err := oidc.ReadMore(answer, m.As, m.Where, p.Name, s.rec)
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
func (g *Gate) ReceiveOIDC(ctx context.Context, b Browser, slug, raw, how string) *Next {
	stranger := g.begin(b, "sp")
	stranger.rec.Begin(trace.Receive)
	p, err := g.provider(ctx, slug)
	if err == nil && p.OIDC == nil {
		err = explain.New("oidc.state", explain.Pair("state", "an answer of an OpenID provider", "an answer in the name of "+p.Name))
	}
	if err != nil {
		return g.failed(ctx, stranger, err)
	}
	stranger.provider = p
	message := trace.Message{From: trace.Provider, To: trace.Gate, Name: "Authentication response", Binding: how, Address: g.CallbackLocation(slug), Raw: oidc.ShownParameters(raw)}
	parameters, err := oidc.ReadParameters(raw)
	if err != nil {
		stranger.rec.Message(message)
		return g.failed(ctx, stranger, ofPartner(err, p.Name))
	}
	s, err := g.resume(ctx, b, parameters["state"])
	if err == nil && s.row.ProviderID != p.id {
		// An answer of one provider in another one's sign-in: a mix-up, or an attack.
		s.row.BrowserHash, err = nil, explain.New("oidc.answer-issuer", explain.Pair("provider", nameOf(s.provider), p.Name))
	}
	s.rec.Message(message)
	if err != nil {
		if s.provider == nil {
			s.provider = p
		}
		return g.failed(ctx, s, err)
	}
	return g.received(ctx, s, &arrival{parameters: parameters})
}

// ReceiveOIDCPosted goes on with an answer that was posted.
func (g *Gate) ReceiveOIDCPosted(ctx context.Context, b Browser, slug, handle string) *Next {
	kept, err := g.takeArrival(ctx, handle, "callback/"+slug)
	if err != nil {
		return g.failed(ctx, g.begin(b, "sp"), err)
	}
	return g.ReceiveOIDC(ctx, b, slug, string(kept.Value), "form_post")
}

// contextOf writes wanted contexts for a SAML provider.
func contextOf(values []string) *saml.RequestedContext {
	if len(values) == 0 {
		return nil
	}
	return &saml.RequestedContext{Comparison: "exact", Classes: slices.Clone(values)}
}
