package saml_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/xmlsig"
)

func TestLogoutRequest(t *testing.T) {
	app := keyPair(t, "application", keys.RSA2048)
	rules := requestRules(t)
	rules.Location = "https://gate.saltmere.example/saml/idp/slo"
	send := func(signer *pair, posted bool, change func(string) string) *saml.Received {
		var s, inside *xmlsig.Signer
		if signer != nil {
			s = &xmlsig.Signer{Key: signer.key}
		}
		if posted {
			inside = s
		}
		_, doc, err := saml.Logout{
			Issuer:      appID,
			Destination: rules.Location,
			Now:         now,
			Signer:      inside,
		}.Request(
			saml.NameID{Value: "mvoss", Format: saml.FormatPersistent},
			[]string{"_s1"},
		)
		require.NoError(t, err)
		text := string(doc)
		if change != nil {
			text = change(text)
		}
		if posted {
			r, err := saml.DecodePost(saml.ParamRequest, saml.EncodePost([]byte(text)), "relay", rules.Location)
			require.NoError(t, err)
			return r
		}
		location, err := saml.EncodeRedirect(rules.Location, saml.ParamRequest, []byte(text), "relay", s)
		require.NoError(t, err)
		r, err := saml.DecodeRedirect(location[strings.IndexByte(location, '?')+1:], rules.Location)
		require.NoError(t, err)
		return r
	}
	check := func(r *saml.Received) (*saml.LogoutRequest, error) {
		in, err := saml.OpenLogoutRequest(r)
		if err != nil {
			return nil, err
		}
		return in.Check(rules, nil)
	}
	for _, posted := range []bool{false, true} {
		got, err := check(send(&app, posted, nil))
		require.NoError(t, err)
		assert.Equal(t, "mvoss", got.NameID.Value)
		assert.Equal(t, []string{"_s1"}, got.SessionIndexes)
		assert.Equal(t, "relay", got.RelayState)
	}
	other := stranger(t)
	for name, c := range map[string]struct {
		r    *saml.Received
		code string
	}{
		"unsigned":       {send(nil, true, nil), "saml.logout-unsigned"},
		"unsigned query": {send(nil, false, nil), "saml.logout-unsigned"},
		"another's key":  {send(&other, false, nil), "saml.query-signature"},
		"somebody else": {send(&app, true, func(s string) string {
			return strings.Replace(s, "mvoss", "zoberg", 1)
		}), "saml.signature-altered"},
		"another place": {send(&app, false, func(s string) string {
			return strings.Replace(s, "/slo", "/sso", 1)
		}), "saml.destination-mismatch"},
		"over": {send(&app, false, func(s string) string {
			return strings.Replace(s, `NotOnOrAfter="2026-11-23T09:46`, `NotOnOrAfter="2026-11-23T09:30`, 1)
		}), "saml.logout-over"},
		"nobody": {send(&app, false, func(s string) string {
			i, j := strings.Index(s, "<saml:NameID"), strings.Index(s, "</saml:NameID>")
			return s[:i] + s[j+14:]
		}), "saml.structure"},
		"a sign-in request": {send(&app, false, func(s string) string {
			return strings.ReplaceAll(s, "LogoutRequest", "AuthnRequest")
		}), "saml.not-a-request"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := check(c.r)
			var f *explain.Failure
			require.ErrorAs(t, err, &f)
			assert.Equal(t, c.code, string(f.Code), f.Evidence)
		})
	}
}

