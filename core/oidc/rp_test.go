package oidc_test

import (
	"encoding/base64"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/jose"
	"innergate/core/oidc"
)

func TestAskedURL(t *testing.T) {
	age := 5 * time.Minute
	a := oidc.Asked{
		Endpoint:    "https://id.northquay.example/authorize?directory=quay%20one",
		ClientID:    clientID,
		RedirectURI: "https://gate.example/oidc/callback/northquay",
		Scopes:      []string{"openid", "email"},
		State:       "s",
		Nonce:       "n",
		Challenge:   "c",
		Prompt:      "login",
		MaxAge:      &age,
		LoginHint:   "ida@northquay.example",
		ACRValues:   []string{"a", "b"},
		More: map[string]string{
			"hd":                    "northquay.example",
			"state":                 "theirs",
			"response_type":         "token",
			"code_challenge_method": "plain",
			"max_age":               "9",
		},
	}
	got, err := a.URL()
	require.NoError(t, err)
	u, err := url.Parse(got)
	require.NoError(t, err)
	assert.Equal(
		t,
		url.Values{
			"directory":     {"quay one"},
			"response_type": {"code"},
			"client_id":     {clientID},
			"redirect_uri":  {a.RedirectURI},
			"scope":         {"openid email"},
			"state":         {"s"},
			"nonce":         {"n"},
			"code_challenge": {
				"c",
			},
			"code_challenge_method": {"S256"},
			"prompt":                {"login"},
			"max_age":               {"300"},
			"login_hint":            {"ida@northquay.example"},
			"acr_values":            {"a b"},
			"hd":                    {"northquay.example"},
		},
		u.Query(),
	)
	zero := time.Duration(0)
	got, err = oidc.Asked{Endpoint: "https://x.example/a", MaxAge: &zero}.URL()
	require.NoError(t, err)
	assert.Contains(t, got, "max_age=0", "zero is a value of its own")
	_, err = oidc.Asked{Endpoint: "https://x.example/a?client_id=other", ClientID: clientID}.URL()
	assert.ErrorContains(t, err, "client_id")
}

func TestReadAnswer(t *testing.T) {
	plain := oidc.AnswerRules{Partner: partner, Issuers: oidc.Issuers{Issuer: issuer}, State: "st-1"}
	promised := plain
	promised.IssuerPromised = true
	stateless := plain
	stateless.State = ""
	passive := plain
	passive.Passive = true
	for name, c := range map[string]struct {
		query string
		rules oidc.AnswerRules
		code  string
	}{
		"a code":                       {"code=c-1&state=st-1", plain, ""},
		"with its issuer":              {"code=c-1&state=st-1&iss=" + url.QueryEscape(issuer), plain, ""},
		"with its issuer, as promised": {"code=c-1&state=st-1&iss=" + url.QueryEscape(issuer), promised, ""},
		"no issuer, though promised":   {"code=c-1&state=st-1", promised, "oidc.answer-issuer-missing"},
		"another provider's (mix-up)":  {"code=c-1&state=st-1&iss=https%3A%2F%2Fevil.example", plain, "oidc.answer-issuer"},
		"an error of another provider": {"error=access_denied&state=st-1&iss=https%3A%2F%2Fevil.example", plain,
			"oidc.answer-issuer"},
		"another state":                 {"code=c-1&state=st-2", plain, "oidc.state"},
		"no state":                      {"code=c-1", plain, "oidc.state-missing"},
		"no state, and none kept":       {"code=c-1", stateless, "oidc.state-missing"},
		"an error without a state":      {"error=access_denied", plain, "oidc.state-missing"},
		"nothing":                       {"state=st-1", plain, "oidc.code-missing"},
		"an empty code":                 {"state=st-1&code=", plain, "oidc.code-missing"},
		"a token by way of the browser": {"code=c-1&state=st-1&id_token=a.b.c", plain, "oidc.token-in-answer"},
		"cancelled":                     {"error=access_denied&state=st-1&error_description=no%0athanks", plain, "oidc.denied"},
		"nobody signed in":              {"error=login_required&state=st-1", passive, "oidc.no-passive"},
		"would not ask, though it may":  {"error=login_required&state=st-1", plain, "oidc.would-not-ask"},
		"would have to ask":             {"error=interaction_required&state=st-1", passive, "oidc.no-passive"},
		"not strong enough":             {"error=unmet_authentication_requirements&state=st-1", plain, "oidc.context-unmet"},
		"down":                          {"error=temporarily_unavailable&state=st-1", plain, "oidc.provider-failed"},
		"a scope that is not allowed":   {"error=invalid_scope&state=st-1", plain, "oidc.request-refused"},
		"an error that is not in a standard": {"error=AX90&state=st-1&error_description=" + strings.Repeat("x", 2000), plain,
			"oidc.request-refused"},
	} {
		t.Run(name, func(t *testing.T) {
			p, err := oidc.ReadParameters(c.query)
			require.NoError(t, err)
			rec := record()
			code, err := oidc.ReadAnswer(p, c.rules, rec)
			for _, e := range rec.Entries() {
				assert.NotContains(t, e.Check.Expected+e.Check.Got, "st-1", "a trace is no way to learn a state")
				assert.NotContains(t, e.Check.Expected+e.Check.Got, "c-1", "or a code")
			}
			if c.code == "" {
				require.NoError(t, err)
				assert.Equal(t, "c-1", code)
				return
			}
			assert.Empty(t, code)
			f := refused(t, err, c.code)
			failedCheck(t, rec)
			for _, e := range f.Evidence {
				assert.Less(t, len(e.Got), 1000)
				assert.NotContains(t, e.Got, "\n")
			}
		})
	}
}

