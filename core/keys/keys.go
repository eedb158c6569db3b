// Package keys makes, reads and describes keys and X.509 certificates (RFC 5280, RFC 7468). Trust in a federation rests
// on keys, not on certificate chains or dates; what a certificate says besides its key is described for people.
package keys

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/big"
	"strings"
	"time"
)

// Kind names what a key is made of.
type Kind string

// The kinds of keys that can be made.
const (
	RSA2048 Kind = "rsa-2048"
	RSA3072 Kind = "rsa-3072"
	RSA4096 Kind = "rsa-4096"
	P256    Kind = "p-256"
	P384    Kind = "p-384"
	Ed25519 Kind = "ed25519" // for tokens only; SAML partners can't use it
)

// Generate makes a private key.
func Generate(kind Kind) (crypto.Signer, error) {
	switch kind {
	case RSA2048:
		return rsa.GenerateKey(rand.Reader, 2048)
	case RSA3072:
		return rsa.GenerateKey(rand.Reader, 3072)
	case RSA4096:
		return rsa.GenerateKey(rand.Reader, 4096)
	case P256:
		return ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	case P384:
		return ecdsa.GenerateKey(elliptic.P384(), rand.Reader)
	case Ed25519:
		_, private, err := ed25519.GenerateKey(rand.Reader)
		return private, err
	}
	return nil, fmt.Errorf("there is no kind of key %q; rsa-2048, rsa-3072, rsa-4096, p-256, p-384 and ed25519 are known", kind)
}

// Source makes private keys. The zero Source is Generate; tests that need many keys and do not care which pass one that
// keeps them.
type Source func(kind Kind) (crypto.Signer, error)

// Make makes a key.
func (s Source) Make(kind Kind) (crypto.Signer, error) {
	if s == nil {
		return Generate(kind)
	}
	return s(kind)
}

// KindOf describes a public key, such as rsa-2048; an unusual one is described by its type and size.
func KindOf(key crypto.PublicKey) Kind {
	switch k := key.(type) {
	case *rsa.PublicKey:
		return Kind(fmt.Sprintf("rsa-%d", k.N.BitLen()))
	case *ecdsa.PublicKey:
		return Kind(strings.ToLower(k.Curve.Params().Name))
	case ed25519.PublicKey:
		return Ed25519
	}
	return Kind(fmt.Sprintf("%T", key))
}

// SelfSigned makes a certificate over the signer's own key, in DER, valid from an hour before now.
func SelfSigned(key crypto.Signer, commonName string, now time.Time, validity time.Duration) ([]byte, error) {
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return nil, err
	}
	template := &x509.Certificate{
		SerialNumber: serial, Subject: pkix.Name{CommonName: commonName},
		NotBefore: now.Add(-time.Hour).UTC(), NotAfter: now.Add(validity).UTC(),
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageKeyEncipherment,
	}
	return x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
}

// Fingerprint is the SHA-256 of a certificate's DER form, lower-case hex pairs with colons.
func Fingerprint(der []byte) string {
	sum := sha256.Sum256(der)
	return colons(sum[:])
}

// FingerprintSHA1 is the same with SHA-1, which some registration forms still show. It proves nothing.
func FingerprintSHA1(der []byte) string {
	sum := sha1.Sum(der)
	return colons(sum[:])
}

func colons(sum []byte) string {
	var b strings.Builder
	for i, c := range sum {
		if i > 0 {
			b.WriteByte(':')
		}
		fmt.Fprintf(&b, "%02x", c)
	}
	return b.String()
}

// Description is what people want to know of a certificate.
type Description struct {
	SHA256     string    `json:"sha256"`
	SHA1       string    `json:"sha1"`
	Subject    string    `json:"subject"`
	Issuer     string    `json:"issuer"`
	Serial     string    `json:"serial"`
	NotBefore  time.Time `json:"notBefore"`
	NotAfter   time.Time `json:"notAfter"`
	Key        string    `json:"key"`
	SelfSigned bool      `json:"selfSigned"`
}

// Describe reads a certificate's particulars.
func Describe(cert *x509.Certificate) Description {
	return Description{
		SHA256: Fingerprint(cert.Raw), SHA1: FingerprintSHA1(cert.Raw), Subject: cert.Subject.String(), Issuer: cert.Issuer.String(),
		Serial: cert.SerialNumber.Text(16), NotBefore: cert.NotBefore, NotAfter: cert.NotAfter, Key: string(KindOf(cert.PublicKey)),
		SelfSigned: string(cert.RawSubject) == string(cert.RawIssuer),
	}
}

// ParseCertificate reads one certificate in any form in which people hand it over: PEM with or without its lines, bare
// base64, or DER.
func ParseCertificate(data []byte) (*x509.Certificate, error) {
	text := strings.TrimSpace(string(data))
	if block, _ := pem.Decode([]byte(text)); block != nil {
		if strings.Contains(block.Type, "PRIVATE KEY") {
			return nil, errors.New("this is a private key, not a certificate; a private key should not leave its owner")
		}
		if block.Type != "CERTIFICATE" {
			return nil, fmt.Errorf("this is a PEM block of type %q, not a certificate", block.Type)
		}
		return x509.ParseCertificate(block.Bytes)
	}
	if cert, err := x509.ParseCertificate(data); err == nil {
		return cert, nil
	}
	compact := strings.Join(strings.Fields(text), "")
	if der, err := base64.StdEncoding.DecodeString(compact); err == nil && len(der) > 0 {
		cert, err := x509.ParseCertificate(der)
		if err != nil {
			return nil, fmt.Errorf("this is base64, but not of a certificate: %w", err)
		}
		return cert, nil
	}
	return nil, errors.New("this is no certificate in PEM, base64 or DER form")
}

// EncodeCertificate writes a certificate as PEM.
func EncodeCertificate(der []byte) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
}

// MarshalPrivate writes a private key in PKCS #8 DER. Seal it before it is stored.
func MarshalPrivate(key crypto.Signer) ([]byte, error) { return x509.MarshalPKCS8PrivateKey(key) }

// ParsePrivate reads what MarshalPrivate wrote.
func ParsePrivate(der []byte) (crypto.Signer, error) {
	key, err := x509.ParsePKCS8PrivateKey(der)
	if err != nil {
		return nil, err
	}
	signer, ok := key.(crypto.Signer)
	if !ok {
		return nil, fmt.Errorf("a key of type %T can't sign", key)
	}
	return signer, nil
}

// RandomID makes an identifier of 160 random bits that is also a valid xs:ID (it starts with an underscore).
func RandomID() string {
	var b [20]byte
	if _, err := io.ReadFull(rand.Reader, b[:]); err != nil {
		panic(err) // the system's random source never fails in practice; going on without it would be worse
	}
	return fmt.Sprintf("_%x", b)
}

// NewSecret makes 256 random bits in a form fit for URLs, headers and cookies: tokens, states, nonces, client secrets.
func NewSecret() string {
	var b [32]byte
	rand.Read(b[:]) // never fails (crypto/rand)
	return base64.RawURLEncoding.EncodeToString(b[:])
}

// HashSecret is how such a secret is kept, as SHA-256. Having 256 random bits it needs no salt and no slow hash.
func HashSecret(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// SecretFits compares a secret with a kept hash in constant time. An empty hash fits nothing.
func SecretFits(hash []byte, secret string) bool {
	return len(hash) > 0 && subtle.ConstantTimeCompare(hash, HashSecret(secret)) == 1
}
