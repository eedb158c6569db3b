package standin_test

import (
	"crypto/x509"
	"encoding/base64"
	"errors"
	"html"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/xmlsig"
	"innergate/standin"
)

// gateKey plays the gate towards a stand-in.
func gateKey(t testing.TB) (*xmlsig.Signer, *x509.Certificate) {
	t.Helper()
	k, err := keys.Generate(keys.RSA2048)
	require.NoError(t, err)
	der, err := keys.SelfSigned(k, "gate", time.Now(), time.Hour)
	require.NoError(t, err)
	cert, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return &xmlsig.Signer{Key: k}, cert
}

const gateID = "https://gate.saltmere.example/saml/idp"

// TestApplicationChecks holds the simulated application to what a real one checks.
func TestApplicationChecks(t *testing.T) {
	signer, cert := gateKey(t)
	rogue, _ := gateKey(t)
	app, err := standin.NewApplication("Crew Rota", "https://rota.saltmere.example", nil)
	require.NoError(t, err)
	app.IDP = func() (*standin.IDP, error) {
		return &standin.IDP{
			EntityID:     gateID,
			SSO:          "https://gate.saltmere.example/saml/idp/sso",
			Certificates: []*x509.Certificate{cert},
		}, nil
	}
	server := httptest.NewServer(app.Handler())
	t.Cleanup(server.Close)
	post := func(s saml.Issued) (int, string) {
		made, err := saml.IssueResponse(s)
		require.NoError(t, err)
		answer, err := http.PostForm(server.URL+"/acs", url.Values{"SAMLResponse": {base64.StdEncoding.EncodeToString(made.XML)}})
		require.NoError(t, err)
		defer answer.Body.Close()
		body, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer.StatusCode, string(body)
	}
	good := func() saml.Issued {
		return saml.Issued{
			Issuer:        gateID,
			Audience:      saml.EntityID(app.EntityID()),
			ACS:           app.ACS(),
			Now:           time.Now(),
			NameID:        saml.NameID{Value: "mvoss"},
			AuthnInstant:  time.Now(),
			SignAssertion: true,
			Signer:        signer,
		}
	}
	code, body := post(good())
	assert.Equal(t, 200, code)
	assert.Contains(t, body, "mvoss")
	for name, c := range map[string]struct {
		change func(*saml.Issued)
		says   string
	}{
		"unsigned":            {func(s *saml.Issued) { s.SignAssertion = false }, "carries no signature"},
		"another key":         {func(s *saml.Issued) { s.Signer = rogue }, "not made by any key"},
		"another audience":    {func(s *saml.Issued) { s.Audience = "urn:other" }, "is not us"},
		"another issuer":      {func(s *saml.Issued) { s.Issuer = "urn:other" }, "not our identity provider"},
		"another address":     {func(s *saml.Issued) { s.ACS += "/" }, "not addressed to us"},
		"old":                 {func(s *saml.Issued) { s.Now = s.Now.Add(-time.Hour) }, "not in time"},
		"an unknown question": {func(s *saml.Issued) { s.InResponseTo = "_unknown" }, "did not send the request"},
	} {
		s := good()
		c.change(&s)
		code, body := post(s)
		assert.Equal(t, 403, code, name)
		assert.Contains(t, body, c.says, name)
		assert.Contains(t, body, "Simulated application")
	}
	app.SPInitiatedOnly = true
	_, body = post(good())
	assert.Contains(t, body, "no unsolicited responses")
	app.IDP = func() (*standin.IDP, error) { return nil, errors.New("not there") }
	answer, err := http.Get(server.URL + "/sign-in")
	require.NoError(t, err)
	answer.Body.Close()
	assert.Equal(t, http.StatusBadGateway, answer.StatusCode)
}

