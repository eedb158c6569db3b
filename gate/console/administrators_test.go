package console_test

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/gate/ground"
	"innergate/testbed"
)

const password = "ebb and flood tide"

// setUp makes the first administrator and returns the ID.
func setUp(t testing.TB, l *testbed.Lab) string {
	t.Helper()
	link := l.Console.NewSetupLink()
	_, token, ok := strings.Cut(link, "#")
	require.True(t, ok, "the token stands behind the #, where no log sees it")
	require.NoError(t, l.Console.SetUp(context.Background(), api.Setup{Token: token, Name: "Fenna", Password: password}, "192.0.2.7"))
	list, err := l.Console.Administrators(context.Background())
	require.NoError(t, err)
	require.Len(t, list.Items, 1)
	return list.Items[0].ID
}

func TestSetUpOnce(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	needed, err := l.Console.SetupNeeded(ctx)
	require.NoError(t, err)
	assert.True(t, needed)
	assert.Equal(
		t, http.StatusForbidden,
		testbed.Status(l.Console.SetUp(ctx, api.Setup{Token: "guessed", Name: "Mallory", Password: password}, "")),
	)
	link := l.Console.NewSetupLink()
	_, token, _ := strings.Cut(link, "#")
	for bad, says := range map[string]string{"short": "fewer than 12", "fenna and her boat": "contains the name",
		strings.Repeat("x", 300): "more than 256"} {
		assert.ErrorContains(t, l.Console.SetUp(ctx, api.Setup{Token: token, Name: "Fenna", Password: bad}, ""), says)
	}
	assert.ErrorContains(t, l.Console.SetUp(ctx, api.Setup{Token: token, Name: "<b>", Password: password}, ""), "name must have")
	require.NoError(t, l.Console.SetUp(ctx, api.Setup{Token: token, Name: "Fenna", Password: password}, ""))
	assert.Error(t, l.Console.SetUp(ctx, api.Setup{Token: token, Name: "Mallory", Password: password}, ""))
	_, token, _ = strings.Cut(l.Console.NewSetupLink(), "#")
	assert.ErrorContains(
		t, l.Console.SetUp(ctx, api.Setup{Token: token, Name: "Mallory", Password: password}, ""),
		"an administrator already",
	)
}

func TestSetUpLinkCantBeGuessed(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	l.Console.NewSetupLink()
	var err error
	for range 21 {
		err = l.Console.SetUp(ctx, api.Setup{Token: "guess", Name: "Mallory", Password: password}, "203.0.113.9")
	}
	assert.Equal(t, http.StatusTooManyRequests, testbed.Status(err))
}

func TestSessionsEnd(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	id := setUp(t, l)
	signIn := func() string {
		token, me, err := l.Console.SignInAdministrator(ctx, "Fenna", password, "192.0.2.7")
		require.NoError(t, err)
		assert.Equal(t, ground.RoleOwner, me.Role)
		assert.NotEmpty(t, me.CSRF)
		return token
	}
	good := func(token string) bool {
		_, err := l.Console.SessionActor(ctx, token, "")
		return err == nil
	}
	token := signIn()
	assert.True(t, good(token))
	assert.False(t, good(""))
	assert.False(t, good(token+"x"))
	l.Clock = l.Clock.Add(7 * time.Hour)
	assert.True(t, good(token), "used within eight hours")
	l.Clock = l.Clock.Add(9 * time.Hour)
	assert.False(t, good(token), "idle for more than eight hours")
	token = signIn()
	for range 4 {
		l.Clock = l.Clock.Add(6 * time.Hour)
		good(token)
	}
	l.Clock = l.Clock.Add(time.Minute)
	assert.False(t, good(token), "no session lives longer than a day")
	token = signIn()
	require.NoError(t, l.Console.SignOutAdministrator(ctx, token))
	assert.False(t, good(token))
	token = signIn()
	assert.ErrorContains(
		t, l.Console.ChangeAdministrator(ctx, testbed.Owner, id, api.ChangeAdministrator{Password: "fenna and her boat"}),
		"contains the name",
	)
	require.NoError(t, l.Console.ChangeAdministrator(ctx, testbed.Owner, id, api.ChangeAdministrator{Password: "another long password"}))
	assert.False(t, good(token), "a new password ends every session")
	_, _, err := l.Console.SignInAdministrator(ctx, "Fenna", password, "")
	assert.Equal(t, http.StatusUnauthorized, testbed.Status(err))
	require.NoError(t, l.Tidy(ctx))
}

