package totp_test

import (
	"encoding/base32"
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/totp"
)

// The secret of RFC 6238, appendix B, for SHA-1; its codes are the last six of the eight digits there.
var secret = base32.StdEncoding.EncodeToString([]byte("12345678901234567890"))

func TestCodesOfTheStandard(t *testing.T) {
	t.Parallel()
	for at, code := range map[int64]string{59: "287082", 1111111109: "081804", 1234567890: "005924", 2000000000: "279037"} {
		assert.Equal(t, at/30, totp.Step(secret, code, time.Unix(at, 0), 0), "at %d", at)
	}
}

// TestStepsAroundNow takes one step before and after, no code twice, and blanks as people type them.
func TestStepsAroundNow(t *testing.T) {
	t.Parallel()
	const at, code = 1111111109, "081804"
	now := time.Unix(at, 0)
	assert.Positive(t, totp.Step(secret, " 081 804 ", now, 0))
	assert.Positive(t, totp.Step(secret, code, now.Add(30*time.Second), 0))
	assert.Positive(t, totp.Step(secret, code, now.Add(-30*time.Second), 0))
	assert.Zero(t, totp.Step(secret, code, now.Add(90*time.Second), 0), "too late")
	assert.Zero(t, totp.Step(secret, code, now, at/30), "it was used")
	assert.Zero(t, totp.Step(secret, "", now, 0))
	assert.Zero(t, totp.Step(secret, "000000", now, 0))
}

func TestSecretsAndTheirAddress(t *testing.T) {
	t.Parallel()
	one := totp.NewSecret()
	assert.Len(t, one, 32, "160 bits in base32")
	assert.NotEqual(t, one, totp.NewSecret())
	u, err := url.Parse(totp.Address("runa.holt", one))
	require.NoError(t, err)
	assert.Equal(t, "otpauth", u.Scheme)
	assert.Equal(t, one, u.Query().Get("secret"))
	assert.Contains(t, u.Path, "runa.holt")
}
