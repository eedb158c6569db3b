package server_test

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/testbed"
)

func TestCodeFlow(t *testing.T) {
	t.Parallel()
	p := newParty(t)
	got, _ := p.goes(p.asks(nil).Encode(), "mvoss")
	assert.Equal(t, "st-1", got.Get("state"))
	assert.Equal(t, p.w.URL, got.Get("iss"), "RFC 9207")
	a := p.call("/oidc/token", redeeming(p, got.Get("code")))
	require.Equal(t, 200, a.status, a.raw)
	assert.Equal(t, "no-store", a.header.Get("Cache-Control"))
	assert.Equal(t, "Bearer", a.text("token_type"))
	assert.Equal(t, p.scope, a.text("scope"))
	header, id := p.opens(a.text("id_token"))
	assert.Equal(t, "JWT", header.ExtraHeaders["typ"])
	assert.Equal(t, "ES256", header.Algorithm)
	assert.Equal(t, []any{p.w.URL, p.id, "n-1"}, []any{id["iss"], id["aud"], id["nonce"]})
	for _, name := range []string{"sub", "exp", "iat", "auth_time", "sid", "at_hash", "acr"} {
		assert.NotEmpty(t, id[name], name)
	}
	assert.NotContains(t, id, "email", "only UserInfo tells about the person, unless it is asked otherwise")
	info := p.userinfo(a.text("access_token"))
	require.Equal(t, 200, info.status, info.raw)
	assert.Equal(t, id["sub"], info.body["sub"])
	assert.Equal(t, "mira.voss@saltmere.example", info.body["email"])
	assert.Equal(t, []any{"staff", "ferry-crew", "ferry-purser"}, info.body["groups"])
	assert.Equal(t, "Mira Voss", info.body["name"])
	again := p.tokens(nil)
	_, second := p.opens(again.text("id_token"))
	assert.Equal(t, id["sub"], second["sub"], "the same person has the same subject")
	assert.NotEqual(t, id["sid"], second["sid"])
}

func TestScopesHandOnWhatTheySay(t *testing.T) {
	t.Parallel()
	p := newParty(t)
	for scope, wants := range map[string][]string{"openid": {}, "openid email": {"email"},
		"openid profile": {"family_name", "given_name", "name", "preferred_username"}, "openid groups": {"groups"},
		"openid phone unknown": {}} {
		a := p.tokens(url.Values{"scope": {scope}})
		info := p.userinfo(a.text("access_token"))
		require.Equal(t, 200, info.status, info.raw)
		var names []string
		for name := range info.body {
			if name != "sub" {
				names = append(names, name)
			}
		}
		slices.Sort(names)
		assert.Equal(t, wants, append([]string{}, names...), scope)
		assert.NotContains(t, a.text("scope"), "unknown")
		assert.Empty(t, a.text("refresh_token"), "nobody asked for offline access")
	}
}

