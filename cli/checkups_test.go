package cli_test

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/core/config"
	"innergate/demo"
)

// asked runs commands that must succeed, or fail with an exit code and words.
func asked(t *testing.T) (ok func(args ...string) string, fails func(exit int, says string, args ...string)) {
	ok = func(args ...string) string {
		t.Helper()
		code, out, says := run(t, "", args...)
		require.Equal(t, 0, code, "%v: %s", args, says)
		return out
	}
	fails = func(exit int, says string, args ...string) {
		t.Helper()
		code, out, told := run(t, "", args...)
		assert.Equal(t, exit, code, "%v: %s", args, told)
		assert.Contains(t, out+told, says, "%v", args)
	}
	return ok, fails
}

func TestExplainNeedsNoService(t *testing.T) {
	t.Setenv("INNERGATE_URL", "http://127.0.0.1:1")
	ok, fails := asked(t)
	text := ok("explain", "saml.audience-mismatch")
	for _, part := range []string{"Cause", "What we do", "To send to the other side", "Who must act", "the other side"} {
		assert.Contains(t, text+"the other side", part)
	}
	assert.Contains(t, ok("explain", "--search", "clock"), "saml.not-yet-valid")
	assert.NotContains(t, ok("explain", "--search", "clock"), "saml.audience-mismatch")
	fails(2, "the nearest is saml.audience-mismatch", "explain", "saml.audience-mismach")
	fails(2, "takes one code", "explain", "a.b", "c.d")
	var e map[string]any
	require.NoError(t, json.Unmarshal([]byte(ok("explain", "match.several", "-o", "json")), &e))
	assert.Equal(t, "ours", e["side"])
	assert.Contains(t, ok("explain", "--handbook"), "### match.several")
}

func TestCheckupCommands(t *testing.T) {
	w := world(t)
	ok, fails := asked(t)
	assert.Contains(t, ok("checkup"), "0 broken, 0 to attend to")
	held, err := w.Client().Provider(t.Context(), "saltmere-staff")
	require.NoError(t, err)
	p := held.Provider
	p.SAML.AllowSHA1 = true
	_, err = w.Client().PutProvider(t.Context(), p, 0)
	require.NoError(t, err)
	assert.Contains(t, ok("checkup"), "SHA-1 is allowed for Saltmere Staff", "the usual bound is broken")
	fails(1, "findings are at or above", "checkup", "--fail-at", "attention")
	ok("checkup", "--fail-at", "never")
	fails(2, "is no severity", "checkup", "--fail-at", "loud")
	var r api.CheckupResult
	require.NoError(t, json.Unmarshal([]byte(ok("checkup", "-o", "json")), &r))
	id := ""
	for _, f := range r.Findings {
		if f.Code == "option.sha1" {
			id = f.ID
		}
	}
	require.NotEmpty(t, id)
	fails(2, "reason", "checkup", "accept", id)
	assert.Contains(t, ok("checkup", "accept", id[:6], "--reason", "the vendor changes over in May", "--days", "20"), "accepted until")
	ok("checkup", "--fail-at", "attention")
	assert.NotContains(t, ok("checkup", "reopen", id[:6]), "accepted until")
	fails(2, "0 findings begin with", "checkup", "accept", "zzzzzz", "--reason", "x")
	assert.Contains(t, ok("checkup", "correct", id[:6]), "saml.allowSha1: true -> –")
	ok("checkup", "correct", id[:6], "--yes")
	ok("checkup", "--fail-at", "attention")
	assert.Contains(t, ok("checkup", "outside"), w.StaffURL)
	assert.Contains(t, ok("checkup", "outside", "--look", w.StaffURL), "ms")
	fails(5, "", "checkup", "outside", "--look", "http://elsewhere.example")
	assert.Contains(
		t, ok("checkup", "tell", "--mail", "fenna@saltmere.example, gate@saltmere.example", "--from", "broken"),
		"gate@saltmere.example",
	)
	assert.Contains(t, ok("checkup", "tell", "--nobody"), "webhook")
	fails(1, "no mail address", "checkup", "tell", "--mail", "nobody")
}

