package oidc

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"regexp"

	"innergate/core/keys"
)

// NewVerifier makes a code verifier of 256 random bits (RFC 7636, section 4.1).
func NewVerifier() string { return keys.NewSecret() }

// Challenge is a verifier's S256 challenge (RFC 7636, section 4.2).
func Challenge(verifier string) string {
	sum := sha256.Sum256([]byte(verifier))
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

var verifierForm = regexp.MustCompile(`^[A-Za-z0-9._~-]{43,128}$`)

// VerifierFits says whether a verifier belongs to an S256 challenge (RFC 7636, section 4.6). The method "plain" does
// not exist here.
func VerifierFits(challenge, verifier string) bool {
	return verifierForm.MatchString(verifier) && subtle.ConstantTimeCompare([]byte(Challenge(verifier)), []byte(challenge)) == 1
}
