package saml_test

import (
	"bytes"
	"compress/flate"
	"crypto/x509"
	"encoding/base64"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/internal/judge"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/core/xmlsig"
)

func index(n int) *int { return &n }

func requestRules(t testing.TB) saml.RequestRules {
	return saml.RequestRules{
		Partner: "Crew Rota", Issuer: appID, Location: ssoURL, MaxAge: 10 * time.Minute, Skew: time.Minute, Now: now,
		ACS: []saml.Endpoint{
			{Service: saml.ServiceACS, Binding: saml.BindingPost, Location: appACS, Index: index(0)},
			{
				Service:  saml.ServiceACS,
				Binding:  saml.BindingPost,
				Location: "https://rota.saltmere.example/acs/second",
				Index:    index(1),
				Default:  true,
			},
			{Service: saml.ServiceACS, Binding: saml.BindingArtifact, Location: "https://rota.saltmere.example/artifact", Index: index(2)},
		},
		AttributeSet: []int{0},
		Trust:        saml.Trust{Certificates: []*x509.Certificate{keyPair(t, "application", keys.RSA2048).cert}},
	}
}

func asked() saml.Asked {
	return saml.Asked{Issuer: appID, Destination: ssoURL, ACS: appACS, Now: now}
}

func ask(t testing.TB, s saml.Asked, change func(string) string, signer *xmlsig.Signer) *saml.Received {
	t.Helper()
	_, doc, err := saml.NewAuthnRequest(s, nil)
	require.NoError(t, err)
	text := string(doc)
	if change != nil {
		text = change(text)
		require.NotEqual(t, string(doc), text, "the attack changes nothing")
	}
	location, err := saml.EncodeRedirect(ssoURL, saml.ParamRequest, []byte(text), "relay & state", signer)
	require.NoError(t, err)
	r, err := saml.DecodeRedirect(location[strings.IndexByte(location, '?')+1:], ssoURL)
	require.NoError(t, err)
	return r
}

func checkRequest(r *saml.Received, rules saml.RequestRules) (*saml.AuthnRequest, error) {
	in, err := saml.OpenRequest(r)
	if err != nil {
		return nil, err
	}
	return in.Check(rules, trace.NewRecorder(now, func() time.Time { return now }))
}

func TestRequestIsAccepted(t *testing.T) {
	app := keyPair(t, "application", keys.RSA2048)
	s := asked()
	s.ForceAuthn, s.IsPassive, s.NameIDFormat = true, true, saml.FormatPersistent
	s.RequestedContext = &saml.RequestedContext{Comparison: "minimum", Classes: []string{saml.ContextPassword}}
	s.Subject = &saml.NameID{Value: "mvoss"}
	s.ProxyCount, s.RequesterIDs = index(2), []string{"urn:behind"}
	req, err := checkRequest(ask(t, s, nil, &xmlsig.Signer{Key: app.key}), requestRules(t))
	require.NoError(t, err)
	require.NoError(t, req.Refusal)
	assert.True(t, req.Signed && req.ForceAuthn && req.IsPassive)
	assert.Equal(t, "relay & state", req.RelayState)
	assert.Equal(t, appACS, req.ACS)
	assert.Equal(t, saml.FormatPersistent, req.NameIDPolicy.Format)
	assert.Equal(t, "mvoss", req.Subject.Value)
	assert.Equal(t, 2, *req.ProxyCount)
	assert.Equal(t, []string{"urn:behind"}, req.RequesterIDs)

	// By POST with an enveloped signature.
	_, doc, err := saml.NewAuthnRequest(s, &xmlsig.Signer{Key: app.key})
	require.NoError(t, err)
	r, err := saml.DecodePost(saml.ParamRequest, saml.EncodePost(doc), "x", ssoURL)
	require.NoError(t, err)
	req, err = checkRequest(r, requestRules(t))
	require.NoError(t, err)
	assert.True(t, req.Signed)
}

