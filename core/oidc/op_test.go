package oidc_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/base64"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/core/keys"
	"innergate/core/oidc"
)

const ledger = "https://ledger.example/callback"

func registered() oidc.Registered {
	return oidc.Registered{
		Partner:      "Cargo Ledger",
		ClientID:     "ledger-1",
		RedirectURIs: []string{ledger},
		RequirePKCE:  true,
		Scopes:       []string{"email", "profile"},
	}
}

// request is a good authentication request with some parameters changed; "-" leaves one out.
func request(change map[string]string) oidc.Parameters {
	p := oidc.Parameters{
		"client_id":             "ledger-1",
		"redirect_uri":          ledger,
		"response_type":         "code",
		"scope":                 "openid email",
		"state":                 "st-1",
		"nonce":                 "n-1",
		"code_challenge":        oidc.Challenge(strings.Repeat("v", 43)),
		"code_challenge_method": "S256",
	}
	for name, value := range change {
		if value == "-" {
			delete(p, name)
			continue
		}
		p[name] = value
	}
	return p
}

func TestReadRequest(t *testing.T) {
	got, err := oidc.ReadRequest(
		request(
			map[string]string{
				"scope":         "openid email openid groups rocket",
				"prompt":        "login consent",
				"max_age":       "0",
				"login_hint":    "ida@saltmere.example",
				"acr_values":    "a  b",
				"response_mode": "form_post",
				"ui_locales":    "de en",
				"unknown":       "x",
				"claims": `{"id_token":{"acr":{"essential":true,"values":["a","b"]},"email":null},` +
					`"userinfo":{"locale":{"value":"de"}},"other":7}`,
			},
		),
		registered(),
		record(),
	)
	require.NoError(t, err)
	assert.Equal(t, []string{"openid", "email"}, got.Scopes, "what is not allowed or not known is left out")
	assert.True(t, got.Fresh && got.Consent && got.FormPost && !got.Passive)
	require.NotNil(t, got.MaxAge)
	assert.Zero(t, *got.MaxAge)
	assert.Equal(t, []string{"a", "b"}, got.ACRValues)
	assert.Equal(t, map[string]oidc.Wanted{"acr": {Essential: true, Values: []string{"a", "b"}}, "email": {}}, got.IDTokenClaims)
	assert.Equal(t, map[string]oidc.Wanted{"locale": {Values: []string{"de"}}}, got.UserInfoClaims)
	assert.Equal(
		t,
		[]string{"st-1", "n-1", ledger, "ida@saltmere.example", "de en"},
		[]string{got.State, got.Nonce, got.RedirectURI, got.LoginHint, got.UILocales},
	)
	r := registered()
	r.RequirePKCE = false
	got, err = oidc.ReadRequest(
		request(map[string]string{"code_challenge": "-", "code_challenge_method": "-", "nonce": "-", "state": "-"}), r,
		nil,
	)
	require.NoError(t, err, "a client with a secret may be let off PKCE")
	assert.Empty(t, got.Challenge)
}

