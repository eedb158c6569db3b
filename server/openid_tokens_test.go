package server_test

import (
	"context"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/core/access"
	"innergate/core/config"
)

func TestTokenEndpointRefuses(t *testing.T) {
	t.Parallel()
	p := newParty(t)
	other := addParty(t, p.w, p.clock, "pilot-log")
	for _, c := range []struct {
		name   string
		change func(form url.Values)
		status int
		code   string
	}{
		{"no code", func(f url.Values) { f.Del("code") }, 400, "invalid_request"},
		{"another code", func(f url.Values) { f.Set("code", "guessed") }, 400, "invalid_grant"},
		{"another redirect URI", func(f url.Values) { f.Set("redirect_uri", "https://evil.example/") }, 400, "invalid_grant"},
		{"no redirect URI", func(f url.Values) { f.Del("redirect_uri") }, 400, "invalid_grant"},
		{"another verifier", func(f url.Values) { f.Set("code_verifier", strings.Repeat("x", 43)) }, 400, "invalid_grant"},
		{"the challenge as verifier", func(f url.Values) { f.Set("code_verifier", challenge(verifier)) }, 400, "invalid_grant"},
		{"no verifier", func(f url.Values) { f.Del("code_verifier") }, 400, "invalid_grant"},
		{"an unknown grant", func(f url.Values) { f.Set("grant_type", "password") }, 400, "unsupported_grant_type"},
		{"client credentials", func(f url.Values) { f.Set("grant_type", "client_credentials") }, 400, "unsupported_grant_type"},
		{"no grant", func(f url.Values) { f.Del("grant_type") }, 400, "invalid_request"},
		{"a parameter twice", func(f url.Values) { f.Add("code", "again") }, 400, "invalid_request"},
		{"two proofs", func(f url.Values) { f.Set("client_secret", p.secret) }, 400, "invalid_request"},
		{"two client IDs", func(f url.Values) { f.Set("client_id", "pilot-log") }, 401, "invalid_client"},
	} {
		form := redeeming(p, p.code(nil))
		c.change(form)
		a := p.call("/oidc/token", form)
		assert.Equal(t, c.code, a.err(), "%s: %s", c.name, a.raw)
		assert.Equal(t, c.status, a.status, c.name)
		assert.Empty(t, a.text("access_token"), c.name)
		assert.Equal(t, "no-store", a.header.Get("Cache-Control"), c.name)
	}
	a := other.call("/oidc/token", redeeming(p, p.code(nil)))
	assert.Equal(t, "invalid_grant", a.err(), "another client's code")

	secret := p.secret
	p.secret = "igs_wrong"
	a = p.call("/oidc/token", redeeming(p, p.code(nil)))
	assert.Equal(t, []any{401, "invalid_client"}, []any{a.status, a.err()})
	assert.Contains(t, a.header.Get("WWW-Authenticate"), "Basic")
	p.secret = secret
	for _, method := range []string{"client_secret_post", "none"} {
		p.method = method
		assert.Equal(t, "invalid_client", p.call("/oidc/token", redeeming(p, p.code(nil))).err(), "only the registered method is taken")
	}
	p.method = "client_secret_basic"
	form := redeeming(p, p.code(nil))
	a = p.send("/oidc/token?code="+form.Get("code"), form, p.proves(form))
	assert.Equal(t, "invalid_request", a.err(), "nothing in the address")
	r, err := http.NewRequest(http.MethodPost, p.w.URL+"/oidc/token", strings.NewReader(`{"grant_type":"authorization_code"}`))
	require.NoError(t, err)
	r.Header.Set("Content-Type", "application/json")
	assert.Equal(t, "invalid_request", p.do(r).err())

	p.clock.turn(0)
	late := redeeming(p, p.code(nil))
	p.clock.turn(61 * time.Second)
	assert.Equal(t, "invalid_grant", p.call("/oidc/token", late).err(), "a code is over after a minute")
	p.set(func(a *config.Application) { a.OIDC.WithoutPKCE = true })
	bare := redeeming(p, p.code(url.Values{"code_challenge": {""}, "code_challenge_method": {""}}))
	assert.Equal(t, "invalid_grant", p.call("/oidc/token", bare).err(), "a verifier without a challenge: somebody took the challenge away")
}

