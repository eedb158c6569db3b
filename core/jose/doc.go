// Package jose holds the gate's policy for JSON Web Signatures (RFC 7515), keys (RFC 7517) and tokens (RFC 7519): which
// algorithms count, which key a token may be checked with, and that no kind of token is taken for another (RFC 8725).
// The mathematics are the JOSE library's.
//
// A token never says how it is checked. Its algorithm must be in the caller's list, its key must come from the caller's
// set and be of that algorithm's kind, and keys or addresses of keys inside the token (jwk, jku, x5c, x5u) are not
// looked at. There is no algorithm with a shared secret and no "none", so a public key can't be used as a secret.
package jose

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"slices"
	"strings"
)

// The algorithms that the gate signs with (RFC 7518, section 3.1; RFC 8037 for EdDSA).
const (
	RS256 = "RS256"
	PS256 = "PS256"
	ES256 = "ES256"
	EdDSA = "EdDSA"
)

// Algorithms lists every algorithm that a partner's token may be signed with, in the order in which they are named to
// people.
var Algorithms = []string{RS256, PS256, ES256, EdDSA, "RS384", "RS512", "PS384", "PS512", "ES384", "ES512"}

// Fits says whether a public key is of the kind that an algorithm needs.
func Fits(alg string, key crypto.PublicKey) bool {
	switch k := key.(type) {
	case *rsa.PublicKey:
		return slices.Contains(Algorithms, alg) && (strings.HasPrefix(alg, "RS") || strings.HasPrefix(alg, "PS"))
	case *ecdsa.PublicKey:
		return alg == map[int]string{256: ES256, 384: "ES384", 521: "ES512"}[k.Curve.Params().BitSize]
	case ed25519.PublicKey:
		return alg == EdDSA
	}
	return false
}

// Limits on what is read.
const (
	// MaxToken is the size of a token, in octets.
	MaxToken = 64 << 10
	// MaxKeySet is the size of a key set, in octets.
	MaxKeySet = 512 << 10
	// MaxKeys is how many keys a set may hold.
	MaxKeys = 100
	// maxTried is how many keys are tried for a token that names none.
	maxTried = 10
	minRSA   = 2048
	maxRSA   = 8192
)
