// Package passwords keeps passwords as hashes: new ones with Argon2id (RFC 9106), and reads the salted hashes of other
// systems, so that people keep their passwords when they move. Hashing takes time and memory on purpose; the caller
// limits how many run at once.
package passwords

import (
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"hash"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/crypto/argon2"
	"golang.org/x/crypto/bcrypt"
	"golang.org/x/crypto/scrypt"
)

// Cost says what a new hash costs whoever makes it, and whoever guesses.
type Cost struct {
	Memory uint32 // in KiB
	Rounds uint32
}

// Usual is the cost of new hashes: RFC 9106's advice for little memory, brought to 19 MiB.
var Usual = Cost{Memory: 19 * 1024, Rounds: 2}

const (
	threads = 1
	size    = 32
)

// Hash is a password's hash in its own notation.
type Hash struct {
	scheme string
	// Fits compares a password with the hash in constant time.
	fits func(password string) bool
	// cost is what the hash was made at, where it is of the form of new ones.
	cost Cost
}

// Fits says whether the password is the one behind the hash.
func (h *Hash) Fits(password string) bool { return h.fits(password) }

// Scheme names the hash's scheme.
func (h *Hash) Scheme() string { return h.scheme }

// Current says whether the hash is as new ones of the cost are; others are renewed when the password is next used.
func (h *Hash) Current(c Cost) bool { return h.cost == c }

// Dummy is a hash that no password fits, to be compared where there is none, so that both take as long.
func (c Cost) Dummy() *Hash {
	h, _ := dummies.LoadOrStore(c, sync.OnceValue(func() *Hash {
		h, err := Read(c.New(rand.Text()))
		if err != nil {
			panic(err) // our own hashes can be read
		}
		return h
	}))
	return h.(func() *Hash)()
}

var dummies sync.Map // Cost → func() *Hash

// New hashes a password.
func (c Cost) New(password string) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	enc := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=19$m=%d,t=%d,p=%d$%s$%s", c.Memory, c.Rounds, threads,
		enc.EncodeToString(salt), enc.EncodeToString(argon2.IDKey([]byte(password), salt, c.Rounds, c.Memory, threads, size)))
}

var errUnknown = errors.New(
	"the password's hash is of a scheme that is not taken; argon2id, bcrypt ($2a$, $2b$, $2y$), scrypt, PBKDF2 (also " +
		"{PBKDF2-SHA256}), {SSHA}, {SSHA256} and {SSHA512} are",
)

// Read reads a hash in the notation of Argon2 ($argon2id$), bcrypt ($2b$), PBKDF2 ($pbkdf2-sha256$, {PBKDF2-SHA256},
// pbkdf2_sha256$), scrypt ($scrypt$) or the salted schemes of directories ({SSHA}, {SSHA256}, {SSHA512}, RFC 2307).
// Hashes without a salt are refused.
func Read(text string) (*Hash, error) {
	if len(text) > 1024 {
		return nil, errors.New("the password's hash is longer than 1024 characters")
	}
	switch {
	case strings.HasPrefix(text, "$argon2id$"):
		return readArgon(text)
	case strings.HasPrefix(text, "$2a$"), strings.HasPrefix(text, "$2b$"), strings.HasPrefix(text, "$2y$"):
		return readBcrypt(text)
	case strings.HasPrefix(text, "$scrypt$"):
		return readScrypt(text)
	case strings.HasPrefix(text, "$pbkdf2-"), strings.HasPrefix(text, "{PBKDF2-"), strings.HasPrefix(text, "pbkdf2_"):
		return readPBKDF2(text)
	case strings.HasPrefix(text, "{SSHA"):
		return readSalted(text)
	}
	return nil, errUnknown
}

func readArgon(text string) (*Hash, error) {
	parts := strings.Split(text, "$")
	if len(parts) != 6 || parts[2] != "v=19" {
		return nil, errors.New("the Argon2id hash is incomplete, or of another version than 19")
	}
	var m, t uint32
	var p uint8
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &m, &t, &p); err != nil || m < 8 || m > 64*1024 || t < 1 || t > 20 || p < 1 ||
		p > 16 {
		return nil, errors.New("the Argon2id hash has costs that are not taken (memory up to 64 MiB, 20 rounds, 16 lanes)")
	}
	salt, key, err := saltAndKey(parts[4], parts[5])
	if err != nil {
		return nil, err
	}
	h := &Hash{scheme: "argon2id", fits: func(password string) bool {
		return equal(argon2.IDKey([]byte(password), salt, t, m, p, uint32(len(key))), key)
	}}
	if p == threads && len(key) == size {
		h.cost = Cost{m, t}
	}
	return h, nil
}