func TestRequestFindsItsACS(t *testing.T) {
	s := asked()
	s.ACSIndex = index(1)
	req, err := checkRequest(ask(t, s, nil, nil), requestRules(t))
	require.NoError(t, err)
	assert.Equal(t, "https://rota.saltmere.example/acs/second", req.ACS)
	s = asked()
	s.OmitACS = true
	req, err = checkRequest(ask(t, s, nil, nil), requestRules(t))
	require.NoError(t, err)
	assert.Equal(t, "https://rota.saltmere.example/acs/second", req.ACS, "the default one")
}

// TestRequestRules breaks each rule for requests (SAML Profiles 4.1.4.1, Core 3.4.1).
func TestRequestRules(t *testing.T) {
	app := keyPair(t, "application", keys.RSA2048)
	signer := &xmlsig.Signer{Key: app.key}
	acs := func(url string) func(string) string { return replace(`URL="`+appACS+`"`, `URL="`+url+`"`) }
	cases := []struct {
		name    string
		asked   func(*saml.Asked)
		change  func(string) string
		rules   func(*saml.RequestRules)
		signer  *xmlsig.Signer
		code    string
		refused bool // answered with an error, instead of a page
	}{
		{name: "another's issuer", change: replace(string(appID), "https://evil.example"), code: "saml.application-unknown"},
		{name: "version", change: replace(`Version="2.0"`, `Version="2.1"`), code: "saml.version"},
		{name: "destination", change: replace(`Destination="`+ssoURL, `Destination="`+ssoURL+`/x`), code: "saml.destination-mismatch"},
		{
			name:   "signed without destination",
			change: replace(` Destination="`+ssoURL+`"`, ``),
			signer: signer,
			code:   "saml.destination-missing",
		},
		{name: "unsigned where signed is wanted", rules: func(r *saml.RequestRules) { r.WantSigned = true }, code: "saml.request-unsigned"},
		{name: "signed by a stranger", signer: &xmlsig.Signer{Key: stranger(t).key}, code: "saml.query-signature"},
		{
			name:   "signed with what is held for encryption",
			signer: &xmlsig.Signer{Key: stranger(t).key},
			rules:  func(r *saml.RequestRules) { r.Trust.Others = []*saml.Certificate{stranger(t).cert} },
			code:   "saml.signature-encryption-key",
		},
		{name: "old", rules: func(r *saml.RequestRules) { r.Now = now.Add(time.Hour) }, code: "saml.request-old"},
		{name: "from the future", rules: func(r *saml.RequestRules) { r.Now = now.Add(-time.Hour) }, code: "saml.request-early"},
		{name: "no IssueInstant", change: replace(`IssueInstant=`, `Consent=`), code: "saml.structure"},
		{name: "no ID", change: replace(` ID="`, ` X="`), code: "saml.structure"},
		{name: "ACS of another", change: acs("https://evil.example/acs"), code: "saml.acs-unregistered"},
		{name: "ACS with a slash", change: acs(appACS + "/"), code: "saml.acs-unregistered"},
		{name: "ACS by prefix", change: acs(appACS + ".evil.example"), code: "saml.acs-unregistered"},
		{name: "ACS in capitals", change: acs(strings.ToUpper(appACS)), code: "saml.acs-unregistered"},
		{name: "ACS with a query", change: acs(appACS + "?x=1"), code: "saml.acs-unregistered"},
		{name: "ACS with a port", change: acs("https://rota.saltmere.example:443/acs"), code: "saml.acs-unregistered"},
		{name: "unknown index", asked: func(s *saml.Asked) { s.ACSIndex = index(9) }, code: "saml.acs-index-unknown"},
		{
			name:   "index and URL",
			change: replace(`ProtocolBinding=`, `AssertionConsumerServiceIndex="0" ProtocolBinding=`),
			code:   "saml.structure",
		},
		{name: "binding", change: replace(saml.BindingPost, saml.BindingSOAP), code: "saml.binding-unsupported"},
		{name: "no ACS registered", rules: func(r *saml.RequestRules) { r.ACS = nil }, code: "saml.acs-missing"},
		{
			name:    "boolean that is none",
			change:  replace(`Version="2.0"`, `Version="2.0" ForceAuthn="yes"`),
			code:    "saml.structure",
			refused: true,
		},
		{
			name:    "foreign SPNameQualifier",
			asked:   func(s *saml.Asked) { s.NameIDFormat = saml.FormatPersistent },
			change:  replace(`AllowCreate=`, `SPNameQualifier="urn:other" AllowCreate=`),
			code:    "saml.nameid-qualifier",
			refused: true,
		},
		{name: "no further provider", asked: func(s *saml.Asked) { s.ProxyCount = index(0) }, code: "saml.proxy-refused", refused: true},
		{name: "comparison that is none", asked: func(s *saml.Asked) {
			s.RequestedContext = &saml.RequestedContext{Comparison: "roughly", Classes: []string{"x"}}
		}, code: "saml.structure", refused: true},
		{
			name:    "unknown attribute set",
			change:  replace(`Version="2.0"`, `Version="2.0" AttributeConsumingServiceIndex="7"`),
			code:    "saml.attribute-index-unknown",
			refused: true,
		},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			s, r := asked(), requestRules(t)
			if c.asked != nil {
				c.asked(&s)
			}
			if c.rules != nil {
				c.rules(&r)
			}
			req, err := checkRequest(ask(t, s, c.change, c.signer), r)
			if c.refused {
				require.NoError(t, err)
				err = req.Refusal
			}
			requireCode(t, err, c.code)
		})
	}
}