func TestReadParameters(t *testing.T) {
	p, err := oidc.ReadParameters("a=1&b=&c=%C3%A9")
	require.NoError(t, err)
	assert.Equal(t, oidc.Parameters{"a": "1", "c": "é"}, p, "a parameter without a value counts as left out")
	p, err = oidc.ReadParameters("resource=a&code=1&resource=b")
	require.NoError(t, err, "what means nothing here may stand as often as it likes")
	assert.Equal(t, oidc.Parameters{"code": "1"}, p)
	p, err = oidc.ReadParameters("nonce=1&client_id=a&nonce=2")
	refused(t, err, "oidc.parameter-twice")
	assert.Equal(t, "a", p["client_id"], "so that the refusal can be answered")
	for raw, code := range map[string]string{"code=1&code=1": "oidc.parameter-twice", "state=&state=": "oidc.parameter-twice",
		"a=%zz": "oidc.request-unreadable", "a=1;b=2": "oidc.request-unreadable",
		strings.Repeat("a=1&", 200): "oidc.request-unreadable", "a=" + strings.Repeat("x", oidc.MaxParameters): "oidc.request-unreadable"} {
		_, err := oidc.ReadParameters(raw)
		refused(t, err, code)
	}
}

// TestPKCE is the example of RFC 7636, appendix B.
func TestPKCE(t *testing.T) {
	verifier, challenge := "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk", "E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM"
	assert.Equal(t, challenge, oidc.Challenge(verifier))
	assert.True(t, oidc.VerifierFits(challenge, verifier))
	for name, c := range map[string][2]string{"another verifier": {challenge, oidc.NewVerifier()},
		"downgraded to plain": {verifier, verifier}, "no verifier": {challenge, ""}, "no challenge": {"", verifier},
		"too short": {oidc.Challenge("short"), "short"}, "too long": {oidc.Challenge(strings.Repeat("a", 129)), strings.Repeat("a", 129)},
		"odd characters": {oidc.Challenge(strings.Repeat("é", 43)), strings.Repeat("é", 43)}} {
		assert.False(t, oidc.VerifierFits(c[0], c[1]), name)
	}
	v := oidc.NewVerifier()
	assert.Len(t, v, 43)
	assert.NotEqual(t, v, oidc.NewVerifier())
	assert.True(t, oidc.VerifierFits(oidc.Challenge(v), v))
}

