package jose_test

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/hmac"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/explain"
	"innergate/core/jose"
)

var lab = sync.OnceValue(func() map[string]crypto.Signer {
	r, _ := rsa.GenerateKey(rand.Reader, 2048)
	other, _ := rsa.GenerateKey(rand.Reader, 2048)
	e, _ := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	_, ed, _ := ed25519.GenerateKey(rand.Reader)
	return map[string]crypto.Signer{"rsa": r, "other": other, "ec": e, "ed": ed}
})

func sign(t testing.TB, id, alg, typ string, key crypto.Signer, claims any) string {
	t.Helper()
	s, err := jose.NewSigner(id, alg, key)
	require.NoError(t, err)
	token, err := s.Sign(typ, claims)
	require.NoError(t, err)
	return token
}

func code(t testing.TB, err error) string {
	t.Helper()
	var f *explain.Failure
	require.ErrorAs(t, err, &f)
	_, known := explain.Lookup(f.Code)
	assert.True(t, known, "%s is not in the catalogue", f.Code)
	return string(f.Code)
}

func verify(token string, r jose.Rules) (*jose.Token, error) {
	p, err := jose.Parse(token)
	if err != nil {
		return nil, err
	}
	return p.Verify(r)
}

// published is the key set of the lab as it would be fetched.
func published(t testing.TB) jose.KeySet {
	data, err := jose.WriteKeySet([]jose.Published{
		{"r1", "", lab()["rsa"].Public()},
		{"e1", jose.ES256, lab()["ec"].Public()},
		{"d1", jose.EdDSA, lab()["ed"].Public()},
	})
	require.NoError(t, err)
	set, err := jose.ReadKeySet(data)
	require.NoError(t, err)
	require.Len(t, set.Keys, 3)
	return *set
}

func TestEveryAlgorithmGoesThereAndBack(t *testing.T) {
	for _, c := range []struct{ alg, id, key string }{{"RS256", "r1", "rsa"}, {"PS256", "r1", "rsa"}, {"RS512", "r1", "rsa"},
		{"ES256", "e1", "ec"}, {"EdDSA", "d1", "ed"}} {
		token := sign(t, c.id, c.alg, jose.TypeID, lab()[c.key], map[string]any{"sub": "s-1", "n": 12345678901234567})
		got, err := verify(token, jose.Rules{Types: []string{"JWT"}, Keys: published(t)})
		require.NoError(t, err, c.alg)
		assert.Equal(t, jose.Header{Algorithm: c.alg, KeyID: c.id, Type: "JWT"}, got.Header)
		assert.Equal(t, c.id, got.Key.ID)
		n, _, ok := got.Claims.Number("n")
		assert.True(t, ok)
		assert.Equal(t, int64(12345678901234567), n, "numbers keep their digits")
	}
	_, err := jose.NewSigner("x", "ES256", lab()["rsa"])
	assert.Error(t, err)
	_, err = jose.NewSigner("x", "HS256", lab()["rsa"])
	assert.Error(t, err)
}

func b64(s string) string { return base64.RawURLEncoding.EncodeToString([]byte(s)) }

// resigned makes a token with any header at all, signed by the lab's RSA key.
func resigned(t testing.TB, header, claims string) string {
	input := b64(header) + "." + b64(claims)
	sum := sha256.Sum256([]byte(input))
	sig, err := rsa.SignPKCS1v15(rand.Reader, lab()["rsa"].(*rsa.PrivateKey), crypto.SHA256, sum[:])
	require.NoError(t, err)
	return input + "." + base64.RawURLEncoding.EncodeToString(sig)
}

