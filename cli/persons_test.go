package cli_test

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/demo"
)

func TestPeopleAndAccessCommands(t *testing.T) {
	w := world(t)
	ok := func(args ...string) string {
		t.Helper()
		code, out, says := run(t, "", args...)
		require.Equal(t, 0, code, "%v: %s", args, says)
		return out
	}
	fails := func(exit int, says string, args ...string) {
		t.Helper()
		code, out, told := run(t, "", args...)
		assert.Equal(t, exit, code, "%v", args)
		assert.Contains(t, out+told, says, "%v", args)
	}
	ok("group", "add", "Night Watch", "--description", "Who stays on board")
	assert.Contains(t, ok("group", "list"), "night-watch")
	ok("person", "add", "--set", "name=Gwen Fell", "--set", "email=gwen.fell@saltmere.example", "--groups", "night-watch, bridge")
	assert.Contains(t, ok("person", "show", "gwen"), "Night Watch")
	ok("person", "change", "gwen", "--set", "title=Skipper", "--set", "email=", "--groups", "bridge", "--deactivate")
	var gwen api.Person
	require.NoError(t, json.Unmarshal([]byte(ok("person", "show", "gwen", "-o", "json")), &gwen))
	assert.False(t, gwen.Active)
	assert.Equal(t, []string{"Skipper"}, gwen.Profile["title"])
	assert.Empty(t, gwen.Email)
	require.Len(t, gwen.Groups, 1)
	ok("person", "change", gwen.ID, "--activate", "--login", "gwen.fell")
	assert.Contains(t, ok("person", "password-link", "gwen"), "/own/")
	fails(2, "exclude one another", "person", "change", gwen.ID, "--activate", "--deactivate")
	fails(5, "Nobody's name", "person", "show", "nobody at all")
	fails(1, "no group with the short name", "person", "change", gwen.ID, "--groups", "ghosts")
	fails(2, "sets nothing", "person", "add", "--set", "name")

	require.NoError(t, demo.NewWalker(nil).SignIn(context.Background(), w.RotaURL+"/sign-in", "mvoss"))
	ok("access", "set", "crew-rota", "--to", "assigned")
	assert.Contains(t, ok("access", "why", "crew-rota", "mvoss"), "refuse, because: not assigned")
	ok("access", "assign", "crew-rota", "--group", "crew", "--role", "rota-editor")
	assert.Contains(t, ok("access", "why", "crew-rota", "mvoss"), "assigned through the group crew")
	assert.Contains(t, ok("access", "who", "crew-rota"), "rota-editor")
	assert.Contains(t, ok("access", "show", "crew-rota"), "Whoever is assigned")
	ok("access", "unassign", "crew-rota", "--group", "crew")
	fails(2, "either --person or --group", "access", "assign", "crew-rota")
	fails(2, "is no network address", "access", "why", "crew-rota", "mvoss", "--from", "here")
	policy := filepath.Join(t.TempDir(), "policy.yaml")
	require.NoError(
		t,
		os.WriteFile(policy, []byte("to: everybody\nrules:\n  - {name: weekend, if: {days: [sat, sun]}, then: refuse}\n"), 0o600),
	)
	assert.Contains(t, ok("access", "set", "crew-rota", "--file", policy), "Weekend: refuse whoever is here on sat or sun.")
	assert.Contains(t, ok("access", "why", "crew-rota", "mvoss", "--at", "2026-11-28T12:00:00Z"), "rule 1 (weekend)")
	assert.Contains(
		t, ok("access", "why", "crew-rota", "mvoss", "--at", "2026-11-27T12:00:00Z"),
		"passed over: rule 1 (weekend): not on sat, sun",
	)
	require.NoError(t, os.WriteFile(policy, []byte("rules: [{then: perhaps}]\n"), 0o600))
	fails(1, "is no result", "access", "set", "crew-rota", "--file", policy)
	ok("person", "remove", gwen.ID)
	fails(5, "Nobody's name", "person", "show", "gwen")
}

func TestRuleSetAndImportCommands(t *testing.T) {
	world(t)
	folder := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	set := write("set.yaml", "name: Ferry roles\nslug: ferry-roles\nkind: mapping\nmapping:\n  - {set: roles, from: groups}\n")
	code, out, says := run(t, "", "ruleset", "save", set, "--preview")
	require.Equal(t, 0, code, says)
	assert.Contains(t, out, "Crew Rota: makes roles another way")
	code, out, _ = run(t, "", "ruleset", "save", set)
	require.Equal(t, 0, code)
	assert.Contains(t, out, "acts at once")
	_, out, _ = run(t, "", "ruleset", "show", "ferry-roles")
	assert.Contains(t, out, "used by the application Crew Rota")
	code, _, says = run(t, "", "ruleset", "remove", "ferry-roles")
	assert.Equal(t, 1, code)
	assert.Contains(t, says, "is used by Crew Rota")
	_, out, _ = run(t, "", "ruleset", "list")
	assert.Contains(t, out, "Ferry roles")

	people := write(
		"people.jsonl",
		`{"profile":{"external_id":["a1"],"name":["Ada Lowe"],"email":["no mail"]}}`+"\n"+
			`{"profile":{"external_id":["a2"],"name":["Bo Ness"]}}`+"\n",
	)
	code, out, says = run(t, "", "person", "import", people)
	assert.Equal(t, 1, code)
	assert.Contains(t, out, `line 1: "no mail" is no mail address.`)
	assert.Contains(t, says, "nothing was written")
	code, out, says = run(t, "", "person", "import", people, "--skip-bad")
	require.Equal(t, 0, code, says)
	assert.Contains(t, out, "1 created")
	code, out, _ = run(t, "", "person", "import", people, "--skip-bad", "--preview")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "1 stay as they are")
	code, out, says = run(t, "", "person", "export", "--form", "jsonl")
	require.Equal(t, 0, code, says)
	assert.Contains(t, out, `"Bo Ness"`)
	assert.NotContains(t, out, "Ada")
}
