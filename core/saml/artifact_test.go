package saml_test

import (
	"crypto/x509"
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

const resolver = "https://gate.saltmere.example/saml/idp/artifact"

func TestArtifactForm(t *testing.T) {
	a := saml.NewArtifact(idpID, 3)
	got, err := saml.ParseArtifact(a.String())
	require.NoError(t, err)
	assert.Equal(t, a, got)
	assert.True(t, got.Issuer(idpID))
	assert.False(t, got.Issuer(appID))
	assert.Len(t, a.String(), 60)
	assert.NotEqual(t, a.Handle, saml.NewArtifact(idpID, 3).Handle)
	for _, bad := range []string{"", "x", "AAQ=", a.String()[:56], "AAEAAC" + a.String()[6:]} {
		_, err := saml.ParseArtifact(bad)
		assert.Error(t, err, bad)
	}
	list := []saml.Endpoint{{Location: "a", Index: index(0)}, {Location: "b", Index: index(3)}}
	assert.Equal(t, "b", got.Endpoint(list).Location)
	assert.Nil(t, got.Endpoint(list[:1]))
}

func resolveRules(t testing.TB) saml.RequestRules {
	return saml.RequestRules{
		Partner:  "Crew Rota",
		Issuer:   appID,
		Location: resolver,
		MaxAge:   time.Minute,
		Skew:     time.Minute,
		Now:      now,
		Trust:    saml.Trust{Certificates: []*x509.Certificate{keyPair(t, "application", keys.RSA2048).cert}},
	}
}

func TestArtifactResolveIsChecked(t *testing.T) {
	app := keyPair(t, "application", keys.RSA2048)
	artifact := saml.NewArtifact(gateID, 0)
	signed := func(key pair, change func(*time.Time) string) []byte {
		at, destination := now, resolver
		if change != nil {
			destination = change(&at)
		}
		_, doc, err := saml.NewArtifactResolve(appID, destination, artifact.String(), at, &xmlsig.Signer{Key: key.key})
		require.NoError(t, err)
		return doc
	}
	check := func(doc []byte) (saml.Artifact, error) {
		in, err := saml.OpenArtifactResolve(doc)
		if err != nil {
			return saml.Artifact{}, err
		}
		return in.Check(resolveRules(t), nil)
	}
	got, err := check(signed(app, nil))
	require.NoError(t, err)
	assert.Equal(t, artifact, got)
	_, unsigned, err := saml.NewArtifactResolve(appID, resolver, artifact.String(), now, nil)
	require.NoError(t, err)
	good := string(signed(app, nil))
	for name, c := range map[string]struct {
		doc  []byte
		code string
	}{
		"unsigned":       {unsigned, "saml.request-unsigned"},
		"stranger's key": {signed(stranger(t), nil), "saml.signature-wrong-key"},
		"another artifact": {[]byte(strings.Replace(good, artifact.String(), saml.NewArtifact(gateID, 0).String(), 1)),
			"saml.signature-altered"},
		"another place": {signed(app, func(*time.Time) string { return resolver + "/" }), "saml.destination-mismatch"},
		"old":           {signed(app, func(at *time.Time) string { *at = now.Add(-time.Hour); return resolver }), "saml.request-old"},
		"no envelope":   {[]byte("<x/>"), "saml.unreadable"},
		"empty body":    {[]byte(`<s:Envelope xmlns:s="` + saml.NSSOAP + `"><s:Body/></s:Envelope>`), "saml.unreadable"},
		"another request": {[]byte(`<s:Envelope xmlns:s="` + saml.NSSOAP + `"><s:Body><x/></s:Body></s:Envelope>`),
			"saml.not-a-request"},
		"two requests":  {[]byte(strings.Replace(good, "</soap:Body>", "<x/></soap:Body>", 1)), "saml.unreadable"},
		"document type": {[]byte("<!DOCTYPE x>" + good), "saml.unreadable"},
		"signature elsewhere": {[]byte(strings.Replace(strings.Replace(string(unsigned), "<samlp:Artifact>",
			good[strings.Index(good, "<ds:Signature"):strings.Index(good, "</ds:Signature>")+15]+"<samlp:Artifact>", 1), `ID="_`,
			`ID="x_`, 1)), "saml.signature-malformed"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := check(c.doc)
			var f *explain.Failure
			require.ErrorAs(t, err, &f)
			assert.Equal(t, c.code, string(f.Code), f.Evidence)
		})
	}
}

