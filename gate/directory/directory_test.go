package directory_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"

	"innergate/api"
	"innergate/core/claims"
	"innergate/gate/directory"
	"innergate/testbed"
)

// TestPasswordsAreChosenWell says what is wrong with one before it is hashed.
func TestPasswordsAreChosenWell(t *testing.T) {
	t.Parallel()
	require.NoError(t, directory.CheckPassword("runa", "ebb and flood tide"))
	for password, says := range map[string]string{
		"too short":                       "fewer than 12",
		strings.Repeat("long ", 60):       "more than 256",
		"my name is RUNA, and that is it": "contains the name",
	} {
		assert.ErrorContains(t, directory.CheckPassword("runa", password), says)
	}
	assert.ErrorContains(t, directory.CheckCredentials("<script>", "ebb and flood tide"), "letters")
}

// TestAPasswordIsSetByALinkOnce makes a link for somebody with a sign-in name; a newer one ends it.
func TestAPasswordIsSetByALinkOnce(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	nobody := l.Person(t, "mvoss", "Mira Voss")
	_, err := l.Directory.NewPersonLink(ctx, testbed.Owner, nobody.ID)
	assert.Equal(t, 409, testbed.Status(err), "she has no name here")
	login := "runa.holt"
	p, err := l.Persons.SavePerson(ctx, testbed.Owner, "", api.SavePerson{Login: &login, Profile: claims.Bag{"name": {"Runa Holt"}}})
	require.NoError(t, err)
	link := func() string {
		made, err := l.Directory.NewPersonLink(ctx, testbed.Owner, p.ID)
		require.NoError(t, err)
		return made.Link[strings.LastIndexByte(made.Link, '/')+1:]
	}
	old, token := link(), ""
	token = link()
	const password = "ebb and flood tide"
	assert.Equal(t, 403, testbed.Status(l.Directory.SetPassword(ctx, old, password, password)), "an older one")
	assert.ErrorContains(t, l.Directory.SetPassword(ctx, token, password, password+"s"), "not the same")
	require.NoError(t, l.Directory.SetPassword(ctx, token, password, password))
	assert.Equal(t, 403, testbed.Status(l.Directory.SetPassword(ctx, token, password, password)), "used up")
	late := link()
	l.Turn(30 * 24 * time.Hour)
	assert.Equal(t, 403, testbed.Status(l.Directory.SetPassword(ctx, late, password, password)), "over")
}

// TestUnknownNamesTakeAsLong compares with a hash that nothing fits where there is none.
func TestUnknownNamesTakeAsLong(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	hash, err := l.Directory.NewPasswordHash(ctx, "ebb and flood tide")
	require.NoError(t, err)
	fits, current, err := l.Directory.PasswordFits(ctx, hash, "ebb and flood tide")
	require.NoError(t, err)
	assert.True(t, fits)
	assert.True(t, current)
	for _, stored := range []string{"", "rubbish", hash} {
		fits, _, err := l.Directory.PasswordFits(ctx, stored, "something else")
		require.NoError(t, err)
		assert.False(t, fits, stored)
	}
}

// TestAWrongPasswordTellsNoName compares how long unknown names, known ones and imported ones take: all as long as the
// slowest.
func TestAWrongPasswordTellsNoName(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	own, err := l.Directory.NewPasswordHash(ctx, "a long enough password")
	require.NoError(t, err)
	slow, err := bcrypt.GenerateFromPassword([]byte("another long password"), 11)
	require.NoError(t, err)
	took := func(stored string) time.Duration {
		at := time.Now()
		fits, _, err := l.Directory.PasswordFits(ctx, stored, "wrong")
		require.NoError(t, err)
		require.False(t, fits)
		return time.Since(at)
	}
	slowest := took(string(slow))
	for _, stored := range []string{"", own, string(slow)} {
		assert.GreaterOrEqual(t, took(stored), slowest*8/10, "%.10s", stored)
	}
	fits, _, err := l.Directory.PasswordFits(ctx, own, "a long enough password")
	require.NoError(t, err)
	assert.True(t, fits)
}
