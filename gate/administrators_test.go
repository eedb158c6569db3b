package gate_test

import (
	"context"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/gate"
)

const password = "ebb and flood tide"

// setUp makes the first administrator and returns the ID.
func setUp(t testing.TB, l *lab) string {
	t.Helper()
	link := l.NewSetupLink()
	_, token, ok := strings.Cut(link, "#")
	require.True(t, ok, "the token stands behind the #, where no log sees it")
	require.NoError(t, l.SetUp(context.Background(), api.Setup{Token: token, Name: "Fenna", Password: password}, "192.0.2.7"))
	list, err := l.Administrators(context.Background())
	require.NoError(t, err)
	require.Len(t, list.Items, 1)
	return list.Items[0].ID
}

func TestSetUpOnce(t *testing.T) {
	t.Parallel()
	l, ctx := newLab(t), context.Background()
	needed, err := l.SetupNeeded(ctx)
	require.NoError(t, err)
	assert.True(t, needed)
	assert.Equal(t, http.StatusForbidden, status(l.SetUp(ctx, api.Setup{Token: "guessed", Name: "Mallory", Password: password}, "")))
	link := l.NewSetupLink()
	_, token, _ := strings.Cut(link, "#")
	for bad, says := range map[string]string{"short": "fewer than 12", "fenna and her boat": "contains the name", strings.Repeat("x", 300): "more than 256"} {
		assert.ErrorContains(t, l.SetUp(ctx, api.Setup{Token: token, Name: "Fenna", Password: bad}, ""), says)
	}
	assert.ErrorContains(t, l.SetUp(ctx, api.Setup{Token: token, Name: "<b>", Password: password}, ""), "name must have")
	require.NoError(t, l.SetUp(ctx, api.Setup{Token: token, Name: "Fenna", Password: password}, ""))
	assert.Error(t, l.SetUp(ctx, api.Setup{Token: token, Name: "Mallory", Password: password}, ""))
	_, token, _ = strings.Cut(l.NewSetupLink(), "#")
	assert.ErrorContains(t, l.SetUp(ctx, api.Setup{Token: token, Name: "Mallory", Password: password}, ""), "an administrator already")
}

func TestSetUpLinkCantBeGuessed(t *testing.T) {
	t.Parallel()
	l, ctx := newLab(t), context.Background()
	l.NewSetupLink()
	var err error
	for range 21 {
		err = l.SetUp(ctx, api.Setup{Token: "guess", Name: "Mallory", Password: password}, "203.0.113.9")
	}
	assert.Equal(t, http.StatusTooManyRequests, status(err))
}

func TestSessionsEnd(t *testing.T) {
	t.Parallel()
	l, ctx := newLab(t), context.Background()
	id := setUp(t, l)
	signIn := func() string {
		token, me, err := l.SignInAdministrator(ctx, "Fenna", password, "192.0.2.7")
		require.NoError(t, err)
		assert.Equal(t, gate.RoleOwner, me.Role)
		assert.NotEmpty(t, me.CSRF)
		return token
	}
	good := func(token string) bool {
		_, err := l.SessionActor(ctx, token, "")
		return err == nil
	}
	token := signIn()
	assert.True(t, good(token))
	assert.False(t, good(""))
	assert.False(t, good(token+"x"))
	l.now = l.now.Add(7 * time.Hour)
	assert.True(t, good(token), "used within eight hours")
	l.now = l.now.Add(9 * time.Hour)
	assert.False(t, good(token), "idle for more than eight hours")
	token = signIn()
	for range 4 {
		l.now = l.now.Add(6 * time.Hour)
		good(token)
	}
	l.now = l.now.Add(time.Minute)
	assert.False(t, good(token), "no session lives longer than a day")
	token = signIn()
	require.NoError(t, l.SignOutAdministrator(ctx, token))
	assert.False(t, good(token))
	token = signIn()
	assert.ErrorContains(t, l.ChangeAdministrator(ctx, owner, id, api.ChangeAdministrator{Password: "fenna and her boat"}), "contains the name")
	require.NoError(t, l.ChangeAdministrator(ctx, owner, id, api.ChangeAdministrator{Password: "another long password"}))
	assert.False(t, good(token), "a new password ends every session")
	_, _, err := l.SignInAdministrator(ctx, "Fenna", password, "")
	assert.Equal(t, http.StatusUnauthorized, status(err))
	require.NoError(t, l.Tidy(ctx))
}

