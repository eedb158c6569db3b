package cli_test

import (
	"bytes"
	"context"
	"encoding/json"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/cli"
	"innergate/cli/terminal"
	"innergate/core/saml"
	"innergate/demo"
	"innergate/testbed"
	"innergate/web"
)

// run runs one command line and returns the exit code with what it printed.
func run(t testing.TB, in string, args ...string) (int, string, string) {
	t.Helper()
	var out, err bytes.Buffer
	code := cli.Run(
		context.Background(),
		append([]string{"innergate"}, args...),
		terminal.Streams{In: strings.NewReader(in), Out: &out, Err: &err},
		terminal.Build{Version: "test", Console: web.Console()},
	)
	return code, out.String(), err.String()
}

func world(t testing.TB) *demo.World {
	t.Helper()
	w := testbed.World(t, demo.Options{})
	t.Setenv("INNERGATE_URL", w.URL)
	t.Setenv("INNERGATE_TOKEN", w.Token)
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	return w
}

func TestUsageErrorsAreOneSentence(t *testing.T) {
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"nonsense"}, terminal.ExitUsage, `no command "innergate nonsense"`},
		{[]string{"app", "nonsense"}, terminal.ExitUsage, "no command"},
		{[]string{"app", "list", "--nonsense"}, terminal.ExitUsage, "nonsense"},
		{[]string{"app", "show"}, terminal.ExitUsage, "SHORTNAME is missing"},
		{[]string{"app", "show", "a", "b"}, terminal.ExitUsage, `"b" is too much`},
		{[]string{"app", "list"}, terminal.ExitUsage, "innergate login"},
		{[]string{"--output", "paper", "keys", "list"}, terminal.ExitUsage, "no form of output"},
		{[]string{"serve", "--log-level", "loud"}, terminal.ExitUsage, "no log level"},
		{[]string{"serve", "--trusted-proxies", "everybody"}, terminal.ExitUsage, "no network"},
		{[]string{"serve", "--tls-cert", "x"}, terminal.ExitUsage, "go together"},
		{[]string{"demo", "--keep", "x"}, terminal.ExitUsage, "--check"},
		{[]string{"metadata", "read", "/nowhere/file.xml"}, terminal.ExitFailed, "can't be read: no such file"},
		{[]string{"--url", "http://127.0.0.1:1", "app", "list"}, terminal.ExitUnreachable, "does not answer"},
		{[]string{"token", "new"}, terminal.ExitUsage, "name"},
	} {
		code, out, err := run(t, "", c.args...)
		assert.Equal(t, c.code, code, "%v: %s", c.args, err)
		assert.Contains(t, err, c.says, c.args)
		assert.Empty(t, out, c.args)
		assert.LessOrEqual(t, strings.Count(strings.TrimSpace(err), "\n"), 1, err)
	}
}

func TestEveryCommandShowsAnExample(t *testing.T) {
	code, out, _ := run(t, "", "--help")
	require.Equal(t, 0, code)
	assert.Contains(t, out, "Examples:")
	commands := regexp.MustCompile(`(?m)^  ([a-z]+) {2,}`)
	for _, m := range commands.FindAllStringSubmatch(out, -1) {
		if m[1] == "innergate" {
			continue
		}
		code, help, _ := run(t, "", m[1], "--help")
		assert.Equal(t, 0, code)
		assert.Contains(t, help, "Examples:", m[1])
		for _, sub := range commands.FindAllStringSubmatch(help, -1) {
			_, deep, _ := run(t, "", m[1], sub[1], "--help")
			assert.Contains(t, deep, "Examples:", m[1]+" "+sub[1])
		}
	}
}

func TestServeExplainsWhatIsWrong(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	code, _, says := run(t, "", "serve", "--listen", l.Addr().String(), "--data", t.TempDir())
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, says, "address already in use")
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, []byte("x"), 0o600))
	_, _, says = run(t, "", "serve", "--listen", "127.0.0.1:0", "--data", file)
	assert.Contains(t, says, "data folder")
	_, _, says = run(t, "", "serve", "--listen", "127.0.0.1:0", "--data", t.TempDir(), "--public-url", "gate.saltmere.example")
	assert.Contains(t, says, "must be an http or https address")
	t.Setenv("INNERGATE_SETTINGS", file+".yaml")
	_, _, says = run(t, "", "serve")
	assert.Contains(t, says, "can't be read")
	require.NoError(t, os.WriteFile(file+".yaml", []byte("listne: x\n"), 0o600))
	_, _, says = run(t, "", "serve")
	assert.Contains(t, says, `"listne", which is not known`)
}