func saltAndKey(salt, key string) (s, k []byte, err error) {
	if s, err = decode(salt); err == nil {
		k, err = decode(key)
	}
	if err != nil || len(s) < 4 || len(s) > 128 || len(k) < 16 || len(k) > 128 {
		return nil, nil, errors.New("the salt or the value of the password's hash can't be read")
	}
	return s, k, nil
}

// decode reads base64 with or without padding, and the variant with a dot for plus.
func decode(text string) ([]byte, error) {
	return base64.RawStdEncoding.DecodeString(strings.TrimRight(strings.ReplaceAll(text, ".", "+"), "="))
}

func equal(a, b []byte) bool { return subtle.ConstantTimeCompare(a, b) == 1 }

func readBcrypt(text string) (*Hash, error) {
	raw := []byte("$2b$" + text[4:])
	cost, err := bcrypt.Cost(raw)
	if err != nil || cost > 15 {
		return nil, errors.New("the bcrypt hash can't be read, or has a cost above 15")
	}
	return &Hash{scheme: "bcrypt", fits: func(password string) bool {
		return bcrypt.CompareHashAndPassword(raw, []byte(password)) == nil
	}}, nil
}

func readScrypt(text string) (*Hash, error) {
	parts := strings.Split(text, "$")
	var ln, r, p int
	if len(parts) != 5 {
		return nil, errors.New("the scrypt hash is incomplete")
	}
	if _, err := fmt.Sscanf(parts[2], "ln=%d,r=%d,p=%d", &ln, &r, &p); err != nil || ln < 10 || ln > 18 || r < 1 || r > 16 || p < 1 ||
		p > 4 {
		return nil, errors.New("the scrypt hash has costs that are not taken")
	}
	salt, key, err := saltAndKey(parts[3], parts[4])
	if err != nil {
		return nil, err
	}
	return &Hash{scheme: "scrypt", fits: func(password string) bool {
		got, err := scrypt.Key([]byte(password), salt, 1<<ln, r, p, len(key))
		return err == nil && equal(got, key)
	}}, nil
}

var digests = map[string]func() hash.Hash{"sha1": sha1.New, "sha256": sha256.New, "sha512": sha512.New}

// readPBKDF2 reads $pbkdf2-sha256$rounds$salt$value, {PBKDF2-SHA256}rounds$salt$value and
// pbkdf2_sha256$rounds$salt$value, in the last of which the salt is a text.
func readPBKDF2(text string) (*Hash, error) {
	plainSalt := strings.HasPrefix(text, "pbkdf2_")
	text = strings.TrimPrefix(strings.NewReplacer("{PBKDF2-", "$pbkdf2-", "}", "$", "pbkdf2_", "$pbkdf2-").Replace(text), "$")
	parts := strings.Split(text, "$")
	if len(parts) != 4 {
		return nil, errors.New("the PBKDF2 hash is incomplete")
	}
	digest := digests[strings.TrimPrefix(strings.ToLower(parts[0]), "pbkdf2-")]
	n, err := strconv.Atoi(parts[1])
	if digest == nil || err != nil || n < 1000 || n > 5_000_000 {
		return nil, errors.New(
			"the PBKDF2 hash has a digest or a number of rounds that is not taken (SHA-1, SHA-256 or SHA-512, 1000 to 5,000,000 rounds)",
		)
	}
	salt, key, err := saltAndKey(parts[2], parts[3])
	if plainSalt {
		salt = []byte(parts[2])
		if key, err = decode(parts[3]); err == nil && (len(salt) < 4 || len(key) < 16 || len(key) > 128) {
			err = errors.New("the salt or the value of the password's hash can't be read")
		}
	}
	if err != nil {
		return nil, err
	}
	return &Hash{scheme: "pbkdf2", fits: func(password string) bool {
		got, err := pbkdf2.Key(digest, password, salt, n, len(key))
		return err == nil && equal(got, key)
	}}, nil
}

// readSalted reads {SSHA}, {SSHA256} and {SSHA512}: the digest of password and salt, and the salt behind it.
func readSalted(text string) (*Hash, error) {
	scheme, value, ok := strings.Cut(strings.TrimPrefix(text, "{"), "}")
	digest := map[string]func() hash.Hash{"SSHA": sha1.New, "SSHA1": sha1.New, "SSHA256": sha256.New, "SSHA512": sha512.New}[scheme]
	raw, err := decode(value)
	if !ok || digest == nil || err != nil {
		return nil, errUnknown
	}
	n := digest().Size()
	if len(raw) < n+4 || len(raw) > n+64 {
		return nil, errors.New("the hash has no salt of at least 4 bytes, and hashes without one are not taken")
	}
	want, salt := raw[:n], raw[n:]
	return &Hash{scheme: scheme, fits: func(password string) bool {
		h := digest()
		h.Write([]byte(password))
		h.Write(salt)
		return hmac.Equal(h.Sum(nil), want)
	}}, nil
}