func TestGuessingPasswords(t *testing.T) {
	t.Parallel()
	l, ctx := newLab(t), context.Background()
	setUp(t, l)
	for range 10 {
		_, _, err := l.SignInAdministrator(ctx, "Fenna", "wrong password", "203.0.113.9")
		require.Equal(t, http.StatusUnauthorized, status(err))
	}
	_, _, err := l.SignInAdministrator(ctx, "Fenna", password, "203.0.113.9")
	assert.Equal(t, http.StatusTooManyRequests, status(err))
	_, _, err = l.SignInAdministrator(ctx, "FENNA", "wrong password", "198.51.100.1")
	assert.Equal(t, http.StatusTooManyRequests, status(err), "the name counts whatever its case")
	l.now = l.now.Add(16 * time.Minute)
	_, _, err = l.SignInAdministrator(ctx, "Fenna", password, "203.0.113.9")
	assert.NoError(t, err)
	// Many names from one address.
	for i := range 51 {
		_, _, err = l.SignInAdministrator(ctx, "nobody"+strings.Repeat("x", i), "wrong password", "203.0.113.77")
	}
	assert.Equal(t, http.StatusTooManyRequests, status(err))
}

func TestSomebodyStaysOwner(t *testing.T) {
	t.Parallel()
	l, ctx := newLab(t), context.Background()
	id := setUp(t, l)
	assert.ErrorContains(t, l.ChangeAdministrator(ctx, owner, id, api.ChangeAdministrator{Role: gate.RoleViewer}), "last owner")
	assert.ErrorContains(t, l.RemoveAdministrator(ctx, owner, id), "last owner")
	list, err := l.Administrators(ctx)
	require.NoError(t, err)
	assert.Equal(t, gate.RoleOwner, list.Items[0].Role, "nothing is half-written")
	other, err := l.AddAdministrator(ctx, owner, api.NewAdministrator{Name: "Mira", Role: gate.RoleOwner, Password: password})
	require.NoError(t, err)
	require.NoError(t, l.RemoveAdministrator(ctx, owner, id))
	assert.ErrorContains(t, l.RemoveAdministrator(ctx, owner, other.ID), "last owner")
	_, err = l.AddAdministrator(ctx, owner, api.NewAdministrator{Name: "Mira", Role: gate.RoleViewer, Password: password})
	assert.Equal(t, http.StatusConflict, status(err))
	_, err = l.AddAdministrator(ctx, owner, api.NewAdministrator{Name: "Iris", Role: "admiral", Password: password})
	assert.ErrorContains(t, err, "no role")
	assert.Equal(t, http.StatusNotFound, status(l.RemoveAdministrator(ctx, owner, "nobody")))
}

func TestTokensEnd(t *testing.T) {
	t.Parallel()
	l, ctx := newLab(t), context.Background()
	token, err := l.NewToken(ctx, owner, api.NewToken{Name: "pipeline", Role: gate.RoleEngineer, Days: 2})
	require.NoError(t, err)
	who, err := l.TokenActor(ctx, token.Secret, "")
	require.NoError(t, err)
	assert.Equal(t, "token pipeline", who.Name)
	l.now = l.now.AddDate(0, 0, 3)
	_, err = l.TokenActor(ctx, token.Secret, "")
	assert.Equal(t, http.StatusUnauthorized, status(err))
	forever, err := l.NewToken(ctx, owner, api.NewToken{Name: "watch", Role: gate.RoleViewer})
	require.NoError(t, err)
	require.NoError(t, l.RevokeToken(ctx, owner, forever.ID))
	_, err = l.TokenActor(ctx, forever.Secret, "")
	assert.Equal(t, http.StatusUnauthorized, status(err))
	assert.Equal(t, http.StatusNotFound, status(l.RevokeToken(ctx, owner, forever.ID)))
	_, err = l.NewToken(ctx, gate.Actor{Name: "Mira", Role: gate.RoleEngineer}, api.NewToken{Name: "mine", Role: gate.RoleOwner})
	assert.Equal(t, http.StatusForbidden, status(err), "nobody gives more than they have")
	for _, bad := range []api.NewToken{{Role: gate.RoleViewer}, {Name: "x", Role: gate.RoleViewer, Days: -1}, {Name: strings.Repeat("x", 101), Role: gate.RoleViewer}} {
		_, err = l.NewToken(ctx, owner, bad)
		assert.Equal(t, http.StatusBadRequest, status(err))
	}
}