func TestRedeemProvesWhoWeAre(t *testing.T) {
	signer, err := jose.NewSigner("g-1", jose.ES256, theirs())
	require.NoError(t, err)
	for method, c := range map[string]struct{ authorization, in, out string }{
		oidc.AuthBasic: {"Basic " + base64.StdEncoding.EncodeToString([]byte("inner%3Agate+one:p%26ss+%C3%A9%3A")), "", "client_id"},
		oidc.AuthPost:  {"", "client_secret=p%26ss+%C3%A9%3A", "client_assertion"},
		oidc.AuthNone:  {"", "client_id=inner%3Agate+one", "client_secret"},
		oidc.AuthPrivateKey: {"", "client_assertion_type=urn%3Aietf%3Aparams%3Aoauth%3Aclient-assertion-type%3Ajwt-bearer",
			"client_secret"},
	} {
		t.Run(method, func(t *testing.T) {
			client := oidc.Client{ID: "inner:gate one", Method: method, Secret: "p&ss é:", Signer: signer}
			got, err := client.Redeem("c-1", "https://gate.example/cb", "v-1", issuer, now)
			require.NoError(t, err)
			assert.Equal(t, c.authorization, got.Authorization)
			assert.Contains(t, got.Body, c.in)
			assert.NotContains(t, got.Body, c.out+"=")
			form, err := url.ParseQuery(got.Body)
			require.NoError(t, err)
			assert.Equal(
				t,
				[]string{"authorization_code", "c-1", "https://gate.example/cb", "v-1"},
				[]string{form.Get("grant_type"), form.Get("code"), form.Get("redirect_uri"), form.Get("code_verifier")},
			)
			for _, secret := range []string{"p&ss", "p%26ss", "c-1", "v-1"} {
				assert.NotContains(t, got.Shown, secret, "what is shown of the request holds no secret")
			}
			assert.Contains(t, got.Shown, "redirect_uri=https://gate.example/cb")
			if method != oidc.AuthPrivateKey {
				return
			}
			assert.NotContains(t, got.Shown, form.Get("client_assertion"))
			parsed, err := jose.Parse(form.Get("client_assertion"))
			require.NoError(t, err)
			checked, err := parsed.Verify(jose.Rules{Types: []string{"JWT"}, Keys: jose.One("g-1", jose.ES256, theirs().Public())})
			require.NoError(t, err)
			assert.Equal(t, []any{client.ID, client.ID, issuer}, []any{checked.Claims["iss"], checked.Claims["sub"], checked.Claims["aud"]})
			exp, _, _ := checked.Claims.Number("exp")
			assert.Equal(t, now.Add(time.Minute).Unix(), exp)
			assert.NotEmpty(t, checked.Claims["jti"])
		})
	}
	_, err = oidc.Client{ID: "x", Method: oidc.AuthPrivateKey}.Redeem("c", "r", "v", issuer, now)
	assert.ErrorContains(t, err, "no key")
	_, err = oidc.Client{ID: "x", Method: "client_secret_jwt"}.Redeem("c", "r", "v", issuer, now)
	assert.ErrorContains(t, err, "client_secret_jwt")
}