// TestServeFromSettingsFile starts the service from a file, sees the set-up link, and stops it gracefully.
func TestServeFromSettingsFile(t *testing.T) {
	folder := t.TempDir()
	file := filepath.Join(folder, "settings.yaml")
	require.NoError(
		t,
		os.WriteFile(file, []byte("listen: 127.0.0.1:0\ndata: "+folder+"/data\nlog-level: error\ntrusted-proxies: [10.0.0.0/8]\n"), 0o600),
	)
	t.Setenv("INNERGATE_SETTINGS", file)
	ctx, cancel := context.WithCancel(context.Background())
	var out lockedBuffer
	done := make(chan int)
	go func() {
		done <- cli.Run(ctx, []string{"innergate", "serve"}, terminal.Streams{In: strings.NewReader(""), Out: &out, Err: &out},
			terminal.Build{Version: "test", Console: web.Console()})
	}()
	require.Eventually(t, func() bool { return strings.Contains(out.String(), "/console/set-up#") }, testbed.Patience, 10*time.Millisecond)
	cancel()
	assert.Equal(t, 0, <-done)
	// The master key belongs to the database: without it nothing is made anew beside it.
	require.NoError(t, os.Remove(filepath.Join(folder, "data", "master.key")))
	_, _, says := run(t, "", "serve")
	assert.Contains(t, says, "is missing; without it the secrets")
}

func TestClientCommands(t *testing.T) {
	w := world(t)
	metadata, err := w.Desk.Metadata()
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "desk.xml")
	require.NoError(t, os.WriteFile(file, metadata, 0o600))
	code, out, says := run(
		t, "", "app", "add", "--metadata", file, "--provider", "saltmere-staff", "--start-url", w.DeskURL+"/sign-in",
		"--access", "everybody",
	)
	require.Equal(t, 0, code, says)
	assert.Contains(t, out, "It is a draft")
	assert.Contains(t, says, "a guess")
	code, out, _ = run(t, "", "app", "list", "--search", "desk", "-o", "json")
	require.Equal(t, 0, code)
	var list struct {
		Items []struct{ Slug, Reach string }
	}
	require.NoError(t, json.Unmarshal([]byte(out), &list))
	require.Len(t, list.Items, 1)
	assert.Equal(t, "draft", list.Items[0].Reach)

	code, out, says = run(t, "", "rehearse", "ticket-desk")
	require.Equal(t, 0, code, says)
	link := regexp.MustCompile(`http\S+/rehearse/\S+`).FindString(out)
	b := demo.NewWalker(nil)
	require.NoError(t, b.Rehearse(context.Background(), link, "mvoss"))
	assert.Contains(t, b.Text, "Ticket Desk: you are signed in")

	code, _, says = run(t, "", "app", "reach", "ticket-desk", "everyone")
	require.Equal(t, 0, code, says)
	b = demo.NewWalker(nil)
	require.NoError(t, b.SignIn(context.Background(), w.DeskURL+"/sign-in", "mvoss"))
	first := b.Inner("nameid")
	require.NotEmpty(t, first)
	b = demo.NewWalker(nil)
	require.NoError(t, b.SignIn(context.Background(), w.DeskURL+"/sign-in", "mvoss"))
	assert.Equal(t, first, b.Inner("nameid"), "a pairwise identifier is stable")
	b = demo.NewWalker(nil)
	require.NoError(t, b.SignIn(context.Background(), w.DeskURL+"/sign-in", "jhale"))
	assert.NotEqual(t, first, b.Inner("nameid"))

	w.Staff.SetMistake("audience")
	b = demo.NewWalker(nil)
	require.NoError(t, b.SignIn(context.Background(), w.RotaURL+"/sign-in", "mvoss"))
	_, out, _ = run(t, "", "trace", "list", "--outcome", "refused")
	assert.Contains(t, out, "saml.audience-mismatch")
	reference := regexp.MustCompile(`[2-9A-Z]{4}-[2-9A-Z]{4}`).FindString(out)
	_, out, _ = run(t, "", "trace", "show", reference, "--messages")
	for _, text := range []string{"The assertion is meant for somebody else", "something was added at the end", "<saml:Audience>",
		"✕ Audience is our entity ID"} {
		assert.Contains(t, out, text)
	}
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"app", "show", "crew-rota"}, "Mapping out"},
		{[]string{"provider", "list"}, "saltmere-staff"},
		{[]string{"provider", "show", "saltmere-staff"}, "strangers created"},
		{[]string{"exchange", "app", "crew-rota", "--markdown"}, "# For the engineer of Crew Rota"},
		{[]string{"exchange", "provider", "saltmere-staff"}, "ACS URL"},
		{[]string{"keys", "list"}, "saml-signing"},
		{[]string{"journal", "list"}, "created application"},
		{[]string{"token", "list"}, "demo"},
		{[]string{"metadata", "ours", "--signed"}, "<ds:Signature"},
		{[]string{"metadata", "read", file}, "Nothing is wrong"},
		{[]string{"app", "take", "ticket-desk", file, "--preview"}, "Nothing changes"},
		{[]string{"config", "export"}, "slug: ticket-desk"},
		{[]string{"app", "show", "crew-rota", "-o", "yaml"}, "slug: crew-rota"},
		{[]string{"openapi"}, `"openapi": "3.1.0"`},
	} {
		code, out, says := run(t, "", c.args...)
		assert.Equal(t, 0, code, "%v: %s", c.args, says)
		assert.Contains(t, out, c.says, c.args)
	}
	_, text, _ := run(t, "", "config", "export")
	code, out, says = run(t, text, "config", "load", "-")
	assert.Equal(t, 0, code, says)
	assert.NotContains(t, out, "updated")
	code, _, says = run(t, "", "app", "show", "nobody")
	assert.Equal(t, terminal.ExitNotFound, code)
	assert.Contains(t, says, `no application "nobody"`)
	_, secret, _ := run(t, "", "token", "new", "--name", "pipeline")
	t.Setenv("INNERGATE_TOKEN", strings.TrimSpace(secret))
	code, _, says = run(t, "", "app", "remove", "ticket-desk")
	assert.Equal(t, terminal.ExitNotAllowed, code)
	assert.Contains(t, says, "yours is viewer")
}

