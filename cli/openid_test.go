package cli_test

import (
	"context"
	"encoding/json"
	"net/url"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/cli"
	"innergate/cli/terminal"
	"innergate/client"
	"innergate/demo"
	"innergate/testbed"
	"innergate/web"
)

// TestLoginThroughAProvider signs in with a browser, and with a code on another device, and gets a token that ends with
// the sign-in.
func TestLoginThroughAProvider(t *testing.T) {
	w, ctx := world(t), context.Background()
	t.Setenv("PATH", "") // no browser opens by itself
	code, out, says := run(t, "", "console", "add", "--provider", "saltmere-staff", "--value", "ferry-office", "--role", "engineer")
	require.Equal(t, 0, code, says)
	assert.Contains(t, out, "groups = ferry-office")
	t.Setenv("INNERGATE_TOKEN", "")
	login := func(flag string, link *regexp.Regexp, walk func(link string)) string {
		var out, err lockedBuffer
		done := make(chan int, 1)
		go func() {
			done <- cli.Run(ctx, []string{"innergate", "login", w.URL, flag},
				terminal.Streams{In: strings.NewReader(""), Out: &out, Err: &err}, terminal.Build{Version: "test", Console: web.Console()})
		}()
		require.Eventually(t, func() bool { return link.MatchString(err.String()) }, testbed.Patience, 10*time.Millisecond, err.String())
		walk(link.FindString(err.String()))
		select {
		case code := <-done:
			require.Equal(t, 0, code, err.String())
		case <-time.After(testbed.Patience):
			t.Fatal("the command did not end: ", err.String())
		}
		return out.String()
	}
	assert.Contains(t, login("--browser", regexp.MustCompile(`http\S+/oidc/authorize\?\S+`), func(link string) {
		b := demo.NewWalker(nil)
		require.NoError(t, b.SignIn(ctx, link, "tkerr"))
		assert.Contains(t, b.Text, "You are signed in. You may close this page")
	}), "as Tamsin Kerr (Saltmere Staff) with the role engineer")
	code, out, says = run(t, "", "app", "list")
	require.Equal(t, 0, code, says)
	assert.Contains(t, out, "cargo-ledger")
	code, _, says = run(t, "", "console", "list")
	assert.NotEqual(t, 0, code)
	assert.Contains(t, says, "role")
	assert.Contains(t, login("--device", regexp.MustCompile(`http\S+/device\?code=\S+`), func(link string) {
		b := demo.NewWalker(nil)
		require.NoError(t, b.Get(ctx, link))
		require.NoError(t, b.Submit(ctx, nil))
		require.NoError(t, b.Onward(ctx))
		require.NoError(t, b.Submit(ctx, url.Values{"person": {"lquill"}}))
		require.NoError(t, b.Onward(ctx))
		assert.Contains(t, b.Text, "Your role there will be <strong>engineer</strong>")
		assert.Contains(t, b.Text, "You did not type the code of the other device: a link brought it")
		require.NoError(t, b.Submit(ctx, url.Values{"answer": {"yes"}}))
		assert.Contains(t, b.Text, "signed in on your device")
	}), "as Lorna Quill")
	require.NoError(t, client.New(w.URL, w.Token).SetConsoleAccess(ctx, api.ConsoleAccess{}))
	code, _, says = run(t, "", "app", "list")
	assert.NotEqual(t, 0, code, "the rule is gone, and so is the token")
	assert.NotEmpty(t, says)
}

func TestSecretCommands(t *testing.T) {
	w := world(t)
	code, out, says := run(t, "", "secret", "list", "applications/cargo-ledger")
	require.Equal(t, 0, code, says)
	assert.Contains(t, out, "igs_")
	assert.NotContains(t, out, w.Ledger.Secret)
	code, out, says = run(t, "", "secret", "new", "cargo-ledger", "--days", "90")
	require.Equal(t, 0, code, says)
	made := strings.TrimSpace(out)
	assert.Regexp(t, `^igs_[\w-]{43}$`, made)
	code, _, says = run(t, "", "secret", "new", "cargo-ledger")
	assert.NotEqual(t, 0, code)
	assert.Contains(t, says, "Take back the one that is no longer used")
	code, out, says = run(
		t, w.Northquay.Clients[0].Secret+"\n", "secret", "enter", "northquay-stevedores", "--ends", "2099-05-31", "-o",
		"json",
	)
	require.Equal(t, 0, code, says)
	var s api.Secret
	require.NoError(t, json.Unmarshal([]byte(out), &s))
	assert.Equal(t, "next", s.State)
	code, out, says = run(t, "", "secret", "try", "northquay-stevedores", s.ID)
	require.Equal(t, 0, code, says)
	assert.Contains(t, out, "taken: Northquay Stevedores takes the secret")
	code, out, _ = run(t, "", "secret", "switch", "northquay-stevedores")
	require.Equal(t, 0, code)
	assert.Contains(t, out, "is in use")
	code, _, _ = run(t, "", "secret", "remove", "providers/northquay-stevedores", s.ID)
	require.Equal(t, 0, code)
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"secret", "list", "cargo-ledger"}, "write applications/ or providers/"},
		{[]string{"secret", "enter", "northquay-stevedores", "--ends", "soon"}, "is no day"},
		{[]string{"secret", "list", "applications/crew-rota"}, "speaks SAML"},
		{[]string{"console", "remove", "7"}, "no rule"},
		{[]string{"console", "add", "--provider", "nobody", "--value", "x", "--role", "viewer"}, "no provider"},
	} {
		code, _, says := run(t, "", c.args...)
		assert.NotEqual(t, 0, code, c.args)
		assert.Contains(t, says, c.says, c.args)
	}
	for _, args := range [][]string{{"app", "show", "cargo-ledger"}, {"provider", "show", "lantern-pass"}, {"provider", "list"},
		{"exchange", "app", "cargo-ledger"}, {"exchange", "provider", "northquay-stevedores"}} {
		code, out, says := run(t, "", args...)
		require.Equal(t, 0, code, says)
		assert.NotContains(t, out, made, args)
		if os.Getenv("INNERGATE_SHOW") != "" {
			t.Log(out)
		}
	}
}