func TestReadTokens(t *testing.T) {
	const (
		json = "application/json;charset=UTF-8"
		good = `{"access_token":"at-1","token_type":"Bearer","id_token":"a.b.c","expires_in":3600,"scope":"openid email"}`
	)
	openid := oidc.TokenRules{Partner: partner, Client: oidc.Client{ID: clientID, Method: oidc.AuthBasic, Secret: "s3cret"}}
	oauth := openid
	oauth.PlainOAuth = true
	got, err := oidc.ReadTokens(answer(200, json, good), openid, record())
	require.NoError(t, err)
	assert.Equal(t, []any{"at-1", "a.b.c", int64(3600), "openid email"}, []any{got.AccessToken, got.IDToken, got.ExpiresIn, got.Scope})
	got, err = oidc.ReadTokens(
		answer(200, "application/x-www-form-urlencoded", "access_token=at-1&scope=mail&expires_in=60"), oauth, record(),
	)
	require.NoError(t, err)
	assert.Equal(t, []any{"at-1", int64(60)}, []any{got.AccessToken, got.ExpiresIn})
	got, err = oidc.ReadTokens(
		answer(200, "text/plain", `{"access_token":"at-1","token_type":"bearer","scope":["a","b"]}`), oauth, record(),
	)
	require.NoError(t, err, "JSON under another content type is JSON")
	assert.Equal(t, "a b", got.Scope)

	for name, c := range map[string]struct {
		answer oidc.Answer
		rules  oidc.TokenRules
		code   string
	}{
		"an HTML page":                 {answer(200, "text/html", "<!DOCTYPE html><html>"), openid, "oidc.token-answer"},
		"an HTML page said to be JSON": {answer(200, json, "<html>sign in to the Wi-Fi</html>"), openid, "oidc.token-answer"},
		"an HTML page with 502":        {answer(502, "text/html", "<html>bad gateway</html>"), openid, "oidc.token-endpoint-failed"},
		"nothing":                      {answer(200, json, ""), openid, "oidc.token-answer"},
		"a list":                       {answer(200, json, "[]"), openid, "oidc.token-answer"},
		"a member twice": {answer(200, json, `{"access_token":"a","access_token":"b","token_type":"Bearer"}`), openid,
			"oidc.token-answer"},
		"a form from an OP": {answer(200, "application/x-www-form-urlencoded", "access_token=at-1"), openid, "oidc.token-answer"},
		"a token of 1 MB":   {answer(200, json, `{"access_token":"`+strings.Repeat("x", 1<<20)+`"}`), openid, "oidc.token-answer"},
		"a token of 100 kB": {answer(200, json, `{"access_token":"`+strings.Repeat("x", 100<<10)+`","token_type":"Bearer"}`),
			openid, "oidc.token-answer"},
		"a token that is a number": {answer(200, json, `{"access_token":7,"token_type":"Bearer"}`), openid, "oidc.token-answer"},
		"no access token":          {answer(200, json, `{"token_type":"Bearer","id_token":"a.b.c"}`), openid, "oidc.token-answer"},
		"a MAC token": {answer(200, json, `{"access_token":"a","token_type":"mac","id_token":"a.b.c"}`), openid,
			"oidc.token-type"},
		"no token type": {answer(200, json, `{"access_token":"a","id_token":"a.b.c"}`), openid, "oidc.token-type"},
		"no ID token": {answer(200, json, `{"access_token":"a","token_type":"Bearer","scope":"email"}`), openid,
			"oidc.id-token-missing"},
		"an error in a 200": {answer(200, json,
			`{"error":"invalid_grant","access_token":"a","token_type":"Bearer","id_token":"a.b.c"}`), openid, "oidc.code-refused"},
		"an error that is an object": {answer(400, json, `{"error":{"code":7}}`), openid, "oidc.token-refused"},
		"the code is over": {answer(400, json, `{"error":"invalid_grant","error_description":"code expired"}`), openid,
			"oidc.code-refused"},
		"overloaded":       {answer(503, json, `{"error":"temporarily_unavailable"}`), openid, "oidc.token-endpoint-failed"},
		"an unknown error": {answer(400, json, `{"error":"unsupported_grant_type"}`), openid, "oidc.token-refused"},
	} {
		t.Run(name, func(t *testing.T) {
			rec := record()
			_, err := oidc.ReadTokens(c.answer, c.rules, rec)
			f := refused(t, err, c.code)
			assert.Equal(t, partner, f.Partner)
			for _, e := range f.Evidence {
				assert.Less(t, len(e.Got), 1000)
			}
		})
	}
}

