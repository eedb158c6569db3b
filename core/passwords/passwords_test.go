package passwords_test

import (
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/argon2"
	"golang.org/x/crypto/bcrypt"
	"golang.org/x/crypto/pbkdf2"
	"golang.org/x/crypto/scrypt"

	"innergate/core/passwords"
)

const password = "ebb and flood tide"

var (
	salt = []byte("salt of the sea!")
	b64  = base64.RawStdEncoding
)

func TestNewHashes(t *testing.T) {
	text := passwords.Usual.New(password)
	assert.True(t, strings.HasPrefix(text, "$argon2id$v=19$m=19456,t=2,p=1$"), text)
	assert.NotEqual(t, text, passwords.Usual.New(password), "each has a salt of its own")
	h, err := passwords.Read(text)
	require.NoError(t, err)
	assert.True(t, h.Current(passwords.Usual))
	assert.True(t, h.Fits(password))
	assert.False(t, h.Fits(password+" "))
	assert.False(t, h.Current(passwords.Cost{Memory: 1024, Rounds: 1}), "of another cost")
	assert.False(t, passwords.Usual.Dummy().Fits(""))
}

// TestHashesOfOtherSystems reads one of each kind, made by the libraries of the schemes themselves.
func TestHashesOfOtherSystems(t *testing.T) {
	bc, err := bcrypt.GenerateFromPassword([]byte(password), bcrypt.MinCost)
	require.NoError(t, err)
	sc, err := scrypt.Key([]byte(password), salt, 1<<12, 8, 1, 32)
	require.NoError(t, err)
	salted := func(sum []byte) string { return base64.StdEncoding.EncodeToString(append(sum, salt...)) }
	plain := append([]byte(password), salt...)
	one, two, three := sha1.Sum(plain), sha256.Sum256(plain), sha512.Sum512(plain)
	pb := pbkdf2.Key([]byte(password), salt, 1200, 32, sha256.New)
	for scheme, text := range map[string]string{
		"argon2id": "$argon2id$v=19$m=1024,t=1,p=2$" + b64.EncodeToString(salt) + "$" +
			b64.EncodeToString(argon2.IDKey([]byte(password), salt, 1, 1024, 2, 32)),
		"bcrypt":     string(bc),
		"bcrypt, 2y": "$2y$" + string(bc[4:]),
		"scrypt":     "$scrypt$ln=12,r=8,p=1$" + b64.EncodeToString(salt) + "$" + b64.EncodeToString(sc),
		"PBKDF2": "$pbkdf2-sha256$1200$" + strings.ReplaceAll(b64.EncodeToString(salt), "+", ".") + "$" +
			strings.ReplaceAll(b64.EncodeToString(pb), "+", "."),
		"PBKDF2 in RFC 2307's form":  "{PBKDF2-SHA256}1200$" + b64.EncodeToString(salt) + "$" + b64.EncodeToString(pb),
		"PBKDF2 with a salt as text": "pbkdf2_sha256$1200$" + string(salt) + "$" + base64.StdEncoding.EncodeToString(pb),
		"SSHA":                       "{SSHA}" + salted(one[:]),
		"SSHA256":                    "{SSHA256}" + salted(two[:]),
		"SSHA512":                    "{SSHA512}" + salted(three[:]),
	} {
		h, err := passwords.Read(text)
		require.NoError(t, err, scheme)
		assert.True(t, h.Fits(password), scheme)
		assert.False(t, h.Fits("Ebb and flood tide"), scheme)
		assert.False(t, h.Current(passwords.Usual), "it is renewed at its first use: %s", scheme)
	}
}

func TestHashesThatAreNotTaken(t *testing.T) {
	for text, says := range map[string]string{
		"": "is of a scheme that is not taken", "plain text": "is of a scheme",
		"{SHA}" + base64.StdEncoding.EncodeToString(make([]byte, 20)):                "is of a scheme",
		"5f4dcc3b5aa765d61d8327deb882cf99":                                           "is of a scheme",
		"{SSHA}" + base64.StdEncoding.EncodeToString(make([]byte, 20)):               "has no salt",
		"$argon2id$v=19$m=999999999,t=1,p=1$c2FsdHNhbHQ$AAAAAAAAAAAAAAAAAAAAAAAAAAA": "costs that are not taken",
		"$argon2id$v=16$m=1024,t=1,p=1$c2FsdHNhbHQ$AAAA":                             "another version",
		"$2b$31$abcdefghijklmnopqrstuuabcdefghijklmnopqrstuvwxyzabcde":               "cost above 15",
		"$pbkdf2-sha256$10$c2FsdHNhbHQ$AAAAAAAAAAAAAAAAAAAAAAAAAAA":                  "number of rounds",
		"$pbkdf2-md5$1200$c2FsdHNhbHQ$AAAAAAAAAAAAAAAAAAAAAAAAAAA":                   "a digest",
		"$scrypt$ln=30,r=8,p=1$c2FsdHNhbHQ$AAAAAAAAAAAAAAAAAAAAAAAAAAA":              "costs that are not taken",
		strings.Repeat("$", 1025):                                                    "longer than",
	} {
		_, err := passwords.Read(text)
		assert.ErrorContains(t, err, says, text)
	}
}
