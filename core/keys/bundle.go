package keys

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"strings"

	"software.sslmate.com/src/go-pkcs12"
)

// Bundle is a private key with its certificate and the certificates above it, the nearest first.
type Bundle struct {
	Key         crypto.Signer
	Certificate *x509.Certificate
	Chain       []*x509.Certificate
}

// Request makes a certificate signing request (RFC 2986) in PEM for a key.
func Request(key crypto.Signer, commonName string) ([]byte, error) {
	der, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{Subject: pkix.Name{CommonName: commonName}}, key)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der}), nil
}

// ParseChain reads certificates in PEM, DER or base64, in any order, and puts the one that fits the key first and those
// above it behind it.
func ParseChain(data []byte, key crypto.PublicKey) (*x509.Certificate, []*x509.Certificate, error) {
	var all []*x509.Certificate
	rest := data
	for {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		if strings.Contains(block.Type, "PRIVATE KEY") {
			return nil, nil, errors.New("there is a private key in it; only certificates are wanted here")
		}
		if block.Type != "CERTIFICATE" {
			continue
		}
		cert, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return nil, nil, fmt.Errorf("a certificate can't be read: %w", err)
		}
		if all = append(all, cert); len(all) > 16 {
			return nil, nil, errors.New("there are more than 16 certificates")
		}
	}
	if len(all) == 0 {
		cert, err := ParseCertificate(data)
		if err != nil {
			return nil, nil, err
		}
		all = append(all, cert)
	}
	return arrange(all, key)
}

// arrange finds the certificate of a key, and the chain above it.
func arrange(all []*x509.Certificate, key crypto.PublicKey) (*x509.Certificate, []*x509.Certificate, error) {
	var leaf *x509.Certificate
	for _, c := range all {
		if SameKey(c.PublicKey, key) {
			leaf = c
			break
		}
	}
	if leaf == nil {
		return nil, nil, fmt.Errorf("the key does not fit its certificate: the certificate of %s carries another key", all[0].Subject)
	}
	var chain []*x509.Certificate
	for at := leaf; !bytes.Equal(at.RawSubject, at.RawIssuer) && len(chain) < len(all); {
		var above *x509.Certificate
		for _, c := range all {
			if bytes.Equal(c.RawSubject, at.RawIssuer) && at.CheckSignatureFrom(c) == nil {
				above = c
			}
		}
		if above == nil {
			break
		}
		chain = append(chain, above)
		at = above
	}
	return leaf, chain, nil
}

// SameKey reports whether two public keys are the same.
func SameKey(a, b crypto.PublicKey) bool {
	type equal interface{ Equal(crypto.PublicKey) bool }
	e, ok := a.(equal)
	return ok && e.Equal(b)
}

// ErrPassword is returned where a bundle needs a password, or another one.
var ErrPassword = errors.New("the password does not open it")

// ParseBundle reads a private key with its certificate: PKCS #12 (RFC 7292), also in base64, or PEM with PKCS #8, PKCS
// #1 or SEC 1 keys.
func ParseBundle(data []byte, password string) (*Bundle, error) {
	if bytes.Contains(data, []byte("-----BEGIN")) {
		return parsePEM(data)
	}
	if text := strings.Join(strings.Fields(string(data)), ""); text != "" {
		if der, err := base64.StdEncoding.DecodeString(text); err == nil {
			data = der
		}
	}
	private, cert, chain, err := pkcs12.DecodeChain(data, password)
	switch {
	case errors.Is(err, pkcs12.ErrIncorrectPassword):
		if password == "" {
			return nil, fmt.Errorf("this PKCS #12 file needs its password: %w", ErrPassword)
		}
		return nil, fmt.Errorf("this PKCS #12 file has another password: %w", ErrPassword)
	case err != nil:
		return nil, fmt.Errorf("this is neither PEM nor a PKCS #12 file with a key and its certificate: %w", err)
	}
	return bundle(private, append([]*x509.Certificate{cert}, chain...))
}

func parsePEM(data []byte) (*Bundle, error) {
	var private any
	var certs []*x509.Certificate
	for {
		var block *pem.Block
		if block, data = pem.Decode(data); block == nil {
			break
		}
		var found any
		var err error
		switch block.Type {
		case "CERTIFICATE":
			cert, err := x509.ParseCertificate(block.Bytes)
			if err != nil {
				return nil, fmt.Errorf("a certificate can't be read: %w", err)
			}
			if certs = append(certs, cert); len(certs) > 16 {
				return nil, errors.New("there are more than 16 certificates")
			}
			continue
		case "PRIVATE KEY":
			found, err = x509.ParsePKCS8PrivateKey(block.Bytes)
		case "RSA PRIVATE KEY":
			if strings.Contains(block.Headers["Proc-Type"], "ENCRYPTED") {
				return nil, errors.New(
					"the private key is encrypted in an old form of PEM; hand over a PKCS #12 file instead, whose password can be " +
						"given here",
				)
			}
			found, err = x509.ParsePKCS1PrivateKey(block.Bytes)
		case "EC PRIVATE KEY":
			found, err = x509.ParseECPrivateKey(block.Bytes)
		case "ENCRYPTED PRIVATE KEY":
			return nil, errors.New("the private key is encrypted; hand over a PKCS #12 file instead, whose password can be given here")
		default:
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("the private key can't be read: %w", err)
		}
		if private != nil {
			return nil, errors.New("there are two private keys in it")
		}
		private = found
	}
	switch {
	case private == nil && len(certs) > 0:
		return nil, errors.New("there is a certificate in it, but no private key")
	case private == nil:
		return nil, errors.New("there is no private key in it")
	case len(certs) == 0:
		return nil, errors.New("there is a private key in it, but no certificate")
	}
	return bundle(private, certs)
}

func bundle(private any, certs []*x509.Certificate) (*Bundle, error) {
	signer, ok := private.(crypto.Signer)
	switch private.(type) {
	case *rsa.PrivateKey, *ecdsa.PrivateKey:
	case ed25519.PrivateKey:
		return nil, errors.New("this is an Ed25519 key, which SAML partners can't use; RSA 2048 to 4096, P-256 and P-384 can be used")
	default:
		ok = false
	}
	if !ok {
		return nil, fmt.Errorf("a key of type %T can't be used", private)
	}
	leaf, chain, err := arrange(certs, signer.Public())
	return &Bundle{signer, leaf, chain}, err
}

// EncodeChain writes certificates as PEM, one behind the other.
func EncodeChain(certs []*x509.Certificate) string {
	var b strings.Builder
	for _, c := range certs {
		b.Write(EncodeCertificate(c.Raw))
	}
	return b.String()
}