func TestResponseByArtifactPassesEveryCheck(t *testing.T) {
	p := provider(t)
	signer := &xmlsig.Signer{Key: p.key}
	s := issued()
	s.SignAssertion, s.Signer = true, signer
	made, err := saml.IssueResponse(s)
	require.NoError(t, err)
	rules := rules(t)
	open := func(doc []byte, request string) (*saml.Assertion, error) {
		in, err := saml.OpenArtifactResponse(doc, request, gateACS, rules, nil)
		if err != nil {
			return nil, err
		}
		return in.Check(rules, nil)
	}
	answer := func(message []byte) []byte {
		doc, err := saml.NewArtifactResponse(idpID, "_resolve", message, now, signer)
		require.NoError(t, err)
		return doc
	}
	got, err := open(answer(made.XML), "_resolve")
	require.NoError(t, err)
	assert.Equal(t, s.NameID.Value, got.NameID.Value)

	unsigned := s
	unsigned.SignAssertion = false
	bare, err := saml.IssueResponse(unsigned)
	require.NoError(t, err)
	late := s
	late.Now = now.Add(-time.Hour)
	old, err := saml.IssueResponse(late)
	require.NoError(t, err)
	foreign, err := saml.NewArtifactResponse(idpID, "_resolve", made.XML, now, &xmlsig.Signer{Key: stranger(t).key})
	require.NoError(t, err)
	issuer, err := saml.NewArtifactResponse(appID, "_resolve", made.XML, now, signer)
	require.NoError(t, err)
	good := string(answer(made.XML))
	for name, c := range map[string]struct {
		doc     []byte
		request string
		code    string
	}{
		"nothing in it":            {answer(nil), "_resolve", "saml.artifact-empty"},
		"answer to another":        {answer(made.XML), "_other", "saml.in-response-mismatch"},
		"assertion unsigned":       {answer(bare.XML), "_resolve", "saml.signature-missing"},
		"assertion old":            {answer(old.XML), "_resolve", "saml.expired"},
		"answer by a stranger":     {foreign, "_resolve", "saml.signature-wrong-key"},
		"answer by another entity": {issuer, "_resolve", "saml.provider-unknown"},
		"assertion changed": {[]byte(strings.Replace(good, s.NameID.Value, "somebody", 1)), "_resolve",
			"saml.signature-altered"},
		"fault": {[]byte(`<s:Envelope xmlns:s="` + saml.NSSOAP +
			`"><s:Body><s:Fault><faultcode>s:Client</faultcode><faultstring>who are you</faultstring></s:Fault></s:Body></s:Envelope>`),
			"_resolve", "saml.artifact-refused"},
		"web page":                     {[]byte("<html/>"), "_resolve", "saml.unreadable"},
		"a request instead of message": {answer([]byte(`<x xmlns="urn:x"/>`)), "_resolve", "saml.not-a-response"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := open(c.doc, c.request)
			var f *explain.Failure
			require.ErrorAs(t, err, &f)
			assert.Equal(t, c.code, string(f.Code), f.Evidence)
		})
	}
}

func TestAnswerByArtifactOnlyWhereRegistered(t *testing.T) {
	app := keyPair(t, "application", keys.RSA2048)
	s := asked()
	s.ACS, s.ProtocolBinding = "https://rota.saltmere.example/artifact", saml.BindingArtifact
	req, err := checkRequest(ask(t, s, nil, &xmlsig.Signer{Key: app.key}), requestRules(t))
	require.NoError(t, err)
	assert.Equal(t, saml.BindingArtifact, req.Binding)
	assert.Equal(t, app.cert, req.Certificate)
	s.ACS = appACS
	_, err = checkRequest(ask(t, s, nil, nil), requestRules(t))
	assert.ErrorContains(t, err, "saml.binding-unsupported", "this address takes posted answers only")
	byIndex := asked()
	byIndex.ACSIndex = index(2)
	req, err = checkRequest(ask(t, byIndex, nil, nil), requestRules(t))
	require.NoError(t, err)
	assert.Equal(t, saml.BindingArtifact, req.Binding)
}
