package cli_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"innergate/api"
	"innergate/cli/terminal"
)

func writeFile(t *testing.T, path, text string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
}

func readText(t *testing.T, path string) string {
	t.Helper()
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	return string(b)
}

// TestConfigurationInARepository goes out into a folder, is changed there, previewed, loaded, and taken back.
func TestConfigurationInARepository(t *testing.T) {
	w := world(t)
	require.NoError(t, w.Week(t.Context()))
	folder := filepath.Join(t.TempDir(), "gate")
	assert.Contains(t, good(t, "config", "export", "--folder", folder), "14 files in")
	assert.Contains(t, good(t, "config", "export", "--folder", folder), "0 of them are new or have changed")
	assert.Contains(t, good(t, "config", "preview", folder), "Everything is as the files say: 18 objects.")
	ledger := filepath.Join(folder, "applications", "cargo-ledger.yaml")
	text := readText(t, ledger)
	writeFile(t, ledger, strings.NewReplacer("to: everybody", "to: assigned", "name: Cargo Ledger", "name: Cargo Book").Replace(text))
	out := good(t, "config", "preview", folder)
	for _, line := range []string{"~ application cargo-ledger  (" + ledger + ":4)", "access.to", "- everybody", "+ assigned",
		"14 people lose access to Cargo Ledger.", "Mira Voss",
		"Would create 0, update 1 and remove 0; 17 are as the files say. Nothing was changed."} {
		if line != "Mira Voss" {
			assert.Contains(t, out, line)
		}
	}
	assert.Contains(t, good(t, "app", "show", "cargo-ledger"), "Cargo Ledger")
	assert.Contains(t, good(t, "config", "load", folder, "--remark", "only the assigned"), "Created 0, updated 1, removed 0")
	assert.Contains(t, good(t, "config", "load", folder), "Everything is as the files say")
	assert.Contains(t, good(t, "history", "list", "app/cargo-ledger"), "only the assigned")
	assert.Contains(t, good(t, "history", "show", "app/cargo-ledger", "1"), "From it to revision 2:")
	assert.Contains(t, good(t, "history", "show", "app/cargo-ledger", "1", "--whole"), "name: Cargo Ledger")
	assert.Contains(t, good(t, "history", "restore", "app/cargo-ledger", "1", "--preview"), "14 people get access to Cargo Book.")
	good(t, "history", "restore", "app/cargo-ledger", "1")
	assert.Contains(t, good(t, "config", "export", "--folder", folder), "1 of them are new or have changed")
	assert.Equal(t, text, readText(t, ledger), "and the file is as it was")
	writeFile(t, filepath.Join(folder, "applications", "old.yaml"), "# nothing here any more\n")
	_, _, says := run(t, "", "config", "export", "--folder", folder)
	assert.Contains(t, says, "old.yaml is not part of what the gate has")
	require.NoError(t, os.Remove(filepath.Join(folder, "applications", "old.yaml")))

	// A whole object that files made goes with its file, where that is asked for.
	extra := filepath.Join(folder, "applications", "tide-tables.yaml")
	writeFile(
		t, extra,
		"applications:\n  - {slug: tide-tables, name: Tide Tables, kind: link, startUrl: \"https://tides.saltmere.example/\"}\n",
	)
	good(t, "config", "load", folder)
	require.NoError(t, os.Remove(extra))
	assert.Contains(t, good(t, "config", "preview", folder, "--remove-absent"), "- application tide-tables")
	assert.Contains(t, good(t, "config", "load", folder, "--remove-absent"), "removed 1")
}

// TestWhatIsWrongWithFilesIsSaid: a misspelt key, a file that is not there, a credential that is missing.
func TestWhatIsWrongWithFilesIsSaid(t *testing.T) {
	world(t)
	folder := t.TempDir()
	file := filepath.Join(folder, "ledger.yaml")
	writeFile(t, file, "applications:\n  - slug: tides\n    name: Tides\n    kind: link\n    startUlr: https://tides.example/\n")
	code, _, says := run(t, "", "config", "load", file)
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, says, file+`:5: applications[0].startUlr: the key "startUlr" is not known here; "startUrl" is`)
	code, _, says = run(t, "", "config", "load", filepath.Join(folder, "legder.yaml"))
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, says, "there is no file "+filepath.Join(folder, "legder.yaml")+"; there is ledger.yaml beside it")
	_, _, says = run(t, "", "config", "preview", filepath.Join(folder, "nowhere", "gate.yaml"))
	assert.Contains(t, says, "its folder is not there either")
	_, _, says = run(t, "", "config", "preview", t.TempDir())
	assert.Contains(t, says, "holds no file that ends in .yaml or .yml")

	writeFile(t, file, "secrets:\n  - {for: providers/northquay-stevedores, env: QUAY_SECRET_OF_TEST}\n")
	_, _, says = run(t, "", "config", "load", file)
	assert.Contains(
		t, says,
		file+":2: secrets (providers/northquay-stevedores): the environment variable QUAY_SECRET_OF_TEST is not set where the command runs",
	)
	t.Setenv("QUAY_SECRET_OF_TEST", "another secret of the quay's")
	assert.Contains(t, good(t, "config", "load", file), "~ secret providers/northquay-stevedores")
	assert.Contains(t, good(t, "config", "load", file), "Everything is as the files say")
	writeFile(t, file, "secrets:\n  - {for: providers/northquay-stevedores, file: secret.text}\n")
	writeFile(t, filepath.Join(folder, "secret.txt"), "another secret of the quay's\n")
	_, _, says = run(t, "", "config", "load", file)
	assert.Contains(t, says, "there is secret.txt beside it")
	writeFile(t, file, "secrets:\n  - {for: providers/northquay-stevedores, file: secret.txt}\n")
	assert.Contains(t, good(t, "config", "load", file), "Everything is as the files say", "it is the same one")
	code, out, _ := run(t, "another secret of the quay's", "config", "seal", "providers/northquay-stevedores")
	require.Equal(t, 0, code)
	assert.NotContains(t, out, "another secret")
	writeFile(t, file, out)
	assert.Contains(t, good(t, "config", "load", file), "Everything is as the files say")
}