func TestAClientThatIsRefusedLearnsWhy(t *testing.T) {
	const uuid = "6d0f3c1e-2a4b-4c5d-8e9f-0a1b2c3d4e5f"
	for name, c := range map[string]struct {
		status               int
		code, said, secret   string
		methods              []string
		failure, mustSpeakOf string
	}{
		"a wrong secret":               {401, "invalid_client", "", "s3cret", nil, "oidc.client-rejected", "secret"},
		"no code, only 401":            {401, "", "", "s3cret", nil, "oidc.client-rejected", "secret"},
		"white space round the secret": {401, "invalid_client", "", "s3cret\n", nil, "oidc.client-rejected", "white space"},
		"the secret's ID, by its form": {401, "invalid_client", "", uuid, nil, "oidc.client-secret-id", "ID in place of its value"},
		"the secret's ID, as is said": {401, "invalid_client", "The key number was sent: use the secret value.", "s3cret", nil,
			"oidc.client-secret-id", "ID"},
		"the client ID as the secret": {401, "invalid_client", "", clientID, nil, "oidc.client-secret-id", "client ID"},
		"an expired secret": {401, "invalid_client", "The client secret has EXPIRED on 2026-11-01.", uuid, nil,
			"oidc.client-secret-expired", "expired"},
		"another method, as is listed": {401, "invalid_client", "", "s3cret", []string{"client_secret_post"}, "oidc.client-method",
			"client_secret_post"},
		"another method, as is said": {400, "invalid_client", "Unsupported authentication method", "s3cret", nil, "oidc.client-method",
			"method"},
		"not active":            {401, "invalid_client", "client is disabled", "s3cret", nil, "oidc.client-inactive", "not active"},
		"only for testers":      {403, "unauthorized_client", "person is no test user", "s3cret", nil, "oidc.client-inactive", "testers"},
		"not allowed this flow": {400, "unauthorized_client", "", "s3cret", nil, "oidc.client-inactive", "not allow"},
	} {
		t.Run(name, func(t *testing.T) {
			body := `{"error":"` + c.code + `","error_description":"` + c.said + `"}`
			if c.code == "" {
				body = `{"message":"no"}`
			}
			_, err := oidc.ReadTokens(
				answer(c.status, "application/json", body),
				oidc.TokenRules{
					Partner: partner,
					Client:  oidc.Client{ID: clientID, Method: oidc.AuthBasic, Secret: c.secret},
					Methods: c.methods,
				},
				nil,
			)
			f := refused(t, err, c.failure)
			assert.Contains(t, f.Explain().Cause, c.mustSpeakOf)
			if c.secret != clientID {
				assert.NotContains(t, f.Error(), c.secret)
			}
		})
	}
}

func TestReadUserInfo(t *testing.T) {
	r := oidc.UserInfoRules{Partner: partner, Subject: "s-1", Issuers: oidc.Issuers{Issuer: issuer}, ClientID: clientID, Keys: keySet()}
	nobody := r
	nobody.Subject = ""
	signed := func(iss, aud, sub string) string {
		return token(t, "", map[string]any{"iss": iss, "aud": aud, "sub": sub})
	}
	for name, c := range map[string]struct {
		answer oidc.Answer
		rules  oidc.UserInfoRules
		code   string
	}{
		"plain":                       {answer(200, "application/json", `{"sub":"s-1","email":"ida@northquay.example"}`), r, ""},
		"signed":                      {answer(200, "application/jwt", signed(issuer, clientID, "s-1")), r, ""},
		"OAuth, no subject":           {answer(200, "application/json", `{"id":7}`), nobody, ""},
		"about somebody else":         {answer(200, "application/json", `{"sub":"s-2"}`), r, "oidc.userinfo-subject"},
		"about somebody else, signed": {answer(200, "application/jwt", signed(issuer, clientID, "s-2")), r, "oidc.userinfo-subject"},
		"about nobody":                {answer(200, "application/json", `{"email":"ida@northquay.example"}`), r, "oidc.userinfo-subject"},
		"subject a number":            {answer(200, "application/json", `{"sub":1}`), r, "oidc.userinfo-subject"},
		"signed for another client":   {answer(200, "application/jwt", signed(issuer, "other", "s-1")), r, "oidc.audience"},
		"signed by another issuer":    {answer(200, "application/jwt", signed("https://evil.example", clientID, "s-1")), r, "oidc.issuer"},
		"signed, and changed": {answer(200, "application/jwt", strings.Replace(signed(issuer, clientID, "s-1"), ".", ".e30.", 1)),
			r, "jwt.unreadable"},
		"signed by nobody":  {answer(200, "application/jwt", "eyJhbGciOiJub25lIn0.e30."), r, "jwt.algorithm"},
		"token refused":     {answer(401, "application/json", `{}`), r, "oidc.userinfo-refused"},
		"down":              {answer(500, "text/html", "<html>"), r, "oidc.userinfo-failed"},
		"HTML":              {answer(200, "text/html", "<html>"), r, "oidc.userinfo-failed"},
		"an error in a 200": {answer(200, "application/json", `{"error":"invalid_token","sub":"s-1"}`), r, "oidc.userinfo-failed"},
		"a form":            {answer(200, "application/x-www-form-urlencoded", "sub=s-1"), r, "oidc.userinfo-failed"},
	} {
		t.Run(name, func(t *testing.T) {
			got, err := oidc.ReadUserInfo(c.answer, c.rules, record())
			if c.code == "" {
				require.NoError(t, err)
				assert.NotEmpty(t, got)
				return
			}
			assert.Nil(t, got)
			refused(t, err, c.code)
		})
	}
}