func TestReadRequestRefuses(t *testing.T) {
	for name, c := range map[string]struct {
		change      map[string]string
		code, oauth string // without an OAuth code the answer must not go to the address
	}{
		"address not registered":   {map[string]string{"redirect_uri": ledger + "/"}, "oidc.redirect-unregistered", ""},
		"no address":               {map[string]string{"redirect_uri": "-"}, "oidc.redirect-unregistered", ""},
		"token in place of a code": {map[string]string{"response_type": "token"}, "oidc.response-type", "unsupported_response_type"},
		"hybrid": {map[string]string{"response_type": "code id_token"}, "oidc.response-type",
			"unsupported_response_type"},
		"no response type":     {map[string]string{"response_type": "-"}, "oidc.parameter-wrong", "invalid_request"},
		"answer as a fragment": {map[string]string{"response_mode": "fragment"}, "oidc.parameter-wrong", "invalid_request"},
		"no openid":            {map[string]string{"scope": "email"}, "oidc.scope-openid", "invalid_scope"},
		"no scope":             {map[string]string{"scope": "-"}, "oidc.scope-openid", "invalid_scope"},
		"PKCE missing": {map[string]string{"code_challenge": "-", "code_challenge_method": "-"}, "oidc.pkce-missing",
			"invalid_request"},
		"PKCE plain":                {map[string]string{"code_challenge_method": "plain"}, "oidc.pkce-method", "invalid_request"},
		"PKCE without a method":     {map[string]string{"code_challenge_method": "-"}, "oidc.pkce-method", "invalid_request"},
		"PKCE method in lower case": {map[string]string{"code_challenge_method": "s256"}, "oidc.pkce-method", "invalid_request"},
		"method alone":              {map[string]string{"code_challenge": "-"}, "oidc.parameter-wrong", "invalid_request"},
		"challenge too short":       {map[string]string{"code_challenge": "abc"}, "oidc.parameter-wrong", "invalid_request"},
		"prompt none with login":    {map[string]string{"prompt": "none login"}, "oidc.parameter-wrong", "invalid_request"},
		"prompt unknown":            {map[string]string{"prompt": "dance"}, "oidc.parameter-wrong", "invalid_request"},
		"max_age below zero":        {map[string]string{"max_age": "-1"}, "oidc.parameter-wrong", "invalid_request"},
		"max_age a word":            {map[string]string{"max_age": "soon"}, "oidc.parameter-wrong", "invalid_request"},
		"state too long":            {map[string]string{"state": strings.Repeat("s", 9000)}, "oidc.parameter-wrong", "invalid_request"},
		"nonce too long":            {map[string]string{"nonce": strings.Repeat("n", 2000)}, "oidc.parameter-wrong", "invalid_request"},
		"claims no JSON":            {map[string]string{"claims": "email"}, "oidc.parameter-wrong", "invalid_request"},
		"claims twice": {map[string]string{"claims": `{"id_token":{},"id_token":{}}`}, "oidc.parameter-wrong",
			"invalid_request"},
		"claims of a wrong form": {map[string]string{"claims": `{"id_token":{"email":true}}`}, "oidc.parameter-wrong", "invalid_request"},
		"essential that is text": {map[string]string{"claims": `{"id_token":{"email":{"essential":"true"}}}`}, "oidc.parameter-wrong",
			"invalid_request"},
		"request by reference": {map[string]string{"request_uri": "https://evil.example/r"}, "oidc.request-uri", "invalid_request_uri"},
	} {
		t.Run(name, func(t *testing.T) {
			got, err := oidc.ReadRequest(request(c.change), registered(), record())
			f := refused(t, err, c.code)
			assert.Equal(t, "Cargo Ledger", f.Partner)
			assert.Equal(t, c.oauth, f.Explain().OAuth)
			if c.oauth == "" {
				assert.Nil(t, got, "nothing may be sent to an address that is not registered")
				return
			}
			require.NotNil(t, got)
			assert.Equal(t, ledger, got.RedirectURI, "the refusal goes back to the application")
			if c.change["state"] == "" {
				assert.Equal(t, "st-1", got.State, "with its state")
			}
		})
	}
}

func known(method string) oidc.Known {
	return oidc.Known{
		Partner:   "Cargo Ledger",
		Method:    method,
		Secrets:   [][]byte{keys.HashSecret("old s&cret"), keys.HashSecret("new")},
		Keys:      keySet(),
		Audiences: []string{"https://gate.example"},
		Now:       now,
		Skew:      time.Minute,
	}
}

func basicHeader(id, secret string) string {
	return "Basic " + base64.StdEncoding.EncodeToString([]byte(url.QueryEscape(id)+":"+url.QueryEscape(secret)))
}

