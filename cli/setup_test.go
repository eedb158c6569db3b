package cli_test

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/cli"
	"innergate/cli/terminal"
	"innergate/testbed"
	"innergate/web"
)

// TestFirstAdministratorFromTheCommandLine makes one on the data folder while the service runs; before that, logging in says that
// there is none.
func TestFirstAdministratorFromTheCommandLine(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "data")
	ctx, cancel := context.WithCancel(context.Background())
	var out lockedBuffer
	done := make(chan int)
	go func() {
		done <- cli.Run(ctx, []string{"innergate", "serve", "--listen", "127.0.0.1:0", "--data", folder},
			terminal.Streams{In: strings.NewReader(""), Out: &out, Err: &out}, terminal.Build{Version: "test", Console: web.Console()})
	}()
	defer func() { cancel(); assert.Equal(t, 0, <-done) }()
	ready := func() bool { return strings.Contains(out.String(), "Inner Gate is ready") }
	require.Eventually(t, ready, testbed.Patience, 10*time.Millisecond)
	_, after, _ := strings.Cut(out.String(), " listen=")
	address := "http://" + strings.Fields(after)[0]
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())

	code, _, says := run(t, "a password of mine\n", "login", address, "--name", "Fenna")
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, says, "nobody is an administrator of this gate yet")
	code, _, says = run(t, "short\n", "set-up", "--name", "Fenna", "--data", folder)
	assert.NotEqual(t, 0, code, says)
	code, said, says := run(t, "a password of mine\n", "set-up", "--name", "Fenna", "--data", folder)
	require.Equal(t, 0, code, says)
	assert.Contains(t, said, "Fenna is the first administrator")
	code, _, says = run(t, "another password\n", "set-up", "--name", "Gwen", "--data", folder)
	assert.NotEqual(t, 0, code)
	assert.Contains(t, says, "There is an administrator already")
	code, _, says = run(t, "a password of mine\n", "login", address, "--name", "Fenna")
	assert.Equal(t, 0, code, says)
	code, _, says = run(t, "x\n", "set-up", "--name", "Fenna", "--data", t.TempDir())
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, says, "there is no database")
}

// TestPartnersFromTheCommandLine adds them with one source each and what else must be known, and is told what comes next.
func TestPartnersFromTheCommandLine(t *testing.T) {
	w := world(t)
	code, out, says := run(t, "the-secret-they-gave\n", "provider", "add", w.NorthquayURL, "--name", "Second Quay", "--client-id",
		"saltmere-gate", "--with-secret")
	require.Equal(t, 0, code, says)
	assert.Contains(t, out, "Next: try our secret")
	assert.NotContains(t, out+says, "the-secret-they-gave")
	var p api.Provider
	require.NoError(t, json.Unmarshal([]byte(good(t, "provider", "show", "second-quay", "-o", "json")), &p))
	assert.Equal(t, "saltmere-gate", p.OIDC.ClientID)
	code, out, says = run(t, "", "secret", "try", "second-quay")
	require.Equal(t, 0, code, says)
	assert.Contains(t, out, "refused", "it is not the right one, and it is the only one")

	file := filepath.Join(t.TempDir(), "client.json")
	require.NoError(t, os.WriteFile(file, []byte(`{"client_name":"Pilot Log","redirect_uris":["https://pilots.saltmere.example/answer"],`+
		`"scope":"openid email groups"}`), 0o600))
	out = good(t, "app", "add", file, "--provider", "second-quay", "--access", "everybody")
	assert.Contains(t, out, "a guess")
	var added, taken api.Application
	require.NoError(t, json.Unmarshal([]byte(good(t, "app", "show", "pilot-log", "-o", "json")), &added))
	good(t, "app", "add", "--name", "Pilot Log Two", "--kind", "oidc")
	good(t, "app", "take", "pilot-log-two", file)
	require.NoError(t, json.Unmarshal([]byte(good(t, "app", "show", "pilot-log-two", "-o", "json")), &taken))
	assert.Equal(t, added.OIDC.Scopes, taken.OIDC.Scopes, "add and take keep the same")
	assert.Equal(t, []string{"openid", "email", "groups"}, taken.OIDC.Scopes)

	assert.Contains(t, good(t, "app", "reach", "pilot-log", "everyone"), "None of its providers is open (Second Quay is a draft)")
	assert.Contains(t, good(t, "exchange", "pilot-log"), "For the engineer of Pilot Log")
	assert.Contains(t, good(t, "exchange", "second-quay"), "For the engineer of Second Quay")
	code, _, says = run(t, "", "exchange", "nobody")
	assert.NotEqual(t, 0, code, says)
	assert.Contains(t, good(t, "person", "password-link", "runa.holt"), "/own/")
	assert.Contains(t, good(t, "explain"), "NoAuthnContext")
}