// TestForgedTokens makes the attacks of RFC 8725, section 2, and others for real.
func TestForgedTokens(t *testing.T) {
	good := sign(t, "r1", "RS256", jose.TypeID, lab()["rsa"], map[string]any{"sub": "s-1"})
	part := strings.Split(good, ".")
	der, _ := x509.MarshalPKIXPublicKey(lab()["rsa"].Public())
	hs := func(secret []byte) string {
		input := b64(`{"alg":"HS256","kid":"r1","typ":"JWT"}`) + "." + b64(`{"sub":"s-2"}`)
		m := hmac.New(sha256.New, secret)
		m.Write([]byte(input))
		return input + "." + base64.RawURLEncoding.EncodeToString(m.Sum(nil))
	}
	pub := lab()["other"].Public().(*rsa.PublicKey)
	jwk := fmt.Sprintf(`{"kty":"RSA","e":"AQAB","n":"%s"}`, base64.RawURLEncoding.EncodeToString(pub.N.Bytes()))
	inner := func() string { // signed with the attacker's key, which the header carries
		input := b64(`{"alg":"RS256","kid":"r1","typ":"JWT","jwk":`+jwk+`,"jku":"https://evil.example/keys"}`) + "." + b64(`{"sub":"s-2"}`)
		sum := sha256.Sum256([]byte(input))
		sig, _ := rsa.SignPKCS1v15(rand.Reader, lab()["other"].(*rsa.PrivateKey), crypto.SHA256, sum[:])
		return input + "." + base64.RawURLEncoding.EncodeToString(sig)
	}
	for name, c := range map[string]struct{ token, want string }{
		"alg none":                      {b64(`{"alg":"none","typ":"JWT"}`) + "." + part[1] + ".", "jwt.algorithm"},
		"alg None":                      {b64(`{"alg":"None","typ":"JWT"}`) + "." + part[1] + ".", "jwt.algorithm"},
		"no alg":                        {b64(`{"typ":"JWT"}`) + "." + part[1] + "." + part[2], "jwt.algorithm"},
		"public key as an HS256 secret": {hs(der), "jwt.algorithm"},
		"signature cut off":             {part[0] + "." + part[1] + ".", "jwt.signature"},
		"signature of other content":    {part[0] + "." + b64(`{"sub":"s-2"}`) + "." + part[2], "jwt.signature"},
		"header changed": {b64(`{"alg":"PS256","kid":"r1","typ":"JWT"}`) + "." + part[1] + "." + part[2],
			"jwt.signature"},
		"key in the header": {inner(), "jwt.signature"},
		"EC algorithm with the RSA key's ID": {b64(`{"alg":"ES256","kid":"r1","typ":"JWT"}`) + "." + part[1] + "." + part[2],
			"jwt.key-unfit"},
		"key ID that is a path": {resigned(t, `{"alg":"RS256","kid":"../../../etc/passwd","typ":"JWT"}`, `{}`),
			"jwt.key-unknown"},
		"key ID that is SQL":                   {resigned(t, `{"alg":"RS256","kid":"r1' OR '1'='1","typ":"JWT"}`, `{}`), "jwt.key-unknown"},
		"key ID that is a list":                {resigned(t, `{"alg":"RS256","kid":["r1"],"typ":"JWT"}`, `{}`), "jwt.unreadable"},
		"access token in place of an ID token": {resigned(t, `{"alg":"RS256","kid":"r1","typ":"at+jwt"}`, `{}`), "jwt.type"},
		"logout token, with its media type": {resigned(t, `{"alg":"RS256","kid":"r1","typ":"application/logout+jwt"}`, `{}`),
			"jwt.type"},
		"critical extension": {resigned(t, `{"alg":"RS256","kid":"r1","typ":"JWT","crit":["exp"],"exp":1}`, `{}`),
			"jwt.critical"},
		"empty crit":                   {resigned(t, `{"alg":"RS256","kid":"r1","typ":"JWT","crit":[]}`, `{}`), "jwt.critical"},
		"unencoded content (RFC 7797)": {resigned(t, `{"alg":"RS256","kid":"r1","typ":"JWT","b64":false}`, `{}`), "jwt.critical"},
		"header member twice":          {resigned(t, `{"alg":"none","alg":"RS256","kid":"r1","typ":"JWT"}`, `{}`), "jwt.unreadable"},
		"claim twice":                  {resigned(t, `{"alg":"RS256","kid":"r1","typ":"JWT"}`, `{"sub":"a","sub":"b"}`), "jwt.unreadable"},
		"content that is a list":       {resigned(t, `{"alg":"RS256","kid":"r1","typ":"JWT"}`, `["sub"]`), "jwt.unreadable"},
		"content after the object":     {resigned(t, `{"alg":"RS256","kid":"r1","typ":"JWT"}`, `{}{}`), "jwt.unreadable"},
		"nested very deep": {resigned(t, `{"alg":"RS256","kid":"r1","typ":"JWT"}`,
			`{"a":`+strings.Repeat("[", 9000)+strings.Repeat("]", 9000)+`}`), "jwt.unreadable"},
		"padding":    {part[0] + "=." + part[1] + "." + part[2], "jwt.unreadable"},
		"line break": {part[0] + "\n." + part[1] + "." + part[2], "jwt.unreadable"},
		"encrypted":  {"a.b.c.d.e", "jwt.unreadable"},
		"two parts":  {part[0] + "." + part[1], "jwt.unreadable"},
		"empty":      {"", "jwt.unreadable"},
		"1 MB":       {part[0] + "." + strings.Repeat("A", 1<<20) + "." + part[2], "jwt.too-large"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := verify(c.token, jose.Rules{Types: []string{"", "JWT"}, Keys: published(t)})
			require.Error(t, err)
			assert.Equal(t, c.want, code(t, err), err.Error())
		})
	}
}