// TestCodeUsedTwice takes back everything that the code gave, also where both come at once.
func TestCodeUsedTwice(t *testing.T) {
	t.Parallel()
	p := newParty(t)
	form := redeeming(p, p.code(nil))
	first := p.call("/oidc/token", form)
	require.Equal(t, 200, first.status)
	require.Equal(t, 200, p.userinfo(first.text("access_token")).status)
	assert.Equal(t, "invalid_grant", p.call("/oidc/token", form).err())
	assert.Equal(t, 401, p.userinfo(first.text("access_token")).status, "what it gave is taken back")
	assert.Equal(
		t, "invalid_grant",
		p.call("/oidc/token", url.Values{"grant_type": {"refresh_token"}, "refresh_token": {first.text("refresh_token")}}).err(),
	)

	form = redeeming(p, p.code(nil))
	var running sync.WaitGroup
	results := make(chan int, 8)
	for range 8 {
		running.Go(func() {
			copied := url.Values{}
			for name, v := range form {
				copied[name] = slices.Clone(v)
			}
			results <- p.call("/oidc/token", copied).status
		})
	}
	running.Wait()
	close(results)
	good := 0
	for status := range results {
		if status == 200 {
			good++
		}
	}
	assert.LessOrEqual(t, good, 1, "never two")
}

func TestRefreshTokens(t *testing.T) {
	t.Parallel()
	p := newParty(t)
	first := p.tokens(nil)
	refresh := func(token string, extra url.Values) answer {
		form := url.Values{"grant_type": {"refresh_token"}, "refresh_token": {token}}
		for name, v := range extra {
			form[name] = v
		}
		return p.call("/oidc/token", form)
	}
	p.clock.turn(11 * time.Minute)
	assert.Equal(t, 401, p.userinfo(first.text("access_token")).status, "an access token is over after ten minutes")
	second := refresh(first.text("refresh_token"), nil)
	require.Equal(t, 200, second.status, second.raw)
	assert.Equal(t, 200, p.userinfo(second.text("access_token")).status)
	_, was := p.opens(first.text("id_token"))
	_, is := p.opens(second.text("id_token"))
	assert.Equal(t, []any{was["sub"], was["auth_time"], was["sid"]}, []any{is["sub"], is["auth_time"], is["sid"]})
	assert.NotContains(t, is, "nonce")
	narrow := refresh(second.text("refresh_token"), url.Values{"scope": {"openid"}})
	require.Equal(t, 200, narrow.status)
	assert.NotContains(t, p.userinfo(narrow.text("access_token")).body, "email")
	assert.Equal(
		t, "invalid_scope", refresh(narrow.text("refresh_token"), url.Values{"scope": {"openid phone"}}).err(),
		"no more than was given",
	)
	other := addParty(t, p.w, p.clock, "pilot-log")
	assert.Equal(
		t, "invalid_grant",
		other.call("/oidc/token", url.Values{"grant_type": {"refresh_token"}, "refresh_token": {narrow.text("refresh_token")}}).err(),
	)
	assert.Equal(t, "invalid_grant", refresh(narrow.text("access_token"), nil).err(), "an access token is no refresh token")
	assert.Equal(t, 401, p.userinfo(narrow.text("refresh_token")).status, "and the other way round")
	// Somebody uses the first one again: everything ends.
	assert.Equal(t, "invalid_grant", refresh(first.text("refresh_token"), nil).err())
	assert.Equal(t, "invalid_grant", refresh(narrow.text("refresh_token"), nil).err())
	assert.Equal(t, 401, p.userinfo(narrow.text("access_token")).status)
}