func TestClaimsKeepTheirOrigin(t *testing.T) {
	idToken, err := jose.ReadObject([]byte(`{"sub":"s-1","email":"ida@northquay.example","email_verified":true,"roles":["crane","quay"]}`))
	require.NoError(t, err)
	userInfo, err := jose.ReadObject(
		[]byte(
			`{"sub":"s-1","email":"other@evil.example","address":{"locality":"Northquay"},"emails":[{"address":"a@x.example",` +
				`"primary":true},{"address":"b@x.example"}],"number":12345678901234567890,"gone":null}`,
		),
	)
	require.NoError(t, err)
	var c oidc.Claims
	require.NoError(t, c.Add("ID token", idToken))
	require.NoError(t, c.Add("UserInfo", userInfo))
	assert.Equal(t, []string{"ida@northquay.example"}, c.Values["email"], "what is signed comes first")
	assert.Equal(t, "ID token", c.From["email"])
	assert.Equal(t, "UserInfo", c.From["address.locality"])
	assert.Equal(t, []string{"a@x.example", "b@x.example"}, c.Values["emails.address"])
	assert.Equal(t, []string{"12345678901234567890"}, c.Values["number"], "numbers stay as they were written")
	assert.Equal(t, []string{"true"}, c.Values["email_verified"])
	assert.Equal(t, []string{"crane", "quay"}, c.Values["roles"])
	assert.NotContains(t, c.Values, "gone")
	deep, err := jose.ReadObject([]byte(`{"a":{"b":{"c":{"d":{"e":{"f":{"g":1}}}}}}}`))
	require.NoError(t, err)
	assert.ErrorContains(t, c.Add("UserInfo", deep), "too deep")
	many, err := jose.ReadObject([]byte(`{"a":[` + strings.Repeat("1,", 20000) + `1]}`))
	require.NoError(t, err)
	assert.ErrorContains(t, c.Add("UserInfo", many), "more than")
}

func FuzzReadTokens(f *testing.F) {
	f.Add(200, "application/json", []byte(`{"access_token":"a","token_type":"Bearer","id_token":"a.b.c"}`), false)
	f.Add(401, "application/json", []byte(`{"error":"invalid_client"}`), false)
	f.Add(200, "application/x-www-form-urlencoded", []byte(`access_token=a`), true)
	f.Fuzz(func(t *testing.T, status int, contentType string, body []byte, plain bool) {
		got, err := oidc.ReadTokens(
			oidc.Answer{Status: status, ContentType: contentType, Body: body},
			oidc.TokenRules{PlainOAuth: plain, Client: oidc.Client{ID: "x", Secret: "y"}},
			record(),
		)
		if err == nil {
			assert.Equal(t, 200, status)
			assert.NotEmpty(t, got.AccessToken)
			assert.True(t, plain || got.IDToken != "")
		}
	})
}

func FuzzReadParameters(f *testing.F) {
	f.Add("code=c-1&state=st-1&iss=https%3A%2F%2Fid.northquay.example")
	f.Add("error=access_denied&state=st-1&state=st-2")
	f.Fuzz(func(t *testing.T, raw string) {
		p, err := oidc.ReadParameters(raw)
		if err != nil {
			return
		}
		code, err := oidc.ReadAnswer(p, oidc.AnswerRules{Issuers: oidc.Issuers{Issuer: issuer}, State: "st-1"}, record())
		if err == nil {
			assert.Equal(t, "st-1", p["state"])
			assert.NotEmpty(t, code)
		}
	})
}