func TestTypesAndAlgorithmsAreTheCallers(t *testing.T) {
	keys := published(t)
	for typ, allowed := range map[string]bool{`"jwt"`: true, `"JWT"`: true, `"application/jwt"`: true, `"application/x/jwt"`: false,
		`"at+jwt"`: false, `""`: true} {
		_, err := verify(resigned(t, `{"alg":"RS256","kid":"r1","typ":`+typ+`}`, `{}`), jose.Rules{Types: []string{"", "JWT"}, Keys: keys})
		assert.Equal(t, allowed, err == nil, typ)
	}
	_, err := verify(resigned(t, `{"alg":"RS256","kid":"r1"}`, `{}`), jose.Rules{Types: []string{"at+jwt"}, Keys: keys})
	assert.Equal(t, "jwt.type", code(t, err))
	_, err = verify(
		resigned(t, `{"alg":"RS256","kid":"r1","typ":"JWT"}`, `{}`),
		jose.Rules{Types: []string{"JWT"}, Algorithms: []string{"ES256"}, Keys: keys},
	)
	assert.Equal(t, "jwt.algorithm", code(t, err))
	_, err = verify(
		resigned(t, `{"alg":"RS256","kid":"r1","typ":"JWT"}`, `{}`),
		jose.Rules{Types: []string{"JWT"}, Algorithms: []string{"none", "RS256"}, Keys: keys},
	)
	assert.NoError(t, err)
	// Without a key ID every key that fits is tried; one that is not held may be new.
	_, err = verify(resigned(t, `{"alg":"RS256"}`, `{}`), jose.Rules{Types: []string{""}, Keys: keys})
	assert.NoError(t, err)
	_, err = verify(resigned(t, `{"alg":"RS256"}`, `{}`), jose.Rules{Types: []string{""}, Keys: jose.One("o", "", lab()["other"].Public())})
	assert.Equal(t, "jwt.key-unknown", code(t, err))
	// A key that is bound to one algorithm is used with no other (RFC 7517, section 4.4).
	_, err = verify(
		resigned(t, `{"alg":"RS256","kid":"r1"}`, `{}`),
		jose.Rules{Types: []string{""}, Keys: jose.One("r1", "PS256", lab()["rsa"].Public())},
	)
	assert.Equal(t, "jwt.key-unfit", code(t, err))
	assert.ErrorContains(t, err, "it is published for PS256, and the token is signed with RS256")
	// What stands in the set and is passed over is told with its reason, not as if it were not published.
	for why, members := range map[string]string{"it is not for signatures": `"use":"enc"`, "its private part is published": `"d":"AQAB"`,
		"its kind is unknown here": `"kty":"none"`} {
		set, err := jose.ReadKeySet([]byte(`{"keys":[{"kid":"r1","kty":"RSA","n":"AQAB","e":"AQAB",` + members + `}]}`))
		if strings.Contains(members, "kty") {
			set, err = jose.ReadKeySet([]byte(`{"keys":[{"kid":"r1",` + members + `}]}`))
		}
		require.NoError(t, err)
		_, err = verify(resigned(t, `{"alg":"RS256","kid":"r1"}`, `{}`), jose.Rules{Types: []string{""}, Keys: *set})
		assert.Equal(t, "jwt.key-unfit", code(t, err))
		assert.ErrorContains(t, err, why)
	}
	p, err := jose.Parse(
		resigned(t, `{"alg":"RS256","kid":"r1","jku":"https://evil.example","x5u":"https://evil.example","x5c":["MII"]}`, `{}`),
	)
	require.NoError(t, err)
	assert.Equal(t, []string{"jku", "x5c", "x5u"}, p.Header.Ignored)
}

