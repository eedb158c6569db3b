package oidc_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/jose"
	"innergate/core/oidc"
)

// TestNothingSecretIsShown puts secrets wherever partners put them, and looks for them in what traces show.
func TestNothingSecretIsShown(t *testing.T) {
	signed := token(t, jose.TypeID, map[string]any{"iss": issuer, "sub": "s-1", "exp": 1})
	signature := signed[strings.LastIndexByte(signed, '.')+1:]
	for name, show := range map[string]func() string{
		"a query": func() string { return oidc.ShownURL("https://gate.example/cb?code=s3cret-code&state=st&iss=x") },
		"a form": func() string {
			return oidc.ShownParameters("client_secret=s3cret-a&client_assertion=" + signed + "&code_verifier=s3cret-b")
		},
		"a token answer": func() string {
			raw, opened := shownAnswer("application/json",
				`{"access_token":"s3cret-c","refresh_token":"s3cret-d","id_token":"`+signed+`","scope":"openid"}`)
			return raw + opened
		},
		"inside a list": func() string {
			raw, _ := shownAnswer("application/json", `{"items":[{"access_token":"s3cret-e"},{"other":"`+signed+`"}]}`)
			return raw
		},
		"a list": func() string { raw, _ := shownAnswer("application/json", `[{"access_token":"s3cret-f"}]`); return raw },
		"a form answered": func() string {
			raw, _ := shownAnswer("application/x-www-form-urlencoded", "access_token=s3cret-g&scope=x")
			return raw
		},
		"a signed answer": func() string { raw, opened := shownAnswer("application/jwt", signed); return raw + opened },
		"a page":          func() string { raw, _ := shownAnswer("text/html", "<p>your token is "+signed+"</p>"); return raw },
	} {
		got := show()
		assert.NotContains(t, got, "s3cret", name)
		assert.NotContains(t, got, signature, name)
		assert.NotEmpty(t, got, name)
	}
	raw, opened := shownAnswer("application/json", `{"id_token":"`+signed+`","expires_in":300}`)
	assert.Contains(t, raw, `"expires_in": 300`, "numbers stay numbers")
	assert.Contains(t, opened, `"sub": "s-1"`)
	assert.Contains(t, opened, `"typ": "JWT"`)
	assert.Contains(t, oidc.ShownToken("nonsense"), "no signed token")
	assert.Contains(t, oidc.ShownParameters("%zz"), "can't be read")
}

func shownAnswer(media, body string) (raw, opened string) {
	return oidc.Answer{Status: 200, ContentType: media, Body: []byte(body)}.Shown()
}

func TestFurtherAddresses(t *testing.T) {
	read := func(status int, body string, where ...string) (oidc.Claims, error) {
		o, err := oidc.ReadMore(
			oidc.Answer{Status: status, ContentType: "application/json", Body: []byte(body)},
			"mail",
			where,
			"Lantern Pass",
			record(),
		)
		var c oidc.Claims
		if err == nil {
			require.NoError(t, c.Add("mail", o))
		}
		return c, err
	}
	list := `[{"address":"old@post.example","main":false},{"address":"asta@post.example","main":true},"x",{"address":"third@post.example"}]`
	got, err := read(200, list, "main")
	require.NoError(t, err)
	assert.Equal(t, []string{"asta@post.example"}, got.Values["mail.address"])
	got, err = read(200, `{"address":"asta@post.example"}`)
	require.NoError(t, err)
	assert.Equal(t, "asta@post.example", got.Values.First("mail.address"))
	for name, c := range map[string]struct {
		status int
		body   string
	}{"refused": {403, "{}"}, "a page": {200, "<html>"}, "text": {200, `"x"`}, "two values": {200, `{},"more":{}`}, "nothing": {200, ""},
		"too deep": {200, strings.Repeat("[", 40) + strings.Repeat("]", 40)}} {
		_, err := read(c.status, c.body)
		refused(t, err, "oidc.userinfo-failed")
		_ = name
	}
}

func TestRequestObjects(t *testing.T) {
	good := func() map[string]any {
		return map[string]any{
			"iss":           clientID,
			"client_id":     clientID,
			"aud":           issuer,
			"exp":           now.Add(time.Minute).Unix(),
			"response_type": "code",
			"max_age":       60,
			"claims":        map[string]any{"id_token": map[string]any{"acr": nil}},
		}
	}
	read := func(typ string, content map[string]any) (oidc.Parameters, error) {
		r := rules()
		return oidc.ReadRequestObject(
			token(t, typ, content),
			oidc.ObjectRules{Partner: "Ledger", ClientID: clientID, Issuer: issuer, Keys: r.Keys, Now: now, Skew: time.Minute},
			record(),
		)
	}
	p, err := read("oauth-authz-req+jwt", good())
	require.NoError(t, err)
	assert.Equal(
		t,
		oidc.Parameters{"client_id": clientID, "response_type": "code", "max_age": "60", "claims": `{"id_token":{"acr":null}}`},
		p,
		"numbers and objects become what a query would hold",
	)
	for name, change := range map[string]func(map[string]any){
		"another issuer": func(c map[string]any) {
			c["iss"] = "other"
		}, "another client": func(c map[string]any) {
			c["client_id"] = "other"
		}, "for others": func(c map[string]any) { c["aud"] = "https://other.example" },
		"over": func(c map[string]any) {
			c["exp"] = now.Add(-time.Hour).Unix()
		}, "not yet": func(c map[string]any) {
			c["nbf"] = now.Add(time.Hour).Unix()
		}, "no time": func(c map[string]any) { c["exp"] = "soon" },
		"another request in it": func(c map[string]any) {
			c["request"] = "x"
		}, "a reference in it": func(c map[string]any) {
			c["request_uri"] = "x"
		}, "a client assertion": func(c map[string]any) { c["sub"] = clientID },
	} {
		content := good()
		change(content)
		_, err := read("JWT", content)
		refused(t, err, "oidc.request-object")
		_ = name
	}
	for _, typ := range []string{"at+jwt", "logout+jwt", "dpop+jwt"} {
		_, err := read(typ, good())
		refused(t, err, "oidc.request-object")
	}
}

func FuzzReadMore(f *testing.F) {
	f.Add(`[{"address":"a@b.example","main":true}]`)
	f.Add(`{"address":"a"}`)
	f.Fuzz(func(t *testing.T, body string) {
		a := oidc.Answer{Status: 200, ContentType: "application/json", Body: []byte(body)}
		o, err := oidc.ReadMore(a, "mail", []string{"main"}, "x", record())
		if err != nil {
			return
		}
		assert.Len(t, o, 1, "nothing gets out of its own name")
		var c oidc.Claims
		_ = c.Add("mail", o)
		a.Shown()
	})
}

func FuzzRequestObject(f *testing.F) {
	f.Add("eyJhbGciOiJub25lIn0.e30.")
	f.Fuzz(func(t *testing.T, compact string) {
		_, err := oidc.ReadRequestObject(compact, oidc.ObjectRules{ClientID: clientID, Issuer: issuer, Keys: rules().Keys, Now: now}, nil)
		assert.Error(t, err, "nobody but the client can make one")
		oidc.ShownToken(compact)
		oidc.ShownParameters(compact)
	})
}