// TestRequestsThatAreRefused holds authentication requests against the standards. Where the client or its address is
// not right, nothing goes back there.
func TestRequestsThatAreRefused(t *testing.T) {
	t.Parallel()
	p := newParty(t)
	at := p.redirect()
	stays := func(extra url.Values) {
		t.Helper()
		got, b := p.goes(p.asks(extra).Encode(), "mvoss")
		assert.Nil(t, got, "%v", extra)
		assert.Equal(t, 400, b.Status, "%v", extra)
		assert.NotContains(t, b.Text, `href="`+at, "%v", extra)
	}
	for _, address := range []string{at + "/more", at + "?x=1", at + "#x", strings.Replace(at, "http://", "http://user@", 1),
		strings.Replace(at, "/answer", "/ANSWER", 1), strings.Replace(at, "/answer", "/x/../answer", 1),
		strings.Replace(at, "/answer", "/%61nswer", 1),
		strings.Replace(at, "/answer", "%2fanswer", 1), "http://127.0.0.1:1/answer",
		strings.Replace(at, "127.0.0.1", "127.0.0.1.evil.example", 1), at + "/", at + " ", "javascript:alert(1)", ""} {
		stays(url.Values{"redirect_uri": {address}})
	}
	stays(url.Values{"client_id": {"nobody"}})
	stays(url.Values{"client_id": {""}})
	got, _ := p.goes(p.asks(nil).Encode()+"&state=st-2", "mvoss")
	assert.Equal(t, "invalid_request", got.Get("error"), "a parameter twice, and the address for the answer is clear")
	assert.Equal(t, p.w.URL, got.Get("iss"))
	got, b := p.goes(p.asks(nil).Encode()+"&redirect_uri="+url.QueryEscape(at), "mvoss")
	assert.Nil(t, got, "where that stands twice, nothing goes there")
	assert.Equal(t, 400, b.Status)
	got, b = p.goes(p.asks(nil).Encode()+"&resource=urn:a&resource=urn:b", "mvoss")
	assert.NotEmpty(t, got.Get("code"), "what means nothing to us may stand twice: %s", b.Text)
	for _, c := range []struct {
		name  string
		extra url.Values
		code  string
	}{
		{"implicit flow", url.Values{"response_type": {"id_token token"}}, "unsupported_response_type"},
		{"no response type", url.Values{"response_type": {""}}, "invalid_request"},
		{"no openid", url.Values{"scope": {"profile"}}, "invalid_scope"},
		{"no PKCE", url.Values{"code_challenge": {""}, "code_challenge_method": {""}}, "invalid_request"},
		{"PKCE plain", url.Values{"code_challenge_method": {"plain"}}, "invalid_request"},
		{"PKCE without a method", url.Values{"code_challenge_method": {""}}, "invalid_request"},
		{"a challenge that is none", url.Values{"code_challenge": {"short"}}, "invalid_request"},
		{"prompt none with others", url.Values{"prompt": {"none login"}}, "invalid_request"},
		{"an unknown prompt", url.Values{"prompt": {"dance"}}, "invalid_request"},
		{"max_age that is none", url.Values{"max_age": {"soon"}}, "invalid_request"},
		{"an answer as a fragment", url.Values{"response_mode": {"fragment"}}, "invalid_request"},
		{"claims that are none", url.Values{"claims": {"{"}}, "invalid_request"},
		{"a hint that is none", url.Values{"id_token_hint": {"a.b.c"}}, "invalid_request"},
		{"an unsigned request object", url.Values{"request": {"eyJhbGciOiJub25lIn0.e30."}}, "invalid_request_object"},
		{"a request by foreign reference", url.Values{"request_uri": {"https://evil.example/r"}}, "invalid_request_uri"},
		{"silently without a session", url.Values{"prompt": {"none"}}, "login_required"},
		{"silently and anew", url.Values{"prompt": {"none"}, "max_age": {"0"}}, "login_required"},
	} {
		got, b := p.goes(p.asks(c.extra).Encode(), "mvoss")
		assert.Equal(t, c.code, got.Get("error"), "%s: %s", c.name, b.Text)
		assert.Equal(t, "st-1", got.Get("state"), c.name)
		assert.Equal(t, p.w.URL, got.Get("iss"), c.name)
		assert.Empty(t, got.Get("code"), c.name)
	}
	p.set(func(a *config.Application) { a.OIDC.WithoutPKCE = true })
	p.code(url.Values{"code_challenge": {""}, "code_challenge_method": {""}})
}

func TestPushedRequests(t *testing.T) {
	t.Parallel()
	p := newParty(t)
	other := addParty(t, p.w, p.clock, "pilot-log")
	push := func() string {
		a := p.call("/oidc/par", p.asks(nil))
		require.Equal(t, 201, a.status, a.raw)
		return a.text("request_uri")
	}
	reference := push()
	by := func(client, uri string) url.Values { return url.Values{"client_id": {client}, "request_uri": {uri}} }
	got, _ := p.goes(by(other.id, reference).Encode(), "mvoss")
	assert.Nil(t, got, "another client's reference")
	got, b := p.goes(by(p.id, reference).Encode()+"&scope=openid&nonce=other&state=evil", "mvoss")
	require.NotEmpty(t, got.Get("code"), b.Text)
	assert.Equal(t, "st-1", got.Get("state"), "parameters beside it do not count")
	_, id := p.opens(p.call("/oidc/token", redeeming(p, got.Get("code"))).text("id_token"))
	assert.Equal(t, "n-1", id["nonce"])
	got, _ = p.goes(by(p.id, reference).Encode(), "mvoss")
	assert.Nil(t, got, "once")
	reference = push()
	p.clock.turn(91 * time.Second)
	got, _ = p.goes(by(p.id, reference).Encode(), "mvoss")
	assert.Nil(t, got, "in time")
	assert.Equal(t, "invalid_request", p.call("/oidc/par", p.asks(url.Values{"redirect_uri": {"https://evil.example/"}})).err())
	assert.Equal(t, "invalid_request", p.call("/oidc/par", p.asks(url.Values{"request_uri": {reference}})).err())
}