// TestProviderChecks holds the simulated provider to what a real one checks of a request.
func TestProviderChecks(t *testing.T) {
	signer, cert := gateKey(t)
	rogue, _ := gateKey(t)
	p, err := standin.NewProvider(
		"Saltmere Staff",
		"https://id.saltmere.example",
		[]standin.Person{{ID: "mvoss", Name: "Mira Voss", Role: "purser"}},
		time.Hour,
		nil,
	)
	require.NoError(t, err)
	p.FindPartner = func(id string) (*standin.Partner, error) {
		if id != gateID {
			return nil, errors.New("nobody knows it")
		}
		return &standin.Partner{EntityID: id, ACS: "https://gate.saltmere.example/acs", Certificates: []*x509.Certificate{cert}}, nil
	}
	server := httptest.NewServer(p.Handler())
	t.Cleanup(server.Close)
	ask := func(s saml.Asked, by *xmlsig.Signer) string {
		_, doc, err := saml.NewAuthnRequest(s, nil)
		require.NoError(t, err)
		location, err := saml.EncodeRedirect(server.URL+"/sso", saml.ParamRequest, doc, "relay", by)
		require.NoError(t, err)
		answer, err := http.Get(location)
		require.NoError(t, err)
		defer answer.Body.Close()
		body, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return string(body)
	}
	good := saml.Asked{
		Issuer:      gateID,
		Destination: "https://id.saltmere.example/sso",
		ACS:         "https://gate.saltmere.example/acs",
		Now:         time.Now(),
	}
	assert.Contains(t, ask(good, signer), "Mira Voss")
	for says, c := range map[string]struct {
		asked saml.Asked
		by    *xmlsig.Signer
	}{
		"is not signed": {good, nil}, "not made with a key that we hold": {good, rogue},
		"is not registered": {saml.Asked{Issuer: "urn:other", Destination: good.Destination, ACS: good.ACS, Now: time.Now()}, signer},
		"is not ours": {saml.Asked{Issuer: gateID, Destination: "https://id.saltmere.example/other", ACS: good.ACS,
			Now: time.Now()}, signer},
		"ACS URL": {saml.Asked{Issuer: gateID, Destination: good.Destination, ACS: "https://evil.example/acs", Now: time.Now()}, signer},
	} {
		body := ask(c.asked, c.by)
		assert.Contains(t, body, says)
		assert.NotContains(t, body, "Mira Voss")
	}
	passive := good
	passive.IsPassive = true
	body := ask(passive, signer)
	value := body[strings.Index(body, `value="`)+7:]
	doc, err := base64.StdEncoding.DecodeString(html.UnescapeString(value[:strings.IndexByte(value, '"')]))
	require.NoError(t, err)
	assert.Contains(t, string(doc), "NoPassive")
	read, err := p.Metadata()
	require.NoError(t, err)
	assert.Empty(t, saml.ReadMetadata(read, time.Now()).Problems)
}

func TestRecorderNumbersItsFiles(t *testing.T) {
	r := &standin.Recorder{Folder: t.TempDir()}
	require.NoError(t, r.Keep("a.xml", []byte("<a/>")))
	require.NoError(t, r.KeepJSON("b.json", map[string]int{"x": 1}))
	assert.NoError(t, (*standin.Recorder)(nil).Keep("c", nil))
	assert.FileExists(t, r.Folder+"/01-a.xml")
	assert.FileExists(t, r.Folder+"/02-b.json")
}

// TestFederationPublishesWhatItSigned holds the simulated federation's documents against its certificate, whole and one
// by one.
func TestFederationPublishesWhatItSigned(t *testing.T) {
	f, err := standin.NewFederation(
		"Harbours & Co",
		[]standin.Member{
			{EntityID: "https://id.port.example", Name: "Port <Office>", Kind: saml.RoleIDP},
			{EntityID: "https://port.example/berths?x=1&y=2", Name: "Berths", Kind: saml.RoleSP},
		},
		nil,
	)
	require.NoError(t, err)
	cert, err := keys.ParseCertificate([]byte(f.Certificate()))
	require.NoError(t, err)
	server := httptest.NewServer(f.Handler())
	t.Cleanup(server.Close)
	get := func(path string) (int, []byte) {
		answer, err := http.Get(server.URL + path)
		require.NoError(t, err)
		defer answer.Body.Close()
		body, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer.StatusCode, body
	}
	code, all := get("/all.xml")
	require.Equal(t, 200, code)
	require.NoError(t, saml.VerifyStream(strings.NewReader(string(all)), []*x509.Certificate{cert}))
	d := saml.ReadMetadata(all, time.Now())
	require.Len(t, d.Entities, 2)
	assert.Equal(t, "Port <Office>", d.Entities[0].DisplayName)
	require.NotNil(t, d.Entities[1].ValidUntil)
	code, one := get("/entities/" + url.PathEscape(d.Entities[1].EntityID))
	require.Equal(t, 200, code)
	require.NoError(t, saml.VerifyMetadata(one, []*x509.Certificate{cert}))
	assert.Equal(t, d.Entities[1].EntityID, saml.ReadMetadata(one, time.Now()).Entities[0].EntityID)
	code, _ = get("/entities/https%3A%2F%2Fnobody.example")
	assert.Equal(t, 404, code)
}