// TestEverythingIsAskedAgain closes one thing after the other behind tokens that are still good.
func TestEverythingIsAskedAgain(t *testing.T) {
	t.Parallel()
	p := newParty(t)
	ctx, c := context.Background(), p.w.Client()
	for _, x := range []struct {
		name     string
		do, undo func() error
	}{
		{"the application closed", func() error {
			return c.SetReach(ctx, "applications", p.id, access.Closed)
		}, func() error { return c.SetReach(ctx, "applications", p.id, access.Everyone) }},
		{"the provider closed", func() error {
			return c.SetReach(ctx, "providers", "saltmere-staff", access.Closed)
		}, func() error { return c.SetReach(ctx, "providers", "saltmere-staff", access.Everyone) }},
		{"the provider taken away", func() error {
			p.set(func(a *config.Application) { a.Providers = []string{"lantern-pass"} })
			return nil
		}, func() error {
			p.set(func(a *config.Application) { a.Providers = []string{"saltmere-staff"} })
			return nil
		}},
		{"the person deactivated", func() error {
			return p.w.SetActive("Mira Voss", false)
		}, func() error { return p.w.SetActive("Mira Voss", true) }},
	} {
		a := p.tokens(nil)
		code := p.code(nil)
		require.NoError(t, x.do(), x.name)
		assert.Equal(t, 401, p.userinfo(a.text("access_token")).status, x.name)
		assert.Equal(
			t, "invalid_grant",
			p.call("/oidc/token", url.Values{"grant_type": {"refresh_token"}, "refresh_token": {a.text("refresh_token")}}).err(),
			x.name,
		)
		assert.Equal(t, "invalid_grant", p.call("/oidc/token", redeeming(p, code)).err(), x.name)
		require.NoError(t, x.undo(), x.name)
	}
}

func TestRevocationAndIntrospection(t *testing.T) {
	t.Parallel()
	p := newParty(t, func(a *config.Application) { a.OIDC.Introspection = true })
	other := addParty(t, p.w, p.clock, "pilot-log", func(a *config.Application) { a.OIDC.Introspection = true })
	a := p.tokens(nil)
	seen := p.call("/oidc/introspect", url.Values{"token": {a.text("access_token")}})
	require.Equal(t, 200, seen.status, seen.raw)
	assert.Equal(t, []any{true, p.id, p.w.URL}, []any{seen.body["active"], seen.body["client_id"], seen.body["iss"]})
	assert.Equal(
		t,
		map[string]any{"active": false},
		other.call("/oidc/introspect", url.Values{"token": {a.text("access_token")}}).body,
		"another client learns nothing",
	)
	assert.Equal(t, map[string]any{"active": false}, p.call("/oidc/introspect", url.Values{"token": {"guessed"}}).body)
	assert.Equal(t, 200, other.call("/oidc/revoke", url.Values{"token": {a.text("access_token")}}).status)
	assert.Equal(t, 200, p.userinfo(a.text("access_token")).status, "another client takes nothing back")
	assert.Equal(t, 200, p.call("/oidc/revoke", url.Values{"token": {a.text("access_token")}}).status)
	assert.Equal(t, 401, p.userinfo(a.text("access_token")).status)
	assert.Equal(t, 200, p.call("/oidc/revoke", url.Values{"token": {"guessed"}}).status, "RFC 7009, section 2.2")
	assert.Equal(t, "invalid_request", p.call("/oidc/revoke", url.Values{}).err())
	more := p.call("/oidc/token", url.Values{"grant_type": {"refresh_token"}, "refresh_token": {a.text("refresh_token")}})
	require.Equal(t, 200, more.status)
	assert.Equal(t, 200, p.call("/oidc/revoke", url.Values{"token": {more.text("refresh_token")}}).status)
	assert.Equal(t, 401, p.userinfo(more.text("access_token")).status, "a refresh token takes everything with it")
	p.set(func(a *config.Application) { a.OIDC.Introspection = false })
	assert.Equal(t, "unauthorized_client", p.call("/oidc/introspect", url.Values{"token": {"x"}}).err(), "off until it is switched on")
	p.secret = "igs_wrong"
	for _, path := range []string{"/oidc/introspect", "/oidc/revoke", "/oidc/par", "/oidc/device"} {
		a := p.call(path, url.Values{"token": {"x"}})
		assert.Equal(t, []any{401, "invalid_client"}, []any{a.status, a.err()}, path)
	}
}