func TestGuessingPasswords(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	setUp(t, l)
	for range 10 {
		_, _, err := l.Console.SignInAdministrator(ctx, "Fenna", "wrong password", "203.0.113.9")
		require.Equal(t, http.StatusUnauthorized, testbed.Status(err))
	}
	_, _, err := l.Console.SignInAdministrator(ctx, "Fenna", password, "203.0.113.9")
	assert.Equal(t, http.StatusTooManyRequests, testbed.Status(err))
	_, _, err = l.Console.SignInAdministrator(ctx, "FENNA", "wrong password", "203.0.113.9")
	assert.Equal(t, http.StatusTooManyRequests, testbed.Status(err), "the name counts whatever its case")
	_, _, err = l.Console.SignInAdministrator(ctx, "Fenna", password, "198.51.100.1")
	assert.NoError(t, err, "nobody is locked out by what another network guesses")
	refused := 0
	for i := range 60 {
		_, _, err = l.Console.SignInAdministrator(ctx, "nobody", "wrong password", fmt.Sprintf("2001:db8::%x", i))
		if testbed.Status(err) == http.StatusTooManyRequests {
			refused++
		}
	}
	assert.Equal(t, 50, refused, "an IPv6 network is one guesser, whichever of its addresses it uses")
	l.Clock = l.Clock.Add(16 * time.Minute)
	_, _, err = l.Console.SignInAdministrator(ctx, "Fenna", password, "203.0.113.9")
	assert.NoError(t, err)
	// Many names from one address.
	for i := range 51 {
		_, _, err = l.Console.SignInAdministrator(ctx, "nobody"+strings.Repeat("x", i), "wrong password", "203.0.113.77")
	}
	assert.Equal(t, http.StatusTooManyRequests, testbed.Status(err))
}

func TestSomebodyStaysOwner(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	id := setUp(t, l)
	assert.ErrorContains(t, l.Console.ChangeAdministrator(ctx, testbed.Owner, id, api.ChangeAdministrator{Role: ground.RoleViewer}),
		"last owner")
	assert.ErrorContains(t, l.Console.RemoveAdministrator(ctx, testbed.Owner, id), "last owner")
	list, err := l.Console.Administrators(ctx)
	require.NoError(t, err)
	assert.Equal(t, ground.RoleOwner, list.Items[0].Role, "nothing is half-written")
	other, err := l.Console.AddAdministrator(ctx, testbed.Owner,
		api.NewAdministrator{Name: "Mira", Role: ground.RoleOwner, Password: password})
	require.NoError(t, err)
	require.NoError(t, l.Console.RemoveAdministrator(ctx, testbed.Owner, id))
	assert.ErrorContains(t, l.Console.RemoveAdministrator(ctx, testbed.Owner, other.ID), "last owner")
	_, err = l.Console.AddAdministrator(ctx, testbed.Owner, api.NewAdministrator{Name: "Mira", Role: ground.RoleViewer, Password: password})
	assert.Equal(t, http.StatusConflict, testbed.Status(err))
	_, err = l.Console.AddAdministrator(ctx, testbed.Owner, api.NewAdministrator{Name: "Iris", Role: "admiral", Password: password})
	assert.ErrorContains(t, err, "no role")
	assert.Equal(t, http.StatusNotFound, testbed.Status(l.Console.RemoveAdministrator(ctx, testbed.Owner, "nobody")))
}

func TestTokensEnd(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	token, err := l.Console.NewToken(ctx, testbed.Owner, api.NewToken{Name: "pipeline", Role: ground.RoleEngineer, Days: 2})
	require.NoError(t, err)
	who, err := l.Console.TokenActor(ctx, token.Secret, "")
	require.NoError(t, err)
	assert.Equal(t, "token pipeline", who.Name)
	l.Clock = l.Clock.AddDate(0, 0, 3)
	_, err = l.Console.TokenActor(ctx, token.Secret, "")
	assert.Equal(t, http.StatusUnauthorized, testbed.Status(err))
	forever, err := l.Console.NewToken(ctx, testbed.Owner, api.NewToken{Name: "watch", Role: ground.RoleViewer})
	require.NoError(t, err)
	require.NoError(t, l.Console.RevokeToken(ctx, testbed.Owner, forever.ID))
	_, err = l.Console.TokenActor(ctx, forever.Secret, "")
	assert.Equal(t, http.StatusUnauthorized, testbed.Status(err))
	assert.Equal(t, http.StatusNotFound, testbed.Status(l.Console.RevokeToken(ctx, testbed.Owner, forever.ID)))
	_, err = l.Console.NewToken(
		ctx,
		ground.Actor{Name: "Mira", Role: ground.RoleEngineer},
		api.NewToken{Name: "mine", Role: ground.RoleOwner},
	)
	assert.Equal(t, http.StatusForbidden, testbed.Status(err), "nobody gives more than they have")
	for _, bad := range []api.NewToken{{Role: ground.RoleViewer}, {Name: "x", Role: ground.RoleViewer, Days: -1},
		{Name: strings.Repeat("x", 101), Role: ground.RoleViewer}} {
		_, err = l.Console.NewToken(ctx, testbed.Owner, bad)
		assert.Equal(t, http.StatusBadRequest, testbed.Status(err))
	}
}
