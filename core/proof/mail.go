// Package proof is how somebody proves that a mail address is theirs: by a code of six digits that was sent to it.
package proof

import (
	"crypto/rand"
	"crypto/subtle"
	"fmt"
	"math/big"
	"strings"
	"time"

	"innergate/core/keys"
)

// Mail is an address that somebody says is theirs, until they have entered the code. It is kept where the code was asked
// for, and holds no code, only its hash.
type Mail struct {
	Address string    `json:"address"`
	Hash    []byte    `json:"hash"`
	Until   time.Time `json:"until"`
	Sent    int       `json:"sent"`  // codes, to whatever address
	Wrong   int       `json:"wrong"` // entries
}

// Next is the proof of an address by a new code, which is good until then. What is bound is what the code counts for, such as
// one sign-in. What was sent and entered wrongly before goes on counting.
func (m Mail) Next(bound, address string, until time.Time) (next Mail, code string, err error) {
	n, err := rand.Int(rand.Reader, big.NewInt(1_000_000))
	if err != nil {
		return m, "", err
	}
	code = fmt.Sprintf("%06d", n)
	return Mail{Address: address, Hash: keys.HashSecret(bound + code), Until: until, Sent: m.Sent + 1, Wrong: m.Wrong}, code, nil
}

// Try says whether this is the code that was sent last, written with blanks or without. A wrong one counts, and with as many
// as most none is right any more.
func (m *Mail) Try(bound, code string, now time.Time, most int) bool {
	digits := strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return r
		}
		return -1
	}, code)
	if len(m.Hash) > 0 && m.Wrong < most && now.Before(m.Until) &&
		subtle.ConstantTimeCompare(m.Hash, keys.HashSecret(bound+digits)) == 1 {
		return true
	}
	m.Wrong++
	return false
}
