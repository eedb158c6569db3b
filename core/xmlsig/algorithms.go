package xmlsig

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rsa"
	_ "crypto/sha1" // the digest that partners may be allowed one by one
	_ "crypto/sha256"
	_ "crypto/sha512"
	"fmt"
)

// Namespaces of the standards.
const (
	NS      = "http://www.w3.org/2000/09/xmldsig#"
	NSEnc   = "http://www.w3.org/2001/04/xmlenc#"
	NSEnc11 = "http://www.w3.org/2009/xmlenc11#"
	NSExc   = "http://www.w3.org/2001/10/xml-exc-c14n#"
)

// Transform and canonicalisation identifiers.
const (
	Enveloped           = NS + "enveloped-signature"
	Exclusive           = NSExc
	ExclusiveWithRemark = NSExc + "WithComments"
)

// Algorithm is the URI of a signature algorithm (RFC 9231, section 2.3; XML Signature, section 6.4).
type Algorithm string

// Signature algorithms. RSASHA1 verifies only where a Policy allows it, and never signs.
const (
	RSASHA256   Algorithm = "http://www.w3.org/2001/04/xmldsig-more#rsa-sha256"
	RSASHA384   Algorithm = "http://www.w3.org/2001/04/xmldsig-more#rsa-sha384"
	RSASHA512   Algorithm = "http://www.w3.org/2001/04/xmldsig-more#rsa-sha512"
	ECDSASHA256 Algorithm = "http://www.w3.org/2001/04/xmldsig-more#ecdsa-sha256"
	ECDSASHA384 Algorithm = "http://www.w3.org/2001/04/xmldsig-more#ecdsa-sha384"
	ECDSASHA512 Algorithm = "http://www.w3.org/2001/04/xmldsig-more#ecdsa-sha512"
	RSASHA1     Algorithm = NS + "rsa-sha1"
)

type signatureMethod struct {
	name  string
	hash  crypto.Hash
	ecdsa bool
}

var signatureMethods = map[Algorithm]signatureMethod{
	RSASHA256:   {"RSA-SHA256", crypto.SHA256, false},
	RSASHA384:   {"RSA-SHA384", crypto.SHA384, false},
	RSASHA512:   {"RSA-SHA512", crypto.SHA512, false},
	ECDSASHA256: {"ECDSA-SHA256", crypto.SHA256, true},
	ECDSASHA384: {"ECDSA-SHA384", crypto.SHA384, true},
	ECDSASHA512: {"ECDSA-SHA512", crypto.SHA512, true},
	RSASHA1:     {"RSA-SHA1", crypto.SHA1, false},
}

// Name is the algorithm in the words that people use, or its URI where it is none that we know.
func (a Algorithm) Name() string {
	if m, ok := signatureMethods[a]; ok {
		return m.name
	}
	return string(a)
}

// Known reports whether the algorithm is one that this package can sign with.
func (a Algorithm) Known() bool {
	m, ok := signatureMethods[a]
	return ok && m.hash != crypto.SHA1
}

var digestMethods = map[string]crypto.Hash{
	NSEnc + "sha256": crypto.SHA256,
	"http://www.w3.org/2001/04/xmldsig-more#sha384": crypto.SHA384,
	NSEnc + "sha512": crypto.SHA512,
	NS + "sha1":      crypto.SHA1,
}

// Digest is the hash of a digest algorithm's URI that may be signed with, or 0.
func Digest(uri string) crypto.Hash {
	if h := digestMethods[uri]; h != crypto.SHA1 {
		return h
	}
	return 0
}

func digestURI(h crypto.Hash) string {
	for uri, hash := range digestMethods {
		if hash == h {
			return uri
		}
	}
	return ""
}

// DefaultAlgorithm is the algorithm that fits a key when nothing else is asked for.
func DefaultAlgorithm(key crypto.PublicKey) Algorithm {
	if k, ok := key.(*ecdsa.PublicKey); ok {
		if k.Curve == elliptic.P384() {
			return ECDSASHA384
		}
		return ECDSASHA256
	}
	return RSASHA256
}

// Fits reports whether the key can be used with the algorithm.
func (a Algorithm) Fits(key crypto.PublicKey) bool {
	m, ok := signatureMethods[a]
	if !ok {
		return false
	}
	_, isEC := key.(*ecdsa.PublicKey)
	return isEC == m.ecdsa
}

// CheckKey refuses keys outside the profile: RSA of 2048 to 4096 bits, P-256 and P-384.
func CheckKey(key crypto.PublicKey) error {
	switch k := key.(type) {
	case *rsa.PublicKey:
		if bits := k.N.BitLen(); bits < 2048 || bits > 4096 {
			return fmt.Errorf("an RSA key of %d bits is not accepted; 2048 to 4096 are", bits)
		}
		if k.E < 3 || k.E%2 == 0 {
			return fmt.Errorf("the RSA key's exponent %d is not accepted", k.E)
		}
		return nil
	case *ecdsa.PublicKey:
		if k.Curve != elliptic.P256() && k.Curve != elliptic.P384() {
			return fmt.Errorf("the curve %s is not accepted; P-256 and P-384 are", k.Curve.Params().Name)
		}
		return nil
	}
	return fmt.Errorf("a key of type %T is not accepted; RSA and elliptic curve keys are", key)
}