func TestRequestObjectsAndClientKeys(t *testing.T) {
	t.Parallel()
	key, set := newClientKey(t)
	p := newParty(t, func(a *config.Application) { a.OIDC.Authentication, a.OIDC.Keys = "private_key_jwt", set })
	p.key = key
	a := p.tokens(nil)
	assert.Equal(t, 200, p.userinfo(a.text("access_token")).status)
	proof := func(change func(map[string]any), typ string) answer {
		content := map[string]any{
			"iss": p.id,
			"sub": p.id,
			"aud": p.w.URL,
			"jti": time.Now().String(),
			"exp": p.clock.now().Add(time.Minute).Unix(),
		}
		change(content)
		form := redeeming(p, p.code(nil))
		form.Set("client_assertion_type", "urn:ietf:params:oauth:client-assertion-type:jwt-bearer")
		form.Set("client_assertion", p.sign(typ, content))
		return p.send("/oidc/token", form, nil)
	}
	for name, change := range map[string]func(map[string]any){
		"another audience": func(c map[string]any) {
			c["aud"] = "https://evil.example"
		}, "the token endpoint as audience": func(c map[string]any) {
			c["aud"] = p.w.URL + "/oidc/token"
		}, "two audiences": func(c map[string]any) { c["aud"] = []string{p.w.URL, "https://evil.example"} },
		"no jti": func(c map[string]any) {
			delete(c, "jti")
		}, "no end": func(c map[string]any) {
			delete(c, "exp")
		}, "an end far ahead": func(c map[string]any) { c["exp"] = p.clock.now().Add(time.Hour).Unix() },
		"over": func(c map[string]any) {
			c["exp"] = p.clock.now().Add(-time.Hour).Unix()
		}, "another issuer": func(c map[string]any) { c["iss"] = "pilot-log" },
	} {
		a := proof(change, "JWT")
		assert.Equal(t, []any{401, "invalid_client"}, []any{a.status, a.err()}, name)
	}
	assert.Equal(t, "invalid_client", proof(func(map[string]any) {}, "logout+jwt").err(), "another kind of token")
	once := func(c map[string]any) { c["jti"] = "the-same" }
	require.Equal(t, 200, proof(once, "JWT").status)
	assert.Equal(t, "invalid_client", proof(once, "JWT").err(), "an assertion is used once")

	object := func(change func(map[string]any)) url.Values {
		content := map[string]any{"iss": p.id, "aud": p.w.URL, "exp": p.clock.now().Add(time.Minute).Unix(), "max_age": 3600}
		for name, v := range p.asks(nil) {
			content[name] = v[0]
		}
		change(content)
		return url.Values{
			"client_id":    {p.id},
			"state":        {"outside"},
			"redirect_uri": {"https://evil.example/"},
			"request":      {p.sign("oauth-authz-req+jwt", content)},
		}
	}
	got, b := p.goes(object(func(map[string]any) {}).Encode(), "mvoss")
	require.NotEmpty(t, got.Get("code"), b.Text)
	assert.Equal(t, "st-1", got.Get("state"), "parameters outside are ignored")
	for name, change := range map[string]func(map[string]any){
		"another client": func(c map[string]any) {
			c["client_id"] = "pilot-log"
		}, "for somebody else": func(c map[string]any) {
			c["aud"] = "https://evil.example"
		}, "over": func(c map[string]any) { c["exp"] = p.clock.now().Add(-time.Hour).Unix() },
		"a request in a request": func(c map[string]any) {
			c["request_uri"] = "urn:x"
		}, "an unregistered address": func(c map[string]any) { c["redirect_uri"] = "https://evil.example/" },
	} {
		got, b := p.goes(object(change).Encode(), "mvoss")
		assert.Empty(t, got.Get("code"), "%s: %s", name, b.Text)
	}
}

func TestPublicAndNativeClients(t *testing.T) {
	t.Parallel()
	p := newParty(t, func(a *config.Application) {
		a.OIDC.Native, a.OIDC.Authentication, a.OIDC.RedirectURIs = true, "none", []string{"http://127.0.0.1/answer"}
	})
	b := p.w.Walker()
	p.mu.Lock()
	p.got = nil
	p.mu.Unlock()
	require.NoError(t, b.Get(context.Background(), p.w.URL+"/oidc/authorize?"+p.asks(nil).Encode()))
	require.NoError(t, b.Onward(context.Background()))
	require.NoError(t, b.Submit(context.Background(), url.Values{"person": {"mvoss"}}))
	require.NoError(t, b.Onward(context.Background()))
	assert.Nil(t, p.got, "nothing before the person has confirmed it")
	assert.Contains(t, b.Text, "a program on this computer")
	require.NoError(t, b.Submit(context.Background(), url.Values{"answer": {"yes"}}))
	require.NoError(t, b.Onward(context.Background()))
	require.NotEmpty(t, p.got.Get("code"))
	a := p.call("/oidc/token", redeeming(p, p.got.Get("code")))
	require.Equal(t, 200, a.status, a.raw)
	got, _ := p.goes(p.asks(url.Values{"code_challenge": {""}, "code_challenge_method": {""}}).Encode(), "mvoss")
	assert.Equal(t, "invalid_request", got.Get("error"), "a public client needs PKCE")
	silent, _ := p.goes(p.asks(url.Values{"prompt": {"none"}}).Encode(), "mvoss")
	assert.Equal(t, "login_required", silent.Get("error"))
	for _, address := range []string{"http://localhost:7/answer", "http://127.0.0.1:7/other", "http://127.0.0.2:7/answer",
		"https://127.0.0.1/answer"} {
		got, b := p.goes(p.asks(url.Values{"redirect_uri": {address}}).Encode(), "mvoss")
		assert.Nil(t, got, address)
		assert.Equal(t, 400, b.Status, address)
	}
}