func TestRequestedContextComparisons(t *testing.T) {
	x509Class, password := "urn:oasis:names:tc:SAML:2.0:ac:classes:X509", "urn:oasis:names:tc:SAML:2.0:ac:classes:Password"
	for _, c := range []struct {
		comparison, wanted, got string
		met                     bool
	}{
		{"exact", saml.ContextPassword, saml.ContextPassword, true},
		{"exact", saml.ContextPassword, x509Class, false},
		{"minimum", saml.ContextPassword, x509Class, true}, {"minimum", saml.ContextPassword, password, false},
		{"maximum", saml.ContextPassword, password, true}, {"maximum", saml.ContextPassword, x509Class, false},
		{"better", saml.ContextPassword, x509Class, true},
		{"better", saml.ContextPassword, saml.ContextPassword, false},
		{"minimum", "urn:their-own", "urn:their-own", true},
		{"minimum", "urn:their-own", x509Class, false},
		{"better", "urn:their-own", x509Class, false},
	} {
		rc := &saml.RequestedContext{Comparison: c.comparison, Classes: []string{c.wanted}}
		assert.Equal(t, c.met, rc.Met(c.got), "%v", c)
	}
	assert.True(t, (*saml.RequestedContext)(nil).Met(""))
}

// TestRedirectDecoding holds the transport form against SAML Bindings 3.4.4.1.
func TestRedirectDecoding(t *testing.T) {
	app := keyPair(t, "application with a curve", keys.P256)
	_, doc, err := saml.NewAuthnRequest(asked(), nil)
	require.NoError(t, err)
	location, err := saml.EncodeRedirect(ssoURL, saml.ParamRequest, doc, "r s", &xmlsig.Signer{Key: app.key})
	require.NoError(t, err)
	query := location[strings.IndexByte(location, '?')+1:]
	r := requestRules(t)
	r.Trust.Certificates = []*x509.Certificate{app.cert}
	check := func(q string) error {
		got, err := saml.DecodeRedirect(q, ssoURL)
		if err != nil {
			return err
		}
		_, err = checkRequest(got, r)
		return err
	}
	require.NoError(t, check(query))
	require.NoError(t, check("other=1&"+query), "parameters of others count for nothing")
	// The signed text is the raw one: another spelling of the same values does not verify.
	assert.Error(t, check(strings.Replace(query, "RelayState=r+s", "RelayState=r%20s", 1)))
	assert.Error(t, check(strings.Replace(query, "RelayState=r+s", "RelayState=other", 1)))
	assert.Error(t, check(strings.Replace(query, "&RelayState=r+s", "", 1)))
	assert.ErrorContains(t, check(query+"&SAMLRequest=x"), "twice")
	assert.ErrorContains(t, check(query+"&RelayState=x"), "twice")
	assert.ErrorContains(t, check(query+"&SAMLResponse=x"), "and a SAMLResponse")
	assert.ErrorContains(t, check("RelayState=x"), "neither")
	assert.ErrorContains(t, check(strings.Replace(query, "SAMLRequest", "%53AMLRequest", 1)), "escapes")
	assert.ErrorContains(t, check(query[:strings.Index(query, "&Signature")]), "only one")
	assert.ErrorContains(t, check("SAMLRequest=%zz"), "broken escape")
	assert.ErrorContains(t, check("SAMLRequest=***"), "base64")
	assert.ErrorContains(t, check("SAMLRequest="+url.QueryEscape(base64.StdEncoding.EncodeToString(doc))), "DEFLATE")
	assert.ErrorContains(t, check(query+"&SAMLEncoding=urn:x"), "encoding")

	var bomb bytes.Buffer
	w, _ := flate.NewWriter(&bomb, 9)
	w.Write(bytes.Repeat([]byte("<a>"), 4<<20))
	w.Close()
	assert.ErrorContains(t, check("SAMLRequest="+url.QueryEscape(base64.StdEncoding.EncodeToString(bomb.Bytes()))), "too large")
	packed := bomb.Bytes()[:100]
	assert.ErrorContains(t, check("SAMLRequest="+url.QueryEscape(base64.StdEncoding.EncodeToString(packed))), "cut off")

	// An XML signature inside counts for nothing with this binding.
	_, signed, err := saml.NewAuthnRequest(asked(), &xmlsig.Signer{Key: app.key})
	require.NoError(t, err)
	location, err = saml.EncodeRedirect(ssoURL, saml.ParamRequest, signed, "", nil)
	require.NoError(t, err)
	r.WantSigned = true
	requireCode(t, check(location[strings.IndexByte(location, '?')+1:]), "saml.request-unsigned")
	// SHA-1 over the query.
	sha1 := strings.Replace(query, url.QueryEscape(string(xmlsig.ECDSASHA256)), url.QueryEscape(string(xmlsig.RSASHA1)), 1)
	requireCode(t, check(sha1), "saml.signature-sha1")
	requireCode(t, check(strings.Replace(query, url.QueryEscape(string(xmlsig.ECDSASHA256)), "urn%3Ax", 1)), "saml.signature-algorithm")
}