// TestLogoutBySOAP sends a request in an envelope, as servers do to one another.
func TestLogoutBySOAP(t *testing.T) {
	app := keyPair(t, "application", keys.RSA2048)
	rules := requestRules(t)
	rules.Location = "https://gate.saltmere.example/saml/idp/slo"
	l := saml.Logout{Issuer: appID, Destination: rules.Location, Now: now, Signer: &xmlsig.Signer{Key: app.key}, SOAP: true}
	_, doc, err := l.Request(saml.NameID{Value: "mvoss"}, nil)
	require.NoError(t, err)
	open := func(doc string) (*saml.LogoutRequest, error) {
		in, err := saml.OpenLogoutRequest(
			&saml.Received{Binding: saml.BindingSOAP, Param: saml.ParamRequest, XML: []byte(doc), Location: rules.Location},
		)
		if err != nil {
			return nil, err
		}
		return in.Check(rules, nil)
	}
	got, err := open(string(doc))
	require.NoError(t, err)
	assert.Equal(t, "mvoss", got.NameID.Value)
	assert.Empty(t, got.SessionIndexes, "none names all sessions")
	for name, c := range map[string]struct{ doc, code string }{
		"changed":    {strings.Replace(string(doc), "mvoss", "zoberg", 1), "saml.signature-altered"},
		"two in one": {strings.Replace(string(doc), "<soap:Body>", "<soap:Body><x/>", 1), "saml.unreadable"},
		"no envelope": {string(doc[strings.Index(string(doc), "<samlp"):strings.Index(string(doc), "</soap:Body>")]),
			"saml.unreadable"},
		"signature moved": {strings.Replace(string(doc), "<samlp:LogoutRequest", "<samlp:LogoutRequest x=\"1\"", 1),
			"saml.signature-altered"},
	} {
		_, err := open(c.doc)
		var f *explain.Failure
		require.ErrorAs(t, err, &f, name)
		assert.Equal(t, c.code, string(f.Code), name)
	}
}

// TestLogoutResponse takes the answers that count, and no others.
func TestLogoutResponse(t *testing.T) {
	app, other := keyPair(t, "application", keys.RSA2048), stranger(t)
	rules := requestRules(t)
	rules.Location = "https://gate.saltmere.example/saml/idp/slo"
	made := func(key pair, partial, soap bool) string {
		doc, err := saml.Logout{
			Issuer:      appID,
			Destination: rules.Location,
			Now:         now,
			Signer:      &xmlsig.Signer{Key: key.key},
			SOAP:        soap,
		}.Response("_r1", partial, "")
		require.NoError(t, err)
		return string(doc)
	}
	check := func(doc, binding, request string) (bool, bool, error) {
		in, err := saml.OpenLogoutResponse(
			&saml.Received{Binding: binding, Param: saml.ParamResponse, XML: []byte(doc), Location: rules.Location},
		)
		if err != nil {
			return false, false, err
		}
		return in.Check(request, rules, nil)
	}
	done, partial, err := check(made(app, false, false), saml.BindingPost, "_r1")
	require.NoError(t, err)
	assert.True(t, done)
	assert.False(t, partial)
	done, partial, err = check(made(app, true, true), saml.BindingSOAP, "_r1")
	require.NoError(t, err)
	assert.True(t, done && partial)
	unsigned, err := saml.Logout{Issuer: appID, Destination: rules.Location, Now: now, SOAP: true}.Response("_r1", false, "")
	require.NoError(t, err)
	done, _, err = check(string(unsigned), saml.BindingSOAP, "_r1")
	require.NoError(t, err, "by SOAP the connection may vouch for it")
	assert.True(t, done)
	failed := strings.Replace(string(unsigned), "status:Success", "status:Responder", 1)
	done, _, err = check(failed, saml.BindingSOAP, "_r1")
	require.NoError(t, err)
	assert.False(t, done, "a status that is no success says that the session goes on")
	for name, c := range map[string]struct{ doc, binding, request, code string }{
		"of another request": {made(app, false, false), saml.BindingPost, "_r2", "saml.in-response-mismatch"},
		"another's key":      {made(other, false, false), saml.BindingPost, "_r1", "saml.signature-wrong-key"},
		"changed": {strings.Replace(made(app, true, false), "PartialLogout", "AuthnFailed", 1), saml.BindingPost, "_r1",
			"saml.signature-altered"},
		"unsigned": {strings.TrimSuffix(strings.SplitN(string(unsigned), "<soap:Body>", 2)[1], "</soap:Body></soap:Envelope>"),
			saml.BindingPost, "_r1", "saml.logout-unsigned"},
		"somebody else's": {strings.Replace(string(unsigned), string(appID), "https://other.example/saml", 1), saml.BindingSOAP, "_r1",
			"saml.logout-issuer"},
		"no answer at all": {strings.ReplaceAll(string(unsigned), "LogoutResponse", "Response"), saml.BindingSOAP, "_r1",
			"saml.not-a-response"},
	} {
		_, _, err := check(c.doc, c.binding, c.request)
		var f *explain.Failure
		require.ErrorAs(t, err, &f, name)
		assert.Equal(t, c.code, string(f.Code), name)
	}
}