// TestSchemaFitsWhatIsExported holds the demo's own configuration against the schema for editors, and a misspelt key as
// well.
func TestSchemaFitsWhatIsExported(t *testing.T) {
	world(t)
	var schema any
	require.NoError(t, json.Unmarshal([]byte(good(t, "config", "schema")), &schema))
	compiler := jsonschema.NewCompiler()
	require.NoError(t, compiler.AddResource("config.json", schema))
	s, err := compiler.Compile("config.json")
	require.NoError(t, err)
	valid := func(text string) error {
		var doc any
		require.NoError(t, yaml.Unmarshal([]byte(text), &doc))
		b, err := json.Marshal(doc)
		require.NoError(t, err)
		var plain any
		require.NoError(t, json.Unmarshal(b, &plain))
		return s.Validate(plain)
	}
	text := good(t, "config", "export", "--sealed")
	require.NoError(t, valid(text))
	for _, wrong := range [][2]string{{"startUrl:", "startUlr:"}, {"reach: everyone", "reach: all"},
		{"realms: [QUAYSIDE.EXAMPLE]", "realms: QUAYSIDE.EXAMPLE"}} {
		require.Contains(t, text, wrong[0])
		assert.Error(t, valid(strings.Replace(text, wrong[0], wrong[1], 1)), wrong[0])
	}
	assert.Equal(
		t, readText(t, "../docs/config.schema.json"), good(t, "config", "schema"),
		"run `innergate config schema > docs/config.schema.json`",
	)
}

func TestJournalOnTheCommandLine(t *testing.T) {
	world(t)
	assert.Contains(t, good(t, "journal", "verify"), "lines fit one after the other")
	text := good(t, "journal", "export")
	file := filepath.Join(t.TempDir(), "journal.jsonl")
	writeFile(t, file, text)
	assert.Contains(t, good(t, "journal", "verify", file), "lines fit")
	lines := strings.SplitAfter(text, "\n")
	writeFile(t, file, strings.Join(append(append([]string{}, lines[:3]...), lines[4:]...), ""))
	code, _, says := run(t, "", "journal", "verify", file)
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, says, "line 5 of the journal does not follow the one before")
	code, _, says = run(t, "", "journal", "verify", "--has", strings.Repeat("a", 64))
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, says, "is not there any more")
}