func TestSignedAccessTokensAndUserInfo(t *testing.T) {
	t.Parallel()
	p := newParty(t, func(a *config.Application) {
		a.OIDC.Audience, a.OIDC.SignedUserInfo, a.OIDC.ClaimsInIDToken = "https://tides.example/api", true, true
	})
	a := p.tokens(nil)
	header, content := p.opens(a.text("access_token"))
	assert.Equal(t, "at+jwt", header.ExtraHeaders["typ"], "RFC 9068")
	assert.Equal(t, []any{"https://tides.example/api", p.id, p.w.URL}, []any{content["aud"], content["client_id"], content["iss"]})
	_, id := p.opens(a.text("id_token"))
	assert.Equal(t, "mira.voss@saltmere.example", id["email"])
	info := p.userinfo(a.text("access_token"))
	assert.Equal(t, "application/jwt", info.header.Get("Content-Type"))
	_, told := p.opens(info.raw)
	assert.Equal(t, []any{p.id, id["sub"]}, []any{told["aud"], told["sub"]})
	assert.NotContains(t, told, "exp", "it never passes for an ID token")
	for name, token := range map[string]string{"an ID token": a.text("id_token"), "UserInfo": info.raw} {
		assert.Equal(t, 401, p.userinfo(token).status, name+" is no access token")
	}
	for name, token := range map[string]string{"an access token": a.text("access_token"), "UserInfo": info.raw} {
		got, _ := p.goes(p.asks(url.Values{"id_token_hint": {token}}).Encode(), "mvoss")
		assert.Equal(t, "invalid_request", got.Get("error"), name+" is no hint")
	}
}

func TestDeviceGrant(t *testing.T) {
	t.Parallel()
	p := newParty(t, func(a *config.Application) { a.OIDC.DeviceGrant = true })
	ctx := context.Background()
	begin := func() answer {
		a := p.call("/oidc/device", url.Values{"scope": {"openid email"}})
		require.Equal(t, 200, a.status, a.raw)
		return a
	}
	poll := func(code string) answer {
		return p.call("/oidc/token", url.Values{"grant_type": {"urn:ietf:params:oauth:grant-type:device_code"}, "device_code": {code}})
	}
	walk := func(user, answer string) string {
		b := p.w.Walker()
		require.NoError(t, b.Get(ctx, p.w.URL+"/device"))
		require.NoError(t, b.Submit(ctx, url.Values{"code": {strings.ToLower(user)}}))
		require.NoError(t, b.Onward(ctx))
		if !strings.Contains(b.Text, "choose who you are") {
			return b.Text
		}
		require.NoError(t, b.Submit(ctx, url.Values{"person": {"mvoss"}}))
		require.NoError(t, b.Onward(ctx))
		assert.Contains(t, b.Text, "You typed the code of another device")
		assert.NotContains(t, b.Text, "a link brought it")
		require.NoError(t, b.Submit(ctx, url.Values{"answer": {answer}}))
		return b.Text
	}
	d := begin()
	assert.Equal(t, "authorization_pending", poll(d.text("device_code")).err())
	assert.Equal(t, "slow_down", poll(d.text("device_code")).err())
	assert.Contains(t, walk(d.text("user_code"), "yes"), "You are signed in on your device")
	p.clock.turn(20 * time.Second)
	a := poll(d.text("device_code"))
	require.Equal(t, 200, a.status, a.raw)
	assert.Equal(t, "mira.voss@saltmere.example", p.userinfo(a.text("access_token")).body["email"])
	assert.Equal(t, "invalid_grant", poll(d.text("device_code")).err(), "once")
	assert.Contains(t, walk(d.text("user_code"), "yes"), "This code is over")
	no := begin()
	walk(no.text("user_code"), "no")
	assert.Equal(t, "access_denied", poll(no.text("device_code")).err())
	late := begin()
	p.clock.turn(11 * time.Minute)
	assert.Equal(t, "expired_token", poll(late.text("device_code")).err())
	other := addParty(t, p.w, p.clock, "pilot-log", func(a *config.Application) { a.OIDC.DeviceGrant = true })
	assert.Equal(
		t,
		"invalid_grant",
		other.call("/oidc/token", url.Values{"grant_type": {"urn:ietf:params:oauth:grant-type:device_code"},
			"device_code": {begin().text("device_code")}}).
			err(),
		"another client's code",
	)
	p.set(func(a *config.Application) { a.OIDC.DeviceGrant = false })
	assert.Equal(t, "unauthorized_client", p.call("/oidc/device", url.Values{"scope": {"openid"}}).err(), "off until it is switched on")
	text := ""
	for range 25 {
		text = walk("BBBB-BBBB", "yes")
	}
	assert.Contains(t, text, "too many sign-ins", "guesses are counted")
}

