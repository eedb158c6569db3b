// Package totp checks codes by time (RFC 6238) with secrets of 160 bits, and writes them for authenticators.
package totp

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/base32"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/hotp"
)

// Time-based codes (RFC 6238) as every authenticator makes them: SHA-1, six digits, half a minute.
const (
	period = 30
	drift  = 1 // steps before and after
)

// NewSecret makes a secret of 160 bits, in base32 (RFC 4226, section 4).
func NewSecret() string {
	b := make([]byte, 20)
	rand.Read(b)
	return base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(b)
}

// Address is the form in which authenticators take a secret.
func Address(name, secret string) string {
	q := url.Values{"secret": {secret}, "issuer": {"Inner Gate"}, "algorithm": {"SHA1"}, "digits": {"6"}, "period": {fmt.Sprint(period)}}
	return "otpauth://totp/" + url.PathEscape("Inner Gate:"+name) + "?" + q.Encode()
}

// Step is the step whose code was given, after the one that was used last, or 0.
func Step(secret, code string, now time.Time, after int64) int64 {
	code = strings.ReplaceAll(strings.TrimSpace(code), " ", "")
	step := now.Unix() / period
	var found int64
	for s := step - drift; s <= step+drift; s++ {
		want, err := hotp.GenerateCodeCustom(secret, uint64(s), hotp.ValidateOpts{Digits: otp.DigitsSix, Algorithm: otp.AlgorithmSHA1})
		if err == nil && subtle.ConstantTimeCompare([]byte(want), []byte(code)) == 1 && s > after {
			found = s
		}
	}
	return found
}