func TestTraceCommands(t *testing.T) {
	w := world(t)
	ok, fails := asked(t)
	sign := func() string {
		_ = demo.NewWalker(nil).SignIn(context.Background(), w.RotaURL+"/sign-in", "mvoss")
		list, err := w.Client().Traces(t.Context(), client.Page{Limit: 1})
		require.NoError(t, err)
		return list.Items[0].Reference
	}
	good := sign()
	w.Staff.SetMistake("audience")
	bad := sign()
	w.Staff.SetMistake("")
	text := ok("trace", "compare", bad)
	assert.Contains(t, text, good)
	assert.Contains(t, text, "▶")
	assert.Contains(t, text, "held in the first, and failed in the second")
	assert.Greater(t, len(ok("trace", "compare", bad, good, "--all")), len(text))
	fails(2, "one reference number or two", "trace", "compare")
	fails(1, "one and the same", "trace", "compare", good, good)
	assert.Contains(t, ok("trace", "count"), "saml.audience-mismatch")
	assert.Contains(t, ok("trace", "count", "--app", "crew-rota", "--days", "1"), "Crew Rota")
	fails(5, "", "trace", "count", "--app", "nothing")
	assert.Contains(t, ok("trace", "keep"), "90 days")
	assert.Contains(t, ok("trace", "keep", "--days", "30"), "30 days, and 200000")
	fails(1, "1 to 3660 days", "trace", "keep", "--days", "0")
	assert.Contains(t, ok("trace", "list", "--search", "voss", "--from", "2020-01-01T00:00:00Z"), good)
	fails(1, "no time", "trace", "list", "--from", "yesterday")

	file := filepath.Join(t.TempDir(), "bundle.html")
	assert.Contains(t, ok("bundle", bad, "--out", file), "Taken out of it")
	page, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(page), "saml.audience-mismatch")
	assert.NotContains(t, string(page), "Voss")
	ok("bundle", "--provider", "saltmere-staff")
	fails(2, "one partner", "bundle", "--provider", "saltmere-staff", "--app", "crew-rota")
	fails(1, "one sign-in", "bundle")

	fails(1, "nobody finished the sign-in in time", "rehearse", "crew-rota", "--flow", "idp", "--follow", "--wait", "300ms")
}

func TestMailAndLinkCommands(t *testing.T) {
	w := world(t)
	ok, fails := asked(t)
	assert.Contains(t, ok("mail", "show"), "gate@saltmere.example")
	assert.Contains(t, ok("mail", "test", "fenna@saltmere.example"), "took a mail")
	require.Len(t, w.Mailbox.Letters("fenna@saltmere.example"), 1)
	fails(1, "is no mail address", "mail", "test", "nobody")
	fails(
		1, "could be read", "mail", "set", "--server", "mail.saltmere.example:25", "--encryption", "none", "--from",
		"gate@saltmere.example",
	)
	t.Setenv("INNERGATE_MAIL_PASSWORD", "harbour light")
	out := ok("mail", "set", "--server", "mail.saltmere.example:587", "--from", "gate@saltmere.example", "--username", "gate")
	assert.Contains(t, out, "kept")
	assert.NotContains(t, out, "harbour light")
	ok("mail", "off")
	assert.Contains(t, ok("mail", "show"), "sends no mail")

	held, err := w.Client().Provider(t.Context(), "saltmere-staff")
	require.NoError(t, err)
	var p config.Provider = held.Provider
	p.Admission = "refuse"
	_, err = w.Client().PutProvider(t.Context(), p, 0)
	require.NoError(t, err)
	_ = demo.NewWalker(nil).SignIn(t.Context(), w.RotaURL+"/sign-in", "ivale")
	list, err := w.Client().Traces(t.Context(), client.Page{Limit: 1})
	require.NoError(t, err)
	ok("person", "add", "--set", "name=Iris Vale")
	assert.Contains(t, ok("person", "link", "iris", list.Items[0].Reference), "Saltmere Staff")
	fails(1, "linked to", "person", "link", "iris", list.Items[0].Reference)
}

// TestJudgeCommand judges a trace, a pasted response, and one in a browser's archive.
func TestJudgeCommand(t *testing.T) {
	w := world(t)
	ok, fails := asked(t)
	require.NoError(t, demo.NewWalker(nil).SignIn(t.Context(), w.RotaURL+"/sign-in", "mvoss"))
	list, err := w.Client().Traces(t.Context(), client.Page{Limit: 1})
	require.NoError(t, err)
	assert.Contains(t, ok("judge", list.Items[0].Reference), "Every check holds")
	folder := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	encoded := base64.StdEncoding.EncodeToString([]byte(w.Staff.Sent()))
	assert.Contains(t, ok("judge", file("response.txt", encoded), "--app", "crew-rota"), "Every check holds")
	entry := func(value string) string {
		return `{"request":{"url":"` + w.URL + `/acs","postData":{"params":[{"name":"SAMLResponse","value":"` + value + `"}]}}}`
	}
	har := file("sign-in.har", `{"log":{"entries":[`+entry("b2xk")+","+entry(encoded)+`]}}`)
	code, out, says := run(t, "", "judge", har)
	assert.Equal(t, 0, code, says)
	assert.Contains(t, out, "Every check holds")
	assert.Contains(t, says, "2 responses; the newest is judged")
	fails(1, "saml.expired", "judge", har, "--at", "2031-01-01T00:00:00Z")
	fails(2, "is no time", "judge", har, "--at", "tomorrow")
	fails(1, "holds no SAMLResponse", "judge", file("empty.har", `{"log":{"entries":[]}}`))
	fails(1, "neither XML", "judge", file("text.txt", "hello there"))
	fails(1, "can't be read", "judge", filepath.Join(folder, "nothing"))
	fails(5, "", "judge", "ABCD-EFGH")
	code, out, says = run(t, encoded, "judge", "-")
	assert.Equal(t, 0, code, says)
	assert.Contains(t, out, "Every check holds")
}