// TestDeviceAsksTwiceAtOnce has an impatient device send everything twice. It gets its tokens once, and keeps them.
func TestDeviceAsksTwiceAtOnce(t *testing.T) {
	t.Parallel()
	p := newParty(t, func(a *config.Application) { a.OIDC.DeviceGrant = true })
	ctx := context.Background()
	d := p.call("/oidc/device", url.Values{"scope": {"openid email"}})
	require.Equal(t, 200, d.status, d.raw)
	b := p.w.Walker()
	require.NoError(t, b.Get(ctx, d.text("verification_uri_complete")))
	require.NoError(t, b.Submit(ctx, nil))
	require.NoError(t, b.Onward(ctx))
	require.NoError(t, b.Submit(ctx, url.Values{"person": {"mvoss"}}))
	require.NoError(t, b.Onward(ctx))
	require.NoError(t, b.Submit(ctx, url.Values{"answer": {"yes"}}))
	require.Contains(t, b.Text, "You are signed in on your device")
	answers := make([]answer, 8)
	var all sync.WaitGroup
	for i := range answers {
		all.Go(func() {
			answers[i] = p.call(
				"/oidc/token",
				url.Values{"grant_type": {"urn:ietf:params:oauth:grant-type:device_code"}, "device_code": {d.text("device_code")}},
			)
		})
	}
	all.Wait()
	given := 0
	for _, a := range answers {
		if a.status == 200 {
			given++
			assert.Equal(t, 200, p.userinfo(a.text("access_token")).status, "the others took nothing back")
			continue
		}
		assert.Equal(t, "invalid_grant", a.err(), a.raw)
	}
	assert.Equal(t, 1, given)
}

