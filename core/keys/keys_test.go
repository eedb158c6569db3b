package keys_test

import (
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/keys"
)

var now = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

func TestEveryKind(t *testing.T) {
	for _, kind := range []keys.Kind{keys.RSA2048, keys.P256, keys.P384} {
		k, err := keys.Generate(kind)
		require.NoError(t, err)
		assert.Equal(t, kind, keys.KindOf(k.Public()))
		der, err := keys.MarshalPrivate(k)
		require.NoError(t, err)
		again, err := keys.ParsePrivate(der)
		require.NoError(t, err)
		assert.Equal(t, k.Public(), again.Public())
		cert, err := keys.SelfSigned(k, "gate.saltmere.example", now, time.Hour)
		require.NoError(t, err)
		parsed, err := x509.ParseCertificate(cert)
		require.NoError(t, err)
		d := keys.Describe(parsed)
		assert.Equal(t, "CN=gate.saltmere.example", d.Subject)
		assert.True(t, d.SelfSigned)
		assert.Equal(t, now.Add(time.Hour), d.NotAfter)
		assert.Regexp(t, `^([0-9a-f]{2}:){31}[0-9a-f]{2}$`, d.SHA256)
		assert.Regexp(t, `^([0-9a-f]{2}:){19}[0-9a-f]{2}$`, d.SHA1)
	}
	_, err := keys.Generate("rsa-512")
	assert.ErrorContains(t, err, "no kind of key")
}

// TestCertificatesComeInManyForms reads what people hand over.
func TestCertificatesComeInManyForms(t *testing.T) {
	k, err := keys.Generate(keys.P256)
	require.NoError(t, err)
	der, err := keys.SelfSigned(k, "x", now, time.Hour)
	require.NoError(t, err)
	bare := base64.StdEncoding.EncodeToString(der)
	for name, form := range map[string][]byte{"PEM": keys.EncodeCertificate(der), "DER": der, "base64": []byte(bare),
		"base64 in lines":       []byte("\n " + bare[:60] + "\r\n" + bare[60:] + "\n"),
		"PEM with words before": append([]byte("our certificate:\n"), keys.EncodeCertificate(der)...)} {
		cert, err := keys.ParseCertificate(form)
		require.NoError(t, err, name)
		assert.Equal(t, der, cert.Raw, name)
	}
	private, err := keys.MarshalPrivate(k)
	require.NoError(t, err)
	for says, form := range map[string][]byte{
		"private key, not a certificate":   pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}),
		`type "PUBLIC KEY"`:                pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: private}),
		"base64, but not of a certificate": []byte("aGVsbG8gd29ybGQ="),
		"no certificate in PEM":            []byte("https://id.saltmere.example"),
	} {
		_, err := keys.ParseCertificate(form)
		assert.ErrorContains(t, err, says)
	}
}

func TestRandomIDs(t *testing.T) {
	seen := map[string]bool{}
	for range 1000 {
		id := keys.RandomID()
		assert.Regexp(t, `^_[0-9a-f]{40}$`, id)
		assert.False(t, seen[id])
		seen[id] = true
	}
}

func TestSecretsFitOnlyThemselves(t *testing.T) {
	one, two := keys.NewSecret(), keys.NewSecret()
	assert.NotEqual(t, one, two)
	assert.Len(t, one, 43, "256 bits in base64url")
	assert.True(t, keys.SecretFits(keys.HashSecret(one), one))
	assert.False(t, keys.SecretFits(keys.HashSecret(one), two))
	assert.False(t, keys.SecretFits(nil, ""), "where no hash is kept nothing fits")
	assert.False(t, keys.SecretFits(keys.HashSecret(one), string(keys.HashSecret(one))), "the hash is not the secret")
}