func TestConsentIsAskedOnce(t *testing.T) {
	t.Parallel()
	p := newParty(t, func(a *config.Application) {
		a.OIDC.Consent, a.OIDC.HomePage, a.OIDC.Privacy = true, "https://archive.example/", "https://archive.example/privacy"
	})
	pages := 0
	b := p.w.Walker()
	ask := func(extra url.Values) url.Values {
		p.mu.Lock()
		p.got = nil
		p.mu.Unlock()
		ctx := context.Background()
		require.NoError(t, b.Get(ctx, p.w.URL+"/oidc/authorize?"+p.asks(extra).Encode()))
		require.NoError(t, b.Onward(ctx))
		if strings.Contains(b.Text, "choose who you are") {
			require.NoError(t, b.Submit(ctx, url.Values{"person": {"mvoss"}}))
			require.NoError(t, b.Onward(ctx))
		}
		if strings.Contains(b.Text, "Go on to Tide Archive") {
			pages++
			assert.Contains(t, b.Text, "your mail address")
			assert.Contains(t, b.Text, "https://archive.example/privacy")
			require.NoError(t, b.Submit(ctx, url.Values{"answer": {"yes"}}))
			require.NoError(t, b.Onward(ctx))
		}
		return p.got
	}
	assert.NotEmpty(t, ask(url.Values{"scope": {"openid email"}}).Get("code"))
	assert.NotEmpty(t, ask(url.Values{"scope": {"openid email"}}).Get("code"))
	assert.Equal(t, 1, pages, "asked once")
	assert.Equal(t, "consent_required", ask(url.Values{"scope": {"openid email profile"}, "prompt": {"none"}}).Get("error"))
	assert.NotEmpty(t, ask(url.Values{"scope": {"openid email profile"}}).Get("code"))
	assert.Equal(t, 2, pages, "for more it is asked again")
	assert.NotEmpty(t, ask(url.Values{"scope": {"openid email"}, "prompt": {"consent"}}).Get("code"))
	assert.Equal(t, 3, pages, "and where the application wants it")
	assert.NotEmpty(t, ask(url.Values{"scope": {"openid email"}, "prompt": {"none"}}).Get("code"), "silently, with a session and consent")
	groups := `{"userinfo":{"groups":null}}`
	assert.Equal(t, "consent_required", ask(url.Values{"scope": {"openid email"}, "prompt": {"none"}, "claims": {groups}}).Get("error"),
		"what is asked for by the parameter claims is agreed to like scopes")
	assert.NotEmpty(t, ask(url.Values{"scope": {"openid email"}, "claims": {groups}}).Get("code"))
	assert.Equal(t, 4, pages)
	assert.NotEmpty(t, ask(url.Values{"scope": {"openid email"}, "prompt": {"none"}, "claims": {groups}}).Get("code"), "and once")
}