// TestSecretsChangeOver makes a second secret, uses both, and takes the first back.
func TestSecretsChangeOver(t *testing.T) {
	t.Parallel()
	p := newParty(t)
	ctx, c := context.Background(), p.w.Client()
	first := p.secret
	second, err := c.NewSecret(ctx, p.id, api.NewSecret{Days: 30})
	require.NoError(t, err)
	_, err = c.NewSecret(ctx, p.id, api.NewSecret{})
	assert.ErrorContains(t, err, "two valid secrets")
	// Which of two is still in use is seen from when each was used last.
	used := func() (out []bool) {
		require.NoError(t, p.w.Gate.WriteUsed(ctx))
		list, err := c.Secrets(ctx, "applications", p.id)
		require.NoError(t, err)
		for _, s := range list.Items {
			out = append(out, s.LastUsed != nil)
		}
		return out
	}
	assert.Equal(t, []bool{false, false}, used())
	p.tokens(nil)
	assert.Equal(t, []bool{true, false}, used())
	p.secret = "igs_" + second.Secret[4:len(second.Secret)-1] + "-"
	p.call("/oidc/token", redeeming(p, p.code(nil)))
	assert.Equal(t, []bool{true, false}, used(), "a wrong one is no use")
	p.secret = second.Secret
	p.tokens(nil)
	assert.Equal(t, []bool{true, true}, used())
	list, err := c.Secrets(ctx, "applications", p.id)
	require.NoError(t, err)
	for _, s := range list.Items {
		assert.Empty(t, s.Secret)
		if s.ID != second.ID {
			require.NoError(t, c.DeleteSecret(ctx, "applications", p.id, s.ID))
		}
	}
	p.secret = first
	assert.Equal(t, "invalid_client", p.call("/oidc/token", redeeming(p, p.code(nil))).err())
	traces, err := c.Traces(ctx, client.Page{Limit: 1})
	require.NoError(t, err)
	assert.Equal(t, "oidc.proof-secret", traces.Items[0].Code, "a refused client is seen in the traces")
	p.secret = second.Secret
	p.clock.turn(31 * 24 * time.Hour)
	assert.Equal(t, "invalid_client", p.call("/oidc/token", redeeming(p, p.code(nil))).err(), "a secret ends on its day")
}

// TestTokenRequestsBelongToTheSignIn follows sign-ins whose application was refused its tokens, or never came for them: the trace says
// so, is found by the code, is counted so, and the application's engineer gets the reference.
func TestTokenRequestsBelongToTheSignIn(t *testing.T) {
	t.Parallel()
	p := newParty(t)
	ctx := context.Background()
	newest := func() *api.Trace {
		list, err := p.w.Client().Traces(ctx, client.Page{Limit: 1, Filters: map[string]string{"application": p.id}})
		require.NoError(t, err)
		require.Len(t, list.Items, 1)
		trace, err := p.w.Client().Trace(ctx, list.Items[0].Reference)
		require.NoError(t, err)
		return trace
	}
	counted := func() [2]int64 {
		s, err := p.w.Client().Statistics(ctx, 1, map[string]string{"application": p.id})
		require.NoError(t, err)
		return [2]int64{s.SignedIn, s.Refused}
	}
	before := counted()
	secret := p.secret
	for _, c := range []struct {
		name   string
		change func(form url.Values)
		code   string
	}{
		{"secret", func(url.Values) { p.secret = "igs_wrong" }, "oidc.proof-secret"},
		{"verifier", func(f url.Values) { f.Set("code_verifier", strings.Repeat("x", 43)) }, "oidc.verifier"},
		{"redirect URI", func(f url.Values) { f.Set("redirect_uri", "https://evil.example/") }, "oidc.code-redirect"},
		{"method", func(url.Values) { p.method = "client_secret_post" }, "oidc.proof-method"},
		{"twice", func(f url.Values) { f.Add("redirect_uri", "https://rota.example/") }, "oidc.parameter-twice"},
	} {
		form := redeeming(p, p.code(nil))
		waiting := newest()
		require.Equal(t, "waiting", waiting.Outcome, "%s: a code is no sign-in yet", c.name)
		c.change(form)
		a := p.call("/oidc/token", form)
		p.secret, p.method = secret, "client_secret_basic"
		refused := newest()
		assert.Equal(t, waiting.Reference, refused.Reference, c.name)
		assert.Equal(t, []string{"refused", c.code}, []string{refused.Outcome, refused.Code}, c.name)
		require.NotNil(t, refused.Explanation, c.name)
		assert.Equal(t, c.code, string(refused.Explanation.Code), c.name)
		assert.Contains(t, a.text("error_description"), "reference "+refused.Reference, c.name)
		list, err := p.w.Client().Traces(ctx, client.Page{Filters: map[string]string{"code": c.code, "application": p.id}})
		require.NoError(t, err)
		require.Len(t, list.Items, 1, c.name)
		assert.Equal(t, refused.Reference, list.Items[0].Reference, c.name)
	}
	after := counted()
	assert.Equal(t, [2]int64{0, 5}, [2]int64{after[0] - before[0], after[1] - before[1]})

	form := redeeming(p, p.code(nil))
	p.secret = "igs_wrong"
	p.call("/oidc/token", form)
	p.secret = secret
	require.Equal(t, "refused", newest().Outcome)
	p.call("/oidc/token", form)
	good := newest()
	assert.Equal(t, []string{"signed-in", ""}, []string{good.Outcome, good.Code}, "who comes again, rightly, is signed in")
	assert.Nil(t, good.Explanation)
	again := counted()
	assert.Equal(t, [2]int64{1, 5}, [2]int64{again[0] - before[0], again[1] - before[1]}, "and counted once")

	lost := redeeming(p, p.code(nil))
	p.clock.turn(2 * time.Minute)
	require.NoError(t, p.w.Gate.Traces.EndUnfetched(ctx))
	over := newest()
	assert.Equal(t, []string{"not-taken-up", "oidc.code-unfetched"}, []string{over.Outcome, over.Code})
	require.NotNil(t, over.Explanation)
	assert.Equal(t, [2]int64{1, 6}, [2]int64{counted()[0] - before[0], counted()[1] - before[1]})
	p.call("/oidc/token", lost)
	assert.Equal(t, []string{"refused", "oidc.code-unknown"}, []string{newest().Outcome, newest().Code}, "who comes too late is told so")

	_, err := p.w.Client().Checkup(ctx)
	require.NoError(t, err)
	findings, err := p.w.Client().Findings(ctx, client.Page{Filters: map[string]string{"application": p.id}})
	require.NoError(t, err)
	var codes []string
	for _, f := range findings.Items {
		codes = append(codes, f.Code)
	}
	assert.Contains(t, codes, "seen.token-refused")
	assert.Contains(t, codes, "seen.code-unfetched")
}