func TestLogin(t *testing.T) {
	w := world(t)
	t.Setenv("INNERGATE_URL", "")
	t.Setenv("INNERGATE_TOKEN", "")
	code, out, says := run(t, w.Password+"\n", "login", w.URL, "--name", w.Name)
	require.Equal(t, 0, code, says)
	assert.Contains(t, out, "role owner")
	code, out, _ = run(t, "", "app", "list")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "crew-rota")
	code, _, says = run(t, "wrong password\n", "login", w.URL, "--name", w.Name)
	assert.Equal(t, terminal.ExitNotAllowed, code)
	assert.Contains(t, says, "Name or password is wrong")
	assert.NotContains(t, says, "wrong password\n")
}

// TestMetadataReadForPrograms holds the JSON form of metadata read.
func TestMetadataReadForPrograms(t *testing.T) {
	w := world(t)
	doc, err := w.Staff.Metadata()
	require.NoError(t, err)
	code, out, _ := run(t, string(doc), "metadata", "read", "-", "--output", "json")
	require.Equal(t, 0, code)
	var got struct {
		Entities []struct {
			EntityID    string `json:"entityId"`
			ValidUntil  string
			DisplayName string
			Roles       []struct {
				Role         string
				Endpoints    []map[string]any
				Certificates []map[string]any
			}
		}
		Problems []map[string]string
	}
	require.NoError(t, json.Unmarshal([]byte(out), &got))
	require.Len(t, got.Entities, 1)
	assert.Equal(t, "Saltmere Staff", got.Entities[0].DisplayName)
	role := got.Entities[0].Roles[0]
	assert.Equal(t, "idp", role.Role)
	bindings := map[any]any{}
	for _, e := range role.Endpoints {
		bindings[e["binding"]] = e["service"]
	}
	assert.Equal(t, map[any]any{"SOAP": saml.ServiceArtifact, "HTTP-Redirect": saml.ServiceSSO, "HTTP-POST": saml.ServiceSSO}, bindings)
	for _, key := range []string{"service", "binding", "location", "index", "default"} {
		assert.Contains(t, role.Endpoints[0], key)
	}
	for _, key := range []string{"use", "sha256", "subject", "notBefore", "notAfter"} {
		assert.Contains(t, role.Certificates[0], key)
	}
	assert.NotNil(t, got.Problems)
	code, out, says := run(t, "<html></html>", "metadata", "read", "-", "--output", "json")
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, out, "metadata.html")
	assert.Contains(t, says, "nothing in - can be used")
}

func TestDecode(t *testing.T) {
	for in, says := range map[string]string{
		"<samlp:Response xmlns:samlp='urn:oasis:names:tc:SAML:2.0:protocol'/>": "Response",
		"PGEvPg==": "HTTP-POST",
		"https://gate.saltmere.example/x?SAMLRequest=s0nUtwMA&RelayState=r": "RelayState: r",
		"eyJhbGciOiJSUzI1NiJ9.eyJleHAiOjE3OTU0MjUyNjd9.c2ln":                "RS256",
	} {
		code, out, err := run(t, in, "decode", "-")
		assert.Equal(t, 0, code, "%s: %s", in, err)
		assert.Contains(t, out, says)
		assert.Contains(t, out, "Nothing here was verified")
	}
	for in, says := range map[string]string{"": "nothing to decode", "hello world!": "neither XML", "<a>": "not well formed",
		"aGVsbG8=": "neither XML nor deflated"} {
		code, _, err := run(t, in, "decode", "-")
		assert.Equal(t, terminal.ExitFailed, code)
		assert.Contains(t, err, says)
	}
}

func TestDemoCheck(t *testing.T) {
	keep := t.TempDir()
	code, out, says := run(t, "", "demo", "--check", "--keep", keep)
	assert.Equal(t, 0, code, says+out)
	assert.Contains(t, out, "all sign-ins work")
	files, err := filepath.Glob(filepath.Join(keep, "*.xml"))
	require.NoError(t, err)
	assert.Greater(t, len(files), 10)
	code, out, says = run(t, "", "demo", "--check", "--tls")
	assert.Equal(t, 0, code, says+out)
	assert.Contains(t, out, "https://gate.saltmere.example:")
}