// TestManyAtOnceReportsAndMoves uses the commands for many applications on the demo.
func TestManyAtOnceReportsAndMoves(t *testing.T) {
	w := world(t)
	folder := t.TempDir()
	require.NoError(t, w.Walker().Get(t.Context(), w.DeskURL+"/metadata"))
	b := w.Walker()
	require.NoError(t, b.Get(t.Context(), w.DeskURL+"/metadata"))
	writeFile(t, filepath.Join(folder, "desk.xml"), b.Text)
	writeFile(t, filepath.Join(folder, "letter.txt"), "Dear colleague, please find attached.")
	var batch api.Batch
	require.NoError(t, json.Unmarshal([]byte(good(t, "batch", "new", folder, "-o", "json")), &batch))
	require.Len(t, batch.Rows, 2)
	assert.Equal(t, []string{"value", "no"}, []string{batch.Rows[0].State, batch.Rows[1].State})
	assert.Contains(t, batch.Rows[0].Notes, "No provider is chosen.")
	code, _, says := run(t, "", "batch", "make", batch.ID)
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, says, "Nothing in the batch is ready")
	assert.Contains(
		t,
		good(t, "batch", "set", batch.ID, "1", "--provider", "saltmere-staff", "--name", "Ticket Desk", "--short-name", "desk"),
		"1 ready",
	)
	assert.Contains(t, good(t, "batch", "make", batch.ID), "1 made")
	assert.Contains(t, good(t, "batch", "list"), "1 of 2")
	assert.Contains(t, good(t, "app", "show", "desk"), "Ticket Desk")

	list := "name,url,providers\nDesk again," + w.DeskURL + "/metadata,saltmere-staff\nnothing\nLost," + w.DeskURL +
		"/nowhere,saltmere-staff\nBad,not-an-address,\n"
	code, out, says := run(t, list, "batch", "new", "--list", "-")
	require.Equal(t, 0, code, says)
	for _, line := range []string{"It is there already as Ticket Desk (desk)", "There are 3 columns, and it has 1.", "404",
		`"not-an-address" is no http or https address.`, "0 ready, 0 need a value, 0 need a decision, 4 can't be"} {
		assert.Contains(t, out, line)
	}
	code, _, says = run(t, "nmae,url\n", "batch", "new", "--list", "-")
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, says, `column "nmae" is not known; "name" is`)
	good(t, "source", "refresh", "harbours")
	assert.Contains(t, good(t, "batch", "new", "--source", "harbours", "--side", "provider"), "4 need a value")

	out = good(t, "report", "--provider", "saltmere-staff")
	assert.Contains(t, out, "Crew Rota")
	assert.Contains(t, out, "crew-office@saltmere.example")
	csv := good(t, "report", "--csv")
	assert.True(t, strings.HasPrefix(csv, "short_name,name,kind,reach,owner"))
	assert.Contains(t, csv, "crew-rota,Crew Rota,saml,everyone")
	assert.Contains(t, good(t, "report", "providers", "--sort", "-name"), "Saltmere Staff")
	assert.Contains(t, good(t, "report", "--unused", "1", "--kind", "oidc"), "Dockhand")
	assert.NotContains(t, good(t, "report", "--expires", "10"), "Crew Rota")
	code, _, says = run(t, "", "report", "--sort", "colour")
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, says, "can't be sorted")

	out = good(
		t, "move", "new", "To the north quay", "--from", "saltmere-staff", "--to", "northquay-stevedores", "--apps",
		"dockhand,desk", "--groups", "crew",
	)
	assert.Contains(t, out, "0 of 2 applications have moved")
	assert.Contains(t, good(t, "move", "plan", "to-the-north-quay", "2", "--apps", "desk", "--failures", "0"), "Wave 2: planned.")
	assert.Contains(t, good(t, "move", "trial", "to-the-north-quay", "dockhand"), w.URL+"/side-by-side/")
	assert.Contains(t, good(t, "move", "open", "to-the-north-quay", "1"), "Wave 1: open until")
	assert.Contains(t, good(t, "move", "compare", "to-the-north-quay"), "Nobody has signed in both ways yet.")
	assert.Contains(t, good(t, "move", "back", "to-the-north-quay", "1", "--reason", "too early"), "too early")
	assert.Contains(t, good(t, "move", "list"), "0 of 2")
	code, out, _ = run(t, "", "move", "uses", "saltmere-staff")
	assert.Equal(t, terminal.ExitFailed, code)
	assert.Contains(t, out, "applications still have Saltmere Staff")
	good(t, "move", "end", "to-the-north-quay")

	link := strings.TrimSpace(good(t, "handover", "new", "app/desk", "--hours", "2", "--remark", "your certificate"))
	assert.Contains(t, link, w.URL+"/handover/")
	out = good(t, "handover", "list", "app/desk")
	assert.Contains(t, out, "open, until")
	good(t, "handover", "revoke", strings.SplitN(out, ":", 2)[0])
	assert.Contains(t, good(t, "handover", "list", "app/desk"), "revoked")

	// A change is proposed from a file, rehearsed, and applied.
	file := filepath.Join(folder, "gate.yaml")
	writeFile(t, file, strings.Replace(good(t, "config", "export"), "name: Dockhand", "name: Dock Hand", 1))
	out = good(t, "history", "propose", "app/dockhand", file, "--remark", "two words")
	id := strings.SplitN(out, ":", 2)[0]
	assert.Contains(t, good(t, "history", "proposals"), "two words")
	assert.Contains(t, good(t, "rehearse", "dockhand", "--proposal", id), "/rehearse/")
	assert.Contains(t, good(t, "history", "apply", id), "applied")
	assert.Contains(t, good(t, "app", "show", "dockhand"), "Dock Hand")
	code, _, says = run(t, "", "history", "restore", "app/dockhand")
	assert.Equal(t, terminal.ExitUsage, code)
	assert.Contains(t, says, "name an object and a revision")
	code, _, says = run(t, "", "history", "show", "boat/x", "1")
	assert.Equal(t, terminal.ExitUsage, code)
	assert.Contains(t, says, "names no object")
}
