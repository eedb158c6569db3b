package saml_test

import (
	"strings"
	"testing"
	"time"

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
		_, doc, err := saml.NewLogoutRequest(appID, rules.Location, saml.NameID{Value: "mvoss", Format: saml.FormatPersistent}, []string{"_s1"}, now, inside)
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
		"unsigned":       {send(nil, true, nil), "saml.request-unsigned"},
		"unsigned query": {send(nil, false, nil), "saml.request-unsigned"},
		"another's key":  {send(&other, false, nil), "saml.signature-wrong-key"},
		"somebody else":  {send(&app, true, func(s string) string { return strings.Replace(s, "mvoss", "zoberg", 1) }), "saml.signature-altered"},
		"another place":  {send(&app, false, func(s string) string { return strings.Replace(s, "/slo", "/sso", 1) }), "saml.destination-mismatch"},
		"over": {send(&app, false, func(s string) string {
			return strings.Replace(s, `NotOnOrAfter="2026-11-23T09:46`, `NotOnOrAfter="2026-11-23T09:30`, 1)
		}), "saml.request-old"},
		"nobody": {send(&app, false, func(s string) string {
			i, j := strings.Index(s, "<saml:NameID"), strings.Index(s, "</saml:NameID>")
			return s[:i] + s[j+14:]
		}), "saml.structure"},
		"a sign-in request": {send(&app, false, func(s string) string { return strings.ReplaceAll(s, "LogoutRequest", "AuthnRequest") }), "saml.not-a-request"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := check(c.r)
			var f *explain.Failure
			require.ErrorAs(t, err, &f)
			assert.Equal(t, c.code, f.Code, f.Evidence)
		})
	}
	doc, err := saml.NewLogoutResponse(gateID, "https://rota.saltmere.example/slo", "_r", true, "", now.Add(time.Second), &xmlsig.Signer{Key: ours(t).key})
	require.NoError(t, err)
	assert.Contains(t, string(doc), "PartialLogout")
}
