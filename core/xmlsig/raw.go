package xmlsig

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/rsa"
	"encoding/asn1"
	"fmt"
	"math/big"
)

// SignRaw signs octets with the algorithm. ECDSA values are r‖s of fixed length (RFC 9231, section 2.3.6), as XML
// signatures and the HTTP-Redirect binding want them.
func SignRaw(key crypto.Signer, alg Algorithm, data []byte) ([]byte, error) {
	m, ok := signatureMethods[alg]
	if !ok || m.hash == crypto.SHA1 {
		return nil, fmt.Errorf("%s is not an algorithm to sign with", alg)
	}
	if !alg.Fits(key.Public()) {
		return nil, fmt.Errorf("%s does not fit a key of type %T", m.name, key.Public())
	}
	h := m.hash.New()
	h.Write(data)
	sig, err := key.Sign(rand.Reader, h.Sum(nil), m.hash)
	if err != nil || !m.ecdsa {
		return sig, err
	}
	var v struct{ R, S *big.Int }
	if _, err := asn1.Unmarshal(sig, &v); err != nil {
		return nil, fmt.Errorf("reading the signature: %w", err)
	}
	size := coordinateSize(key.Public().(*ecdsa.PublicKey))
	out := make([]byte, 2*size)
	v.R.FillBytes(out[:size])
	v.S.FillBytes(out[size:])
	return out, nil
}

// VerifyRaw reports whether sig is the algorithm's signature of data by key.
func VerifyRaw(key crypto.PublicKey, alg Algorithm, data, sig []byte) bool {
	m, ok := signatureMethods[alg]
	if !ok {
		return false
	}
	h := m.hash.New()
	h.Write(data)
	return verifyDigest(key, m, h.Sum(make([]byte, 0, 64)), sig)
}

func verifyDigest(key crypto.PublicKey, m signatureMethod, digest, sig []byte) bool {
	switch k := key.(type) {
	case *rsa.PublicKey:
		return !m.ecdsa && rsa.VerifyPKCS1v15(k, m.hash, digest, sig) == nil
	case *ecdsa.PublicKey:
		size := coordinateSize(k)
		if !m.ecdsa || len(sig) != 2*size {
			return false
		}
		return ecdsa.Verify(k, digest, new(big.Int).SetBytes(sig[:size]), new(big.Int).SetBytes(sig[size:]))
	}
	return false
}

func coordinateSize(k *ecdsa.PublicKey) int { return (k.Curve.Params().BitSize + 7) / 8 }