func TestFreshnessAndStrength(t *testing.T) {
	t.Parallel()
	p := newParty(t)
	b := p.w.Walker()
	first, _ := p.goesIn(b, p.asks(nil).Encode(), "mvoss")
	_, was := p.opens(p.call("/oidc/token", redeeming(p, first.Get("code"))).text("id_token"))
	p.clock.turn(10 * time.Minute)
	same, _ := p.goesIn(b, p.asks(url.Values{"max_age": {"3600"}}).Encode(), "zoberg")
	_, is := p.opens(p.call("/oidc/token", redeeming(p, same.Get("code"))).text("id_token"))
	assert.Equal(t, was["auth_time"], is["auth_time"], "within max_age the provider's session counts")
	older, _ := p.goesIn(b, p.asks(url.Values{"max_age": {"60"}}).Encode(), "mvoss")
	_, fresh := p.opens(p.call("/oidc/token", redeeming(p, older.Get("code"))).text("id_token"))
	assert.Greater(t, fresh["auth_time"], was["auth_time"], "an older sign-in is asked anew")
	p.clock.turn(5 * time.Minute)
	silent, _ := p.goesIn(b, p.asks(url.Values{"max_age": {"60"}, "prompt": {"none"}}).Encode(), "mvoss")
	assert.Equal(t, "login_required", silent.Get("error"), "what can't be proven silently is an error")
	p.w.Staff.SetMistake("old-session")
	cheated, _ := p.goesIn(b, p.asks(url.Values{"prompt": {"login"}}).Encode(), "mvoss")
	assert.Empty(t, cheated.Get("code"), "a provider that does not ask anew is found out")
	p.w.Staff.SetMistake("no-context")
	preferred, _ := p.goes(p.asks(url.Values{"acr_values": {"harbour-gold"}}).Encode(), "mvoss")
	assert.Empty(t, preferred.Get("code"))
	p.w.Staff.SetMistake("")
	hint := p.tokens(nil).text("id_token")
	other, bb := p.goes(p.asks(url.Values{"id_token_hint": {hint}}).Encode(), "zoberg")
	assert.Empty(t, other.Get("code"), bb.Text)
	right, _ := p.goes(p.asks(url.Values{"id_token_hint": {hint}}).Encode(), "mvoss")
	assert.NotEmpty(t, right.Get("code"))
}

func TestSubjects(t *testing.T) {
	t.Parallel()
	p := newParty(t)
	subject := func(q *party) any {
		_, id := q.opens(q.tokens(nil).text("id_token"))
		return id["sub"]
	}
	other := addParty(t, p.w, p.clock, "pilot-log", func(a *config.Application) {
		a.OIDC.RedirectURIs = append(a.OIDC.RedirectURIs, "https://pilots.example/answer")
	})
	assert.NotEqual(t, subject(p), subject(other), "pairwise")
	for _, q := range []*party{p, other} {
		q.set(func(a *config.Application) { a.Subject.Source = "public" })
	}
	assert.Equal(t, subject(p), subject(other), "public")
	p.set(func(a *config.Application) { a.Subject.Source, a.Subject.From = "profile", "preferred_username" })
	assert.Equal(t, "mvoss", subject(p))
}