func TestPostDecoding(t *testing.T) {
	_, err := saml.DecodePost(saml.ParamResponse, "not base64!", "", "")
	assert.ErrorContains(t, err, "base64")
	_, err = saml.DecodePost(saml.ParamResponse, strings.Repeat("AAAA", 500000), "", "")
	var large *saml.DecodeError
	require.ErrorAs(t, err, &large)
	assert.Equal(t, "1465 KiB", large.Size, "how large it is, is said")
	r, err := saml.DecodePost(saml.ParamResponse, "PGEv\r\nPg==", "octet\tfor octet", "")
	require.NoError(t, err)
	assert.Equal(t, "<a/>", string(r.XML))
	assert.Equal(t, "octet\tfor octet", r.RelayState)
}

func FuzzRequest(f *testing.F) {
	_, doc, err := saml.NewAuthnRequest(asked(), nil)
	require.NoError(f, err)
	f.Add(doc)
	r := requestRules(f)
	f.Fuzz(func(t *testing.T, doc []byte) {
		judge.Frugal(t, len(doc), func() {
			req, err := checkRequest(&saml.Received{Binding: saml.BindingPost, Param: saml.ParamRequest, XML: doc}, r)
			if err == nil && req.Issuer != appID {
				t.Fatal("a request of somebody else was accepted")
			}
		})
	})
}

func FuzzRedirect(f *testing.F) {
	_, doc, err := saml.NewAuthnRequest(asked(), nil)
	require.NoError(f, err)
	location, err := saml.EncodeRedirect("", saml.ParamRequest, doc, "x", &xmlsig.Signer{Key: stranger(f).key})
	require.NoError(f, err)
	f.Add(location[1:])
	r := requestRules(f)
	r.WantSigned = true
	f.Fuzz(func(t *testing.T, query string) {
		received, err := saml.DecodeRedirect(query, ssoURL)
		if err != nil {
			return
		}
		if _, err := checkRequest(received, r); err == nil {
			t.Fatal("a request was accepted that the application did not sign")
		}
	})
}