func TestClientProof(t *testing.T) {
	for name, c := range map[string]struct {
		authorization string
		form          oidc.Parameters
		method        string
		code          string
	}{
		"basic":                       {basicHeader("ledger:1", "old s&cret"), nil, oidc.AuthBasic, ""},
		"basic, the next secret":      {basicHeader("ledger:1", "new"), nil, oidc.AuthBasic, ""},
		"basic, scheme in lower case": {strings.Replace(basicHeader("ledger:1", "new"), "Basic", "basic", 1), nil, oidc.AuthBasic, ""},
		"basic, the client ID twice":  {basicHeader("ledger:1", "new"), oidc.Parameters{"client_id": "ledger:1"}, oidc.AuthBasic, ""},
		"post":                        {"", oidc.Parameters{"client_id": "ledger:1", "client_secret": "new"}, oidc.AuthPost, ""},
		"none":                        {"", oidc.Parameters{"client_id": "ledger:1"}, oidc.AuthNone, ""},
		"wrong secret":                {basicHeader("ledger:1", "guess"), nil, oidc.AuthBasic, "oidc.proof-secret"},
		"empty secret":                {basicHeader("ledger:1", ""), nil, oidc.AuthBasic, "oidc.proof-secret"},
		"the hash as the secret": {basicHeader("ledger:1", string(keys.HashSecret("new"))), nil, oidc.AuthBasic,
			"oidc.proof-secret"},
		"post where basic is wanted": {"", oidc.Parameters{"client_id": "ledger:1", "client_secret": "new"}, oidc.AuthBasic,
			"oidc.proof-method"},
		"secret where a key is wanted": {basicHeader("ledger:1", "new"), nil, oidc.AuthPrivateKey, "oidc.proof-method"},
		"secret where none is wanted":  {basicHeader("ledger:1", "new"), nil, oidc.AuthNone, "oidc.proof-method"},
		"no proof":                     {"", oidc.Parameters{"client_id": "ledger:1"}, oidc.AuthBasic, "oidc.proof-missing"},
		"two proofs": {basicHeader("ledger:1", "new"), oidc.Parameters{"client_secret": "new"}, oidc.AuthBasic,
			"oidc.proof-several"},
		"two clients": {basicHeader("ledger:1", "new"), oidc.Parameters{"client_id": "other"}, oidc.AuthBasic,
			"oidc.proof-unreadable"},
		"another scheme": {"Bearer abc", nil, oidc.AuthBasic, "oidc.proof-unreadable"},
		"basic without a colon": {"Basic " + base64.StdEncoding.EncodeToString([]byte("ledger")), nil, oidc.AuthBasic,
			"oidc.proof-unreadable"},
		"basic that is no base64": {"Basic ???", nil, oidc.AuthBasic, "oidc.proof-unreadable"},
		"basic that is not form-coded": {"Basic " + base64.StdEncoding.EncodeToString([]byte("ledger:%zz")), nil, oidc.AuthBasic,
			"oidc.proof-unreadable"},
		"nobody": {"", oidc.Parameters{}, oidc.AuthNone, "oidc.proof-unreadable"},
		"assertion of another type": {"", oidc.Parameters{"client_assertion_type": "urn:x", "client_assertion": "a.b.c"},
			oidc.AuthPrivateKey, "oidc.proof-unreadable"},
		"assertion that is none": {"", oidc.Parameters{"client_assertion_type": assertionType, "client_assertion": "abc"},
			oidc.AuthPrivateKey, "jwt.unreadable"},
		"assertion type, no assertion": {"", oidc.Parameters{"client_assertion_type": assertionType}, oidc.AuthPrivateKey,
			"jwt.unreadable"},
		"assertion without a signature": {"",
			oidc.Parameters{"client_assertion_type": assertionType, "client_assertion": unsigned(`{"sub":"ledger:1","iss":"ledger:1"}`)},
			oidc.AuthPrivateKey, "jwt.algorithm"},
	} {
		t.Run(name, func(t *testing.T) {
			rec := record()
			p, err := oidc.ReadProof(c.authorization, c.form)
			if err == nil {
				_, err = p.Check(known(c.method), rec)
			}
			for _, e := range rec.Entries() {
				assert.NotContains(t, e.Check.Expected+e.Check.Got, "new")
			}
			if c.code == "" {
				require.NoError(t, err)
				assert.Equal(t, "ledger:1", p.ClientID)
				return
			}
			var f *explain.Failure
			require.ErrorAs(t, err, &f)
			assert.Equal(t, c.code, string(f.Code))
			for _, secret := range []string{"guess", "new\"", "s&cret"} {
				assert.NotContains(t, f.Error(), secret)
			}
		})
	}
}

const assertionType = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer"

func unsigned(claims string) string {
	return base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none"}`)) + "." + base64.RawURLEncoding.EncodeToString([]byte(claims)) + "."
}

