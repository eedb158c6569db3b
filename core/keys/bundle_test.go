package keys_test

import (
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/pem"
	"math/big"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"software.sslmate.com/src/go-pkcs12"

	"innergate/core/keys"
)

// issued makes a key with a certificate under a small chain of authorities.
func issued(t *testing.T, kind keys.Kind) (*keys.Bundle, []byte) {
	now := time.Now()
	template := func(n int64, name string, ca bool) *x509.Certificate {
		return &x509.Certificate{
			SerialNumber:          big.NewInt(n),
			Subject:               pkix.Name{CommonName: name},
			NotBefore:             now.Add(-time.Hour),
			NotAfter:              now.Add(24 * time.Hour),
			IsCA:                  ca,
			BasicConstraintsValid: true,
			KeyUsage:              x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature,
		}
	}
	rootKey, err := keys.Generate(keys.P256)
	require.NoError(t, err)
	middleKey, err := keys.Generate(keys.P256)
	require.NoError(t, err)
	leafKey, err := keys.Generate(kind)
	require.NoError(t, err)
	sign := func(c, by *x509.Certificate, public, private any) *x509.Certificate {
		der, err := x509.CreateCertificate(rand.Reader, c, by, public, private)
		require.NoError(t, err)
		cert, err := x509.ParseCertificate(der)
		require.NoError(t, err)
		return cert
	}
	root := sign(template(1, "Harbour root", true), template(1, "Harbour root", true), rootKey.Public(), rootKey)
	middle := sign(template(2, "Harbour office", true), root, middleKey.Public(), rootKey)
	leaf := sign(template(3, "gate.saltmere.example", false), middle, leafKey.Public(), middleKey)
	private, err := x509.MarshalPKCS8PrivateKey(leafKey)
	require.NoError(t, err)
	return &keys.Bundle{
			Key:         leafKey,
			Certificate: leaf,
			Chain:       []*x509.Certificate{middle, root},
		}, pem.EncodeToMemory(
			&pem.Block{Type: "PRIVATE KEY", Bytes: private},
		)
}

func TestParseBundle(t *testing.T) {
	b, private := issued(t, keys.P256)
	other, _ := issued(t, keys.RSA2048)
	certs := keys.EncodeChain([]*x509.Certificate{b.Chain[1], b.Certificate, b.Chain[0]})
	p12, err := pkcs12.Modern.Encode(b.Key, b.Certificate, b.Chain, "boat")
	require.NoError(t, err)
	legacy, err := pkcs12.LegacyDES.Encode(b.Key, b.Certificate, b.Chain, "boat")
	require.NoError(t, err)
	for name, c := range map[string]struct {
		data     []byte
		password string
	}{
		"PEM in any order":   {[]byte(certs + string(private)), ""},
		"PEM, notes around":  {[]byte("Bag Attributes\n  friendlyName: gate\n" + string(private) + "\nsubject=/CN=gate\n" + certs), ""},
		"PKCS #12":           {p12, "boat"},
		"PKCS #12, old":      {legacy, "boat"},
		"PKCS #12 in base64": {[]byte(base64.StdEncoding.EncodeToString(p12)), "boat"},
	} {
		t.Run(name, func(t *testing.T) {
			got, err := keys.ParseBundle(c.data, c.password)
			require.NoError(t, err)
			assert.True(t, keys.SameKey(b.Key.Public(), got.Key.Public()))
			assert.Equal(t, b.Certificate.Raw, got.Certificate.Raw)
			require.Len(t, got.Chain, 2)
			assert.Equal(t, "Harbour office", got.Chain[0].Subject.CommonName, "the nearest comes first")
		})
	}
	for name, c := range map[string]struct {
		data           []byte
		password, says string
	}{
		"wrong password":   {p12, "ship", "another password"},
		"no password":      {p12, "", "needs its password"},
		"rubbish":          {[]byte("hello"), "", "neither PEM nor a PKCS #12"},
		"key alone":        {private, "", "no certificate"},
		"certificate only": {keys.EncodeCertificate(b.Certificate.Raw), "", "no private key"},
		"does not fit":     {append(private, keys.EncodeCertificate(other.Certificate.Raw)...), "", "does not fit its certificate"},
		"two keys":         {append(append(private, private...), certs...), "", "two private keys"},
		"encrypted":        {pem.EncodeToMemory(&pem.Block{Type: "ENCRYPTED PRIVATE KEY", Bytes: []byte("x")}), "", "is encrypted"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := keys.ParseBundle(c.data, c.password)
			assert.ErrorContains(t, err, c.says)
		})
	}
	_, err = keys.ParseBundle(p12, "ship")
	assert.ErrorIs(t, err, keys.ErrPassword)
}

func TestRequestAndChain(t *testing.T) {
	b, private := issued(t, keys.RSA2048)
	text, err := keys.Request(b.Key, "gate.saltmere.example")
	require.NoError(t, err)
	block, _ := pem.Decode(text)
	require.Equal(t, "CERTIFICATE REQUEST", block.Type)
	csr, err := x509.ParseCertificateRequest(block.Bytes)
	require.NoError(t, err)
	require.NoError(t, csr.CheckSignature())
	assert.Equal(t, "gate.saltmere.example", csr.Subject.CommonName)

	leaf, chain, err := keys.ParseChain([]byte(keys.EncodeChain(append(b.Chain, b.Certificate))), csr.PublicKey)
	require.NoError(t, err)
	assert.Equal(t, b.Certificate.Raw, leaf.Raw)
	assert.Len(t, chain, 2)
	_, _, err = keys.ParseChain(keys.EncodeCertificate(b.Chain[0].Raw), csr.PublicKey)
	assert.ErrorContains(t, err, "does not fit")
	_, _, err = keys.ParseChain(append(private, keys.EncodeCertificate(b.Certificate.Raw)...), csr.PublicKey)
	assert.ErrorContains(t, err, "private key in it")
}