func TestSigningOut(t *testing.T) {
	t.Parallel()
	p := newParty(t, func(a *config.Application) { a.Providers = []string{"northquay-stevedores"} })
	other := addParty(t, p.w, p.clock, "pilot-log", func(a *config.Application) {
		a.Providers, a.OIDC.FrontChannelLogout = []string{"northquay-stevedores"}, "https://pilots.example/out"
	})
	ctx, b := context.Background(), p.w.Walker()
	sign := func(q *party) answer {
		got, _ := q.goesIn(b, q.asks(url.Values{"scope": {"openid"}}).Encode(), "lene.aas")
		a := q.call("/oidc/token", redeeming(q, got.Get("code")))
		require.Equal(t, 200, a.status, a.raw)
		return a
	}
	mine, theirs := sign(p), sign(other)
	out := func(q url.Values) string {
		require.NoError(t, b.Get(ctx, p.w.URL+"/oidc/logout?"+q.Encode()))
		return b.Text
	}
	assert.Contains(t, out(url.Values{}), "Sign out?", "without a hint the person is asked")
	assert.Contains(t, out(url.Values{"client_id": {p.id}, "id_token_hint": {"a.b.c"}}), "Sign out?")
	assert.NotContains(
		t, out(url.Values{"client_id": {p.id}, "post_logout_redirect_uri": {"https://evil.example/"}}),
		`href="https://evil.example`,
	)
	assert.Equal(t, 200, p.userinfo(mine.text("access_token")).status)
	text := out(url.Values{"id_token_hint": {mine.text("id_token")}, "post_logout_redirect_uri": {p.server.URL + "/bye"}, "state": {"s-9"}})
	assert.Contains(t, text, "https://pilots.example/out?iss=", "front channel, for the other one in the session")
	require.NoError(t, b.Onward(ctx), "and on to the provider, and back to where the application wants the person")
	assert.Equal(t, p.server.URL+"/bye?state=s-9", b.Address.String())
	require.NoError(t, b.Get(ctx, p.w.URL+"/oidc/authorize?"+other.asks(url.Values{"scope": {"openid"}}).Encode()))
	assert.Contains(t, b.Text, "choose who you are", "the provider asks as well: its session has ended")
	assert.Equal(t, 401, p.userinfo(mine.text("access_token")).status)
	assert.Equal(t, 401, other.userinfo(theirs.text("access_token")).status, "one session at the provider, one end")
	require.Eventually(
		t,
		func() bool { other.mu.Lock(); defer other.mu.Unlock(); return len(other.told) == 1 },
		testbed.Patience,
		10*time.Millisecond,
	)
	header, content := other.opens(other.told[0])
	assert.Equal(t, "logout+jwt", header.ExtraHeaders["typ"])
	_, id := other.opens(theirs.text("id_token"))
	assert.Equal(t, []any{other.id, id["sid"], id["sub"]}, []any{content["aud"], content["sid"], content["sub"]})
	assert.NotContains(t, content, "nonce")
	assert.NotEmpty(t, content["jti"])
	assert.Contains(t, content["events"], "http://schemas.openid.net/event/backchannel-logout")
	// A logout token is no hint and no ID token.
	assert.Contains(t, out(url.Values{"client_id": {other.id}, "id_token_hint": {other.told[0]}}), "Sign out?")

	// The whole way through the provider and back to the application.
	mine = sign(p)
	walker := p.w.Walker()
	require.NoError(
		t,
		walker.Get(
			ctx,
			p.w.URL+"/oidc/logout?"+url.Values{
				"id_token_hint":            {mine.text("id_token")},
				"post_logout_redirect_uri": {p.server.URL + "/bye"},
				"state":                    {"s-9"},
			}.Encode(),
		),
	)
	require.NoError(t, walker.Onward(ctx))
	assert.Equal(t, p.server.URL+"/bye?state=s-9", walker.Address.String())

	// The provider says that the session has ended.
	mine = sign(p)
	token, err := p.w.Northquay.LogoutToken("saltmere-gate", "lene.aas")
	require.NoError(t, err)
	tell := func(token string) answer {
		return p.send("/oidc/callback/northquay-stevedores/logout", url.Values{"logout_token": {token}}, nil)
	}
	foreign, err := p.w.Northquay.LogoutToken("another-client", "lene.aas")
	require.NoError(t, err)
	assert.Equal(t, 400, tell(foreign).status, "for another client")
	assert.Equal(t, 400, tell("a.b.c").status)
	assert.Equal(t, 400, tell(token[:len(token)-4]+"AAAA").status, "forged")
	assert.Equal(t, 200, p.userinfo(mine.text("access_token")).status)
	require.Equal(t, 200, tell(token).status)
	assert.Equal(t, 401, p.userinfo(mine.text("access_token")).status)
	assert.Equal(t, 400, tell(token).status, "once")
}

func TestRegistration(t *testing.T) {
	t.Parallel()
	p := newParty(t)
	ctx, c := context.Background(), p.w.Client()
	register := func(token, body string) answer {
		r, err := http.NewRequest(http.MethodPost, p.w.URL+"/oidc/register", strings.NewReader(body))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/json")
		if token != "" {
			r.Header.Set("Authorization", "Bearer "+token)
		}
		return p.do(r)
	}
	good := `{"client_name":"Berth Map","redirect_uris":["https://berths.example/cb"],"scope":"openid email","jwks":{"keys":[]}}`
	assert.Equal(t, 404, register(p.w.Token, good).status, "off until it is switched on")
	require.NoError(t, c.SetRegistration(ctx, true))
	assert.Equal(t, 401, register("", good).status)
	assert.Equal(t, 401, register(token(t, p.w, "viewer"), good).status)
	for body, code := range map[string]string{`[]`: "invalid_client_metadata", `{}`: "invalid_client_metadata",
		`{"redirect_uris":["http://berths.example/cb"]}`:                      "invalid_redirect_uri",
		`{"redirect_uris":["https://a.example/#x"]}`:                          "invalid_redirect_uri",
		`{"redirect_uris":["https://a.example/"],"response_types":["token"]}`: "invalid_client_metadata",
		`{"redirect_uris":"x","client_name":7}`:                               "invalid_client_metadata"} {
		a := register(p.w.Token, body)
		assert.Equal(t, []any{400, code}, []any{a.status, a.err()}, "%s: %s", body, a.raw)
	}
	a := register(
		p.w.Token,
		`{"client_name":"Berth Map","redirect_uris":["https://berths.example/cb"],"scope":"openid `+
			`email","grant_types":["authorization_code","urn:ietf:params:oauth:grant-type:device_code"]}`,
	)
	require.Equal(t, 201, a.status, a.raw)
	assert.NotEmpty(t, a.text("client_secret"))
	made, err := c.Application(ctx, a.text("client_id"))
	require.NoError(t, err)
	assert.Equal(t, access.Draft, made.Reach)
	assert.False(t, made.OIDC.DeviceGrant, "what widens access is for an engineer to switch on")
}

