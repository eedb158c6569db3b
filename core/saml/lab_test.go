package saml_test

import (
	"crypto"
	"crypto/rsa"
	"crypto/x509"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/core/xmlsig"
	"innergate/core/xmltree"
)

// The lab has one provider, one application and the gate between them, with fixed times.
var (
	now      = time.Date(2026, 11, 23, 9, 41, 7, 0, time.UTC)
	idpID    = saml.EntityID("https://id.saltmere.example")
	gateID   = saml.EntityID("https://gate.saltmere.example/saml/sp")
	gateACS  = "https://gate.saltmere.example/saml/sp/staff/acs"
	appID    = saml.EntityID("https://rota.saltmere.example/saml")
	appACS   = "https://rota.saltmere.example/acs"
	ssoURL   = "https://gate.saltmere.example/saml/idp/sso"
	question = "_question"
)

type pair struct {
	key  crypto.Signer
	cert *x509.Certificate
}

var pairs sync.Map

func keyPair(t testing.TB, name string, kind keys.Kind) pair {
	t.Helper()
	if p, ok := pairs.Load(name); ok {
		return p.(pair)
	}
	k, err := keys.Generate(kind)
	require.NoError(t, err)
	der, err := keys.SelfSigned(k, name, now, 365*24*time.Hour)
	require.NoError(t, err)
	cert, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	pairs.Store(name, pair{k, cert})
	return pair{k, cert}
}

func provider(t testing.TB) pair { return keyPair(t, "provider", keys.RSA2048) }
func ours(t testing.TB) pair     { return keyPair(t, "ours", keys.RSA2048) }
func stranger(t testing.TB) pair { return keyPair(t, "stranger", keys.RSA2048) }

func issued() saml.Issued {
	return saml.Issued{
		Issuer:       idpID,
		Audience:     gateID,
		ACS:          gateACS,
		InResponseTo: question,
		Now:          now,
		NameID:       saml.NameID{Value: "mvoss", Format: saml.FormatPersistent},
		AuthnInstant: now.Add(-2 * time.Second), Context: saml.ContextPassword, SessionIndex: "_session",
		Attributes: []saml.Attribute{
			{Name: "urn:oid:2.5.4.42", NameFormat: saml.NameFormatURI, FriendlyName: "givenName", Values: []string{"Mira"}},
			{Name: "memberOf", Values: []string{"ferry-crew", "ferry-purser"}},
		},
	}
}

func rules(t testing.TB) saml.ResponseRules {
	return saml.ResponseRules{
		Partner:        "Saltmere Staff",
		Issuer:         idpID,
		Audience:       gateID,
		ACS:            gateACS,
		RequestID:      question,
		Trust:          saml.Trust{Certificates: []*x509.Certificate{stranger(t).cert, provider(t).cert}[1:]},
		DecryptionKeys: []*rsa.PrivateKey{ours(t).key.(*rsa.PrivateKey)},
		Now:            now,
		Skew:           time.Minute,
		MaxLifetime:    12 * time.Hour,
	}
}

// mint makes a response whose text is changed before the assertion (and, if whole, the response) is signed.
func mint(t testing.TB, s saml.Issued, change func(string) string, signAssertion, whole bool, by pair) string {
	t.Helper()
	s.SignAssertion, s.SignResponse = false, false
	made, err := saml.IssueResponse(s)
	require.NoError(t, err)
	doc := string(made.XML)
	if change != nil {
		changed := change(doc)
		require.NotEqual(t, doc, changed, "the attack changes nothing")
		doc = changed
	}
	root, err := xmltree.Parse([]byte(doc), xmltree.Limits{})
	require.NoError(t, err)
	signer := &xmlsig.Signer{Key: by.key, Certificate: by.cert.Raw}
	if a := root.First(saml.NSAssertion, "Assertion"); a != nil && signAssertion {
		require.NoError(t, signer.Sign(a, a.First(saml.NSAssertion, "Issuer")))
	}
	if whole {
		require.NoError(t, signer.Sign(root, root.First(saml.NSAssertion, "Issuer")))
	}
	return string(root.Bytes())
}

func accept(doc string, r saml.ResponseRules) (*saml.Assertion, []trace.Entry, error) {
	rec := trace.NewRecorder(now, func() time.Time { return now })
	in, err := saml.OpenResponse(&saml.Received{Binding: saml.BindingPost, Param: saml.ParamResponse, XML: []byte(doc), Location: r.ACS})
	if err != nil {
		return nil, rec.Entries(), err
	}
	a, err := in.Check(r, rec)
	return a, rec.Entries(), err
}

func requireCode(t testing.TB, err error, code string) {
	t.Helper()
	var f *explain.Failure
	require.ErrorAs(t, err, &f)
	_, known := explain.Lookup(f.Code)
	assert.True(t, known, "%s is not in the catalogue", f.Code)
	assert.Equal(t, code, string(f.Code), "%v", f.Evidence)
}

func replace(old, new string) func(string) string {
	return func(s string) string { return strings.Replace(s, old, new, 1) }
}
