package pasted_test

import (
	"encoding/base64"
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/pasted"
	"innergate/core/saml"
)

const response = `<samlp:Response xmlns:samlp="urn:oasis:names:tc:SAML:2.0:protocol" ID="_1"/>`

// TestRawSAML undoes each transport form, to the same octets.
func TestRawSAML(t *testing.T) {
	t.Parallel()
	plain := base64.StdEncoding.EncodeToString([]byte(response))
	redirect, err := saml.EncodeRedirect("https://gate.example/acs", saml.ParamResponse, []byte(response), "", nil)
	require.NoError(t, err)
	for name, text := range map[string]string{
		"XML":           "  " + response + "\n",
		"base64":        plain,
		"escaped":       url.QueryEscape(plain),
		"a form's line": "RelayState=x&SAMLResponse=" + url.QueryEscape(plain) + "&y=z",
		"deflated":      redirect,
	} {
		got, err := pasted.RawSAML(text)
		require.NoError(t, err, name)
		assert.Equal(t, response, string(got), name)
	}
	for _, bad := range []string{"", "hello world!", "aGVsbG8="} {
		_, err := pasted.RawSAML(bad)
		assert.Error(t, err, bad)
	}
}

func TestKindOfMessage(t *testing.T) {
	t.Parallel()
	for text, kind := range map[string]string{
		response:                                                             pasted.JudgedResponse,
		`<samlp:AuthnRequest xmlns:samlp="x"/>`:                              pasted.JudgedRequest,
		"https://gate.example/sso?SAMLRequest=abc":                           pasted.JudgedRequest,
		"eyJhbGciOiJFUzI1NiJ9.eyJzdWIiOiJtdm9zcyJ9.c2ln":                     pasted.JudgedToken,
		"https://op.example/a?client_id=x&redirect_uri=https%3A%2F%2Fa&x":    pasted.JudgedAsking,
		"https://gate.example/cb?code=1&state=2":                             pasted.JudgedAnswer,
		"https://gate.example/cb?state=2&error=access_denied#whatever=code=": pasted.JudgedAnswer,
	} {
		assert.Equal(t, kind, pasted.KindOfMessage(text), text)
	}
}

func TestReceivedRequest(t *testing.T) {
	t.Parallel()
	const at, request = "https://gate.example/sso", `<samlp:AuthnRequest xmlns:samlp="urn:oasis:names:tc:SAML:2.0:protocol" ID="_1"/>`
	redirect, err := saml.EncodeRedirect(at, saml.ParamRequest, []byte(request), "relay", nil)
	require.NoError(t, err)
	for name, text := range map[string]string{
		"XML": request, "an address": redirect,
		"a form": "RelayState=relay&SAMLRequest=" + url.QueryEscape(base64.StdEncoding.EncodeToString([]byte(request))),
	} {
		got, err := pasted.ReceivedRequest(text, at)
		require.NoError(t, err, name)
		assert.Equal(t, request, string(got.XML), name)
		assert.Equal(t, at, got.Location)
	}
	_, err = pasted.ReceivedRequest("https://gate.example/sso?x=y", at)
	assert.Error(t, err)
}

func TestSamples(t *testing.T) {
	t.Parallel()
	bag, err := pasted.JSONSample([]byte(`{"email":"mira@saltmere.example","groups":["crew","office"]}`))
	require.NoError(t, err)
	assert.Equal(t, []string{"crew", "office"}, bag["groups"])
	bag, err = pasted.JSONSample([]byte(`{"attributes":{"mail":["a@b.example"]}}`))
	require.NoError(t, err)
	assert.Equal(t, []string{"a@b.example"}, bag["mail"])
	_, err = pasted.JSONSample([]byte(`[1]`))
	assert.Error(t, err)

	claims := base64.RawURLEncoding.EncodeToString([]byte(`{"sub":"mvoss"}`))
	assert.Equal(t, []string{"mvoss"}, pasted.TokenSample("e30." + claims + ".c2ln")["sub"])
	assert.Nil(t, pasted.TokenSample("no token"))

	assert.Equal(t, []string{"mvoss", ""},
		append(pasted.ListSample("uid=mvoss\nmail")["uid"], pasted.ListSample("uid=mvoss\nmail")["mail"]...))
	assert.Len(t, pasted.ListSample("uid, mail, cn"), 3)
	assert.Equal(t, []string{"mira@saltmere.example"}, pasted.ListSample("mail: \"mira@saltmere.example\"")["mail"])

	doc := `<a:Assertion xmlns:a="urn:oasis:names:tc:SAML:2.0:assertion"><a:NameID> mvoss </a:NameID><a:Attribute Name="mail">` +
		`<a:AttributeValue>m@x.example</a:AttributeValue></a:Attribute><a:Attribute Name="empty"/></a:Assertion>`
	bag = pasted.AssertionSample([]byte(doc))
	assert.Equal(t, []string{"mvoss"}, bag["NameID"])
	assert.Equal(t, []string{""}, bag["empty"])
	assert.Nil(t, pasted.AssertionSample([]byte("<a>")))
}