// TestDiscoveryTellsTheTruth compares each entry of the discovery document with what happens.
func TestDiscoveryTellsTheTruth(t *testing.T) {
	t.Parallel()
	p := newParty(t, func(a *config.Application) { a.OIDC.Introspection, a.OIDC.DeviceGrant = true, true })
	var d map[string]any
	p.get("/.well-known/openid-configuration", &d)
	var same map[string]any
	p.get("/.well-known/oauth-authorization-server", &same)
	assert.Equal(t, d, same)
	assert.Equal(t, p.w.URL, d["issuer"])
	list := func(name string) []string {
		var out []string
		for _, v := range d[name].([]any) {
			out = append(out, v.(string))
		}
		delete(d, name)
		return out
	}
	flag := func(name string) bool { v := d[name]; delete(d, name); return v == true }
	delete(d, "issuer")
	for _, name := range []string{"authorization_endpoint", "token_endpoint", "userinfo_endpoint", "jwks_uri",
		"pushed_authorization_request_endpoint", "device_authorization_endpoint", "end_session_endpoint", "revocation_endpoint",
		"introspection_endpoint"} {
		address, _ := d[name].(string)
		require.True(t, strings.HasPrefix(address, p.w.URL+"/oidc/"), name)
		for _, method := range []string{http.MethodGet, http.MethodPost} {
			r, err := http.NewRequest(method, address, nil)
			require.NoError(t, err)
			a := p.do(r)
			if a.status != 404 && a.status != 405 {
				delete(d, name)
			}
		}
		assert.NotContains(t, d, name, "nothing answers there")
	}
	for _, alg := range list("id_token_signing_alg_values_supported") {
		p.set(func(a *config.Application) { a.OIDC.Algorithm = alg })
		header, _ := p.opens(p.tokens(nil).text("id_token"))
		assert.Equal(t, alg, header.Algorithm)
	}
	for _, alg := range list("userinfo_signing_alg_values_supported") {
		p.set(func(a *config.Application) { a.OIDC.Algorithm, a.OIDC.SignedUserInfo = alg, true })
		header, _ := p.opens(p.userinfo(p.tokens(nil).text("access_token")).raw)
		assert.Equal(t, alg, header.Algorithm)
	}
	p.set(func(a *config.Application) { a.OIDC.SignedUserInfo = false })
	for _, mode := range list("response_modes_supported") {
		p.code(url.Values{"response_mode": {mode}})
		assert.Equal(t, mode, p.how)
	}
	for _, kind := range list("response_types_supported") {
		p.code(url.Values{"response_type": {kind}})
	}
	for _, scope := range list("scopes_supported") {
		p.set(func(a *config.Application) { a.OIDC.Scopes = []string{"openid", scope} })
		a := p.tokens(url.Values{"scope": {"openid " + scope}})
		assert.Contains(t, strings.Fields(a.text("scope")), scope)
		assert.Equal(t, scope == "offline_access", a.text("refresh_token") != "", scope)
	}
	p.set(func(a *config.Application) {
		a.OIDC.Scopes = []string{"openid", "profile", "email", "groups", "offline_access"}
	})
	for _, grant := range list("grant_types_supported") {
		a := p.call("/oidc/token", url.Values{"grant_type": {grant}, "code": {"x"}, "refresh_token": {"x"}, "device_code": {"x"}})
		assert.NotEqual(t, "unsupported_grant_type", a.err(), grant)
	}
	for _, subject := range list("subject_types_supported") {
		p.set(func(a *config.Application) { a.Subject.Source = subject })
		p.tokens(nil)
	}
	for _, method := range list("token_endpoint_auth_methods_supported") {
		key, set := newClientKey(t)
		q := addParty(t, p.w, p.clock, "by-"+strings.ReplaceAll(method, "_", "-"), func(a *config.Application) {
			if a.OIDC.Authentication = method; method == "private_key_jwt" {
				a.OIDC.Keys = set
			}
		})
		q.key = key
		a := q.tokens(nil)
		assert.Equal(t, 200, q.call("/oidc/revoke", url.Values{"token": {a.text("access_token")}}).status, method)
	}
	assert.Equal(
		t,
		[]string{"client_secret_basic", "client_secret_post", "private_key_jwt", "none"},
		list("revocation_endpoint_auth_methods_supported"),
	)
	assert.Equal(
		t,
		[]string{"client_secret_basic", "client_secret_post", "private_key_jwt"},
		list("introspection_endpoint_auth_methods_supported"),
	)
	for _, method := range list("code_challenge_methods_supported") {
		p.code(url.Values{"code_challenge_method": {method}})
	}
	for _, prompt := range list("prompt_values_supported") {
		got, _ := p.goes(p.asks(url.Values{"prompt": {prompt}}).Encode(), "mvoss")
		assert.Equal(t, prompt == "none", got.Get("error") == "login_required", prompt)
	}
	assert.Subset(t, list("claims_supported"), []string{"sub", "email", "name", "groups", "auth_time", "acr", "sid"})
	assert.Equal(t, []string{"normal"}, list("claim_types_supported"))
	assert.True(t, flag("claims_parameter_supported"))
	a := p.tokens(url.Values{"scope": {"openid"}, "claims": {`{"id_token":{"email":null},"userinfo":{"name":{"essential":true}}}`}})
	_, id := p.opens(a.text("id_token"))
	assert.Equal(t, "mira.voss@saltmere.example", id["email"])
	assert.Equal(t, "Mira Voss", p.userinfo(a.text("access_token")).body["name"])
	assert.True(t, flag("authorization_response_iss_parameter_supported"))
	assert.True(t, flag("request_parameter_supported"), "TestRequestObjectsAndClientKeys")
	assert.False(t, flag("request_uri_parameter_supported"), "only from the pushed endpoint")
	for _, name := range []string{"backchannel_logout_supported", "backchannel_logout_session_supported", "frontchannel_logout_supported",
		"frontchannel_logout_session_supported"} {
		assert.True(t, flag(name), "TestSigningOut")
	}
	for _, name := range []string{"request_object_signing_alg_values_supported", "token_endpoint_auth_signing_alg_values_supported",
		"revocation_endpoint_auth_signing_alg_values_supported", "introspection_endpoint_auth_signing_alg_values_supported"} {
		assert.Contains(t, list(name), "ES256")
	}
	assert.Empty(t, d, "nothing is promised that was not looked at")
}