func TestReadKeySetSkipsWhatMustNotCount(t *testing.T) {
	n := base64.RawURLEncoding.EncodeToString(lab()["rsa"].Public().(*rsa.PublicKey).N.Bytes())
	weak, _ := rsa.GenerateKey(rand.Reader, 1024)
	for name, c := range map[string]struct{ key, why string }{
		"shared secret":       {`{"kty":"oct","k":"c2VjcmV0"}`, "shared secret"},
		"private part":        {`{"kty":"RSA","e":"AQAB","n":"` + n + `","d":"AQAB"}`, "private part"},
		"for encryption":      {`{"kty":"RSA","use":"enc","e":"AQAB","n":"` + n + `"}`, "not for signatures"},
		"for other work":      {`{"kty":"RSA","key_ops":["wrapKey"],"e":"AQAB","n":"` + n + `"}`, "checking"},
		"1024 bits":           {`{"kty":"RSA","e":"AQAB","n":"` + base64.RawURLEncoding.EncodeToString(weak.N.Bytes()) + `"}`, "1024 bits"},
		"exponent 1":          {`{"kty":"RSA","e":"AQ","n":"` + n + `"}`, "broken"},
		"even exponent":       {`{"kty":"RSA","e":"BA","n":"` + n + `"}`, "exponent"},
		"unknown kind":        {`{"kty":"QQ"}`, "unknown"},
		"point off the curve": {`{"kty":"EC","crv":"P-256","x":"AQ","y":"AQ"}`, "broken"},
		"wrong algorithm":     {`{"kty":"RSA","alg":"ES256","e":"AQAB","n":"` + n + `"}`, "does not fit"},
		"shared algorithm":    {`{"kty":"RSA","alg":"HS256","e":"AQAB","n":"` + n + `"}`, "does not fit"},
		"kid a number":        {`{"kty":"RSA","kid":7,"e":"AQAB","n":"` + n + `"}`, "kid"},
		"no object":           {`"RSA"`, "not an object"},
	} {
		t.Run(name, func(t *testing.T) {
			set, err := jose.ReadKeySet(
				[]byte(`{"keys":[` + c.key + `,{"kty":"RSA","kid":"good","use":"sig","x5c":["broken"],"e":"AQAB","n":"` + n + `"}]}`),
			)
			require.NoError(t, err)
			require.Len(t, set.Keys, 1, "the good key beside it stays")
			assert.Equal(t, "good", set.Keys[0].ID)
			assert.Equal(t, "rsa-2048", set.Keys[0].Kind)
			require.Len(t, set.Skipped, 1)
			assert.Contains(t, set.Skipped[0].Why, c.why)
		})
	}
	for name, doc := range map[string]string{"HTML": "<html>", "no list": `{"keys":{}}`, "a list": `[]`, "empty": "",
		"1,000 keys": `{"keys":[` + strings.Repeat(`{},`, 999) + `{}]}`,
		"too large":  `{"keys":[],"x":"` + strings.Repeat("x", jose.MaxKeySet) + `"}`, "keys twice": `{"keys":[],"keys":[]}`} {
		_, err := jose.ReadKeySet([]byte(doc))
		require.Error(t, err, name)
		assert.Equal(t, "jwt.keys-unreadable", code(t, err), name)
	}
}

func TestWriteKeySetGivesNothingPrivate(t *testing.T) {
	for _, key := range lab() {
		_, err := jose.WriteKeySet([]jose.Published{{"x", "", key}})
		assert.Error(t, err)
	}
	_, err := jose.WriteKeySet([]jose.Published{{"x", "", []byte("secret")}})
	assert.Error(t, err)
	data, err := jose.WriteKeySet([]jose.Published{{"r1", "RS256", lab()["rsa"].Public()}})
	require.NoError(t, err)
	var doc struct{ Keys []map[string]any }
	require.NoError(t, json.Unmarshal(data, &doc))
	require.Len(t, doc.Keys, 1)
	assert.Equal(t, "sig", doc.Keys[0]["use"])
	assert.NotContains(t, doc.Keys[0], "d")
}