// TestWhatHappensAfterwardsStandsInTheTrace finds UserInfo, refreshes and revocations in the trace of their sign-in, and what of
// the claims was withheld.
func TestWhatHappensAfterwardsStandsInTheTrace(t *testing.T) {
	t.Parallel()
	p := newParty(t)
	p.set(func(a *config.Application) { a.OIDC.Refresh = true })
	given := p.call("/oidc/token", redeeming(p, p.code(url.Values{"scope": {"openid profile printers"}})))
	require.Equal(t, 200, given.status, given.raw)
	for range 3 {
		assert.Equal(t, 200, p.userinfo(given.text("access_token")).status)
	}
	p.call("/oidc/token", url.Values{"grant_type": {"refresh_token"}, "refresh_token": {given.text("refresh_token")}})
	p.call("/oidc/revoke", url.Values{"token": {given.text("access_token")}})
	list, err := p.w.Client().Traces(context.Background(), client.Page{Limit: 1, Filters: map[string]string{"application": p.id}})
	require.NoError(t, err)
	whole, err := p.w.Client().Trace(context.Background(), list.Items[0].Reference)
	require.NoError(t, err)
	names := map[string]int{}
	withheld := map[string]string{}
	var passed string
	for _, e := range whole.Entries {
		if e.Message != nil {
			names[e.Message.Name]++
		}
		if e.Value != nil && e.Value.Withheld != "" {
			withheld[e.Value.Rule] = e.Value.Withheld
		}
		if e.Decision != nil && e.Decision.About == "scope" {
			passed = e.Decision.Result
		}
	}
	assert.Equal(t, 1, names["UserInfo response"], "the first use of a token, and no more")
	assert.Equal(t, 2, names["token response"])
	assert.Equal(t, 1, names["revoke"])
	assert.Equal(t, "left out: printers", passed)
	assert.Equal(t, "the scope email was not granted", withheld["email"])
}