func TestClientAssertion(t *testing.T) {
	stranger, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	for name, c := range map[string]struct {
		change func(map[string]any)
		typ    string
		code   string
		why    string
	}{
		"good":                 {nil, "JWT", "", ""},
		"with its own type":    {nil, "client-authentication+jwt", "", ""},
		"an access token":      {nil, "at+jwt", "jwt.type", ""},
		"of another issuer":    {func(c map[string]any) { c["iss"] = "other" }, "", "oidc.proof-assertion", "iss"},
		"for another audience": {func(c map[string]any) { c["aud"] = "https://other.example" }, "", "oidc.proof-assertion", "aud"},
		"for several audiences": {func(c map[string]any) {
			c["aud"] = []string{"https://gate.example", "https://other.example"}
		}, "", "oidc.proof-assertion", "aud"},
		"for nobody":     {func(c map[string]any) { delete(c, "aud") }, "", "oidc.proof-assertion", "aud"},
		"without jti":    {func(c map[string]any) { delete(c, "jti") }, "", "oidc.proof-assertion", "jti"},
		"without an end": {func(c map[string]any) { delete(c, "exp") }, "", "oidc.proof-assertion", "exp"},
		"over": {func(c map[string]any) {
			c["exp"] = now.Add(-2 * time.Minute).Unix()
		}, "", "oidc.proof-assertion", "ended"},
		"valid for a year": {func(c map[string]any) {
			c["exp"] = now.Add(365 * 24 * time.Hour).Unix()
		}, "", "oidc.proof-assertion", "ten minutes"},
		"not yet valid": {func(c map[string]any) {
			c["nbf"] = now.Add(2 * time.Minute).Unix()
		}, "", "oidc.proof-assertion", "future"},
		"subject that is not ours": {func(c map[string]any) { c["sub"] = "other" }, "", "oidc.proof-unreadable", "sub"},
	} {
		t.Run(name, func(t *testing.T) {
			said := map[string]any{
				"iss": "ledger-1",
				"sub": "ledger-1",
				"aud": "https://gate.example",
				"jti": "j-1",
				"exp": now.Add(time.Minute).Unix(),
				"iat": now.Unix(),
			}
			if c.change != nil {
				c.change(said)
			}
			form := oidc.Parameters{
				"client_id":             "ledger-1",
				"client_assertion_type": assertionType,
				"client_assertion":      token(t, c.typ, said),
			}
			p, err := oidc.ReadProof("", form)
			var used *oidc.Used
			if err == nil {
				used, err = p.Check(known(oidc.AuthPrivateKey), record())
			}
			if c.code == "" {
				require.NoError(t, err)
				assert.Equal(t, &oidc.Used{ID: "j-1", Until: time.Unix(now.Add(2*time.Minute).Unix(), 0)}, used)
				return
			}
			f := refused(t, err, c.code)
			assert.Contains(t, f.Explain().Cause, c.why)
			assert.Nil(t, used)
		})
	}
	s, err := jose.NewSigner("nq-1", jose.ES256, stranger)
	require.NoError(t, err)
	forged, err := s.Sign(
		"",
		map[string]any{
			"iss": "ledger-1",
			"sub": "ledger-1",
			"aud": "https://gate.example",
			"jti": "j-1",
			"exp": now.Add(time.Minute).Unix(),
		},
	)
	require.NoError(t, err)
	p, err := oidc.ReadProof("", oidc.Parameters{"client_assertion_type": assertionType, "client_assertion": forged})
	require.NoError(t, err)
	_, err = p.Check(known(oidc.AuthPrivateKey), nil)
	refused(t, err, "jwt.signature")
}

// TestOurProofsAreTaken holds the relying party's half against the provider's: what one makes the other must take.
func TestOurProofsAreTaken(t *testing.T) {
	signer, err := jose.NewSigner("nq-1", jose.ES256, theirs())
	require.NoError(t, err)
	for _, method := range oidc.AuthMethods {
		client := oidc.Client{ID: "inner gate:1+%", Method: method, Secret: "old s&cret", Signer: signer}
		sent, err := client.Redeem("c-1", "https://gate.example/cb", oidc.NewVerifier(), "https://gate.example", now)
		require.NoError(t, err)
		form, err := oidc.ReadParameters(sent.Body)
		require.NoError(t, err)
		p, err := oidc.ReadProof(sent.Authorization, form)
		require.NoError(t, err, method)
		assert.Equal(t, client.ID, p.ClientID)
		_, err = p.Check(known(method), nil)
		assert.NoError(t, err, method)
	}
}

func FuzzReadRequest(f *testing.F) {
	f.Add(
		"client_id=ledger-1&redirect_uri=https%3A%2F%2Fledger.example%2Fcallback&response_type=code&scope=openid&" +
			"claims=%7B%22id_token%22%3A%7B%22acr%22%3Anull%7D%7D&prompt=none",
	)
	f.Add("redirect_uri=http%3A%2F%2F127.0.0.1%3A5%2F&client_assertion=a.b.c")
	f.Fuzz(func(t *testing.T, raw string) {
		p, err := oidc.ReadParameters(raw)
		if err != nil {
			return
		}
		r := registered()
		r.Native, r.RedirectURIs = true, append(r.RedirectURIs, "http://127.0.0.1/")
		q, err := oidc.ReadRequest(p, r, record())
		if q == nil {
			assert.Error(t, err)
			return
		}
		assert.True(
			t,
			q.RedirectURI == ledger || strings.HasPrefix(q.RedirectURI, "http://127.0.0.1:") || q.RedirectURI == "http://127.0.0.1/",
			q.RedirectURI,
		)
		if proof, err := oidc.ReadProof("", p); err == nil {
			_, _ = proof.Check(known(oidc.AuthPrivateKey), nil)
		}
	})
}