// TestThumbprint is the example of RFC 7638, section 3.1.
func TestThumbprint(t *testing.T) {
	set, err := jose.ReadKeySet(
		[]byte(
			`{"keys":[{"kty":"RSA","n":"0vx7agoebGcQSuuPiLJXZptN9nndrQmbXEps2aiAFbWhM78LhWx4cbbfAAtVT86zwu1RK7aPFFxuhDR1L6` +
				`tSoc_BJECPebWKRXjBZCiFV4n3oknjhMstn64tZ_2W-5JsGY4Hc5n9yBXArwl93lqt7_RN5w6Cf0h4QyQ5v-65YGjQR0_FDW2QvzqY368QQMic` +
				`AtaSqzs8KJZgnYb9c7d0zgdAZHzu6qMQvRL5hajrn1n91CbOpbISD08qNLyrdkt-bFTWhAI4vMQFh6WeZu0fM4lFd2NcRwr3XPksINHaQ-G_xB` +
				`niIqbw0Ls1jF44-csFCur-kEgU8awapJzKnqDKgw","e":"AQAB","alg":"RS256","kid":"2011-04-29"}]}`,
		),
	)
	require.NoError(t, err)
	got, err := jose.Thumbprint(set.Keys[0].Public())
	require.NoError(t, err)
	assert.Equal(t, "NzbLsXh8uDCcd-6MNwXF4W_7noWXFZAfHkxZsRGC9Xs", got)
}

func TestObjectKnowsNamesExactly(t *testing.T) {
	o, err := jose.ReadObject([]byte(`{"ISS":"other","iss":"a","aud":["x","y"],"n":1.9,"yes":"true","list":[1],"null":null}`))
	require.NoError(t, err)
	iss, ok := o.Text("iss")
	assert.Equal(t, "a", iss)
	assert.True(t, ok)
	aud, ok := o.Texts("aud")
	assert.Equal(t, []string{"x", "y"}, aud)
	assert.True(t, ok)
	n, there, ok := o.Number("n")
	assert.Equal(t, int64(1), n)
	assert.True(t, there && ok)
	yes, ok := o.Flag("yes")
	assert.True(t, yes && ok)
	_, ok = o.Text("list")
	assert.False(t, ok)
	_, ok = o.Texts("list")
	assert.False(t, ok)
	_, _, ok = o.Number("iss")
	assert.False(t, ok)
	_, ok = o.Flag("n")
	assert.False(t, ok)
	assert.False(t, o.Has("null"))
	for _, doc := range []string{"{\"a\":\"\xff\"}", `{"a":1e999999999}`} {
		o, err := jose.ReadObject([]byte(doc))
		if err == nil {
			_, _, ok = o.Number("a")
			assert.False(t, ok, doc)
		}
	}
}

func FuzzParse(f *testing.F) {
	keys := published(f)
	good := sign(f, "r1", "RS256", jose.TypeID, lab()["rsa"], map[string]any{"sub": "s-1"})
	f.Add(good)
	f.Add(resigned(f, `{"alg":"RS256","kid":"r1"}`, `{"a":[{"b":null}]}`))
	f.Add(b64(`{"alg":"none"}`) + ".e30.")
	f.Fuzz(func(t *testing.T, compact string) {
		p, err := jose.Parse(compact)
		if err != nil {
			code(t, err)
			return
		}
		token, err := p.Verify(jose.Rules{Types: []string{"", "JWT"}, Keys: keys})
		if err != nil {
			code(t, err)
			return
		}
		// The keys are made anew in every run, so nothing but the seeds can hold; and those only as they are.
		assert.Contains(t, []string{"s-1", ""}, fmt.Sprint(orEmpty(token.Claims["sub"])))
	})
}

func orEmpty(v any) any {
	if v == nil {
		return ""
	}
	return v
}

func FuzzKeySet(f *testing.F) {
	data, err := jose.WriteKeySet([]jose.Published{{"r1", "", lab()["rsa"].Public()}, {"e1", jose.ES256, lab()["ec"].Public()}})
	require.NoError(f, err)
	f.Add(data)
	f.Add([]byte(`{"keys":[{"kty":"OKP","crv":"Ed25519","x":"AA"},{"kty":"EC","crv":"P-256","x":"AQ","y":"AQ"}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		set, err := jose.ReadKeySet(data)
		if err != nil {
			code(t, err)
			return
		}
		for _, k := range set.Keys {
			assert.NotNil(t, k.Public())
			_, err := jose.Thumbprint(k.Public())
			assert.NoError(t, err)
		}
	})
}