func TestBrowserClientsAndKeyRollover(t *testing.T) {
	t.Parallel()
	p := newParty(t, func(a *config.Application) { a.OIDC.Origins = []string{"https://pages.example"} })
	a := p.tokens(nil)
	with := func(origin string) string {
		r, err := http.NewRequest(http.MethodGet, p.w.URL+"/oidc/userinfo", nil)
		require.NoError(t, err)
		r.Header.Set("Origin", origin)
		r.Header.Set("Authorization", "Bearer "+a.text("access_token"))
		got := p.do(r)
		assert.Empty(t, got.header.Get("Access-Control-Allow-Credentials"))
		return got.header.Get("Access-Control-Allow-Origin")
	}
	assert.Equal(t, "https://pages.example", with("https://pages.example"))
	assert.Empty(t, with("https://evil.example"))
	assert.Empty(t, with("null"))
	p.set(func(a *config.Application) { a.OIDC.Origins = []string{"https://other.example"} })
	assert.Empty(t, with("https://pages.example"), "what is taken out counts no more")
	assert.Equal(t, "https://other.example", with("https://other.example"))
	nobody, err := http.Get(p.w.URL + "/oidc/userinfo")
	require.NoError(t, err)
	nobody.Body.Close()
	assert.Equal(t, 401, nobody.StatusCode)
	assert.Equal(
		t, `Bearer realm="Inner Gate"`, nobody.Header.Get("WWW-Authenticate"),
		"who shows no token is told of no error (RFC 6750, section 3.1)",
	)
	assert.Zero(t, nobody.ContentLength)

	// The next key stands in the key set before anything is signed with it.
	ctx, c := context.Background(), p.w.Client()
	next, err := c.MakeKey(ctx, api.NewKey{Purpose: "token-p256"})
	require.NoError(t, err)
	count := func() int {
		var set struct{ Keys []json.RawMessage }
		p.get("/oidc/keys", &set)
		return len(set.Keys)
	}
	before := count()
	_, err = c.StepKey(ctx, next.ID, "publish")
	require.NoError(t, err)
	assert.Equal(t, before+1, count())
	first, _ := p.opens(p.tokens(nil).text("id_token"))
	_, err = c.SwitchKey(ctx, next.ID, api.SwitchKey{Anyway: true})
	require.NoError(t, err)
	old := a.text("id_token")
	second, _ := p.opens(p.tokens(nil).text("id_token"))
	assert.NotEqual(t, first.KeyID, second.KeyID)
	p.opens(old) // the old key is still there for those who hold its tokens
	_, err = c.MakeKey(ctx, api.NewKey{Purpose: "token-p256", Kind: "p-384"})
	assert.ErrorContains(t, err, "does not fit the algorithm")
}
