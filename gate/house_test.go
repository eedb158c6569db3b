package gate_test

import (
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// order is the order in which the rooms stand on each other: each imports those before it, and none after it.
var order = []string{
	"fetch", "ground", "issued", "keyring", "partners", "messages", "traces", "sessions", "persons", "accounts", "grants", "signin",
	"directory",
	"ldapdir", "kerberos", "readings", "pushed", "console", "signout", "guarded", "configuration", "watch", "sources", "changes",
	"rehearsal",
	"exchange", "moves", "checkups",
	"node", "copies",
	"portal",
}

// sources are the Go files of a folder that are not tests.
func sources(t *testing.T, folder string) map[string]string {
	t.Helper()
	paths, err := filepath.Glob(filepath.Join(folder, "*.go"))
	require.NoError(t, err)
	out := map[string]string{}
	for _, p := range paths {
		if !strings.HasSuffix(p, "_test.go") {
			text, err := os.ReadFile(p)
			require.NoError(t, err)
			out[p] = string(text)
		}
	}
	return out
}

// TestOnlyPartnersApprove holds the approval of a partner's values to the place where those that are set are read.
func TestOnlyPartnersApprove(t *testing.T) {
	for _, room := range order {
		for _, text := range sources(t, room) {
			if room != "partners" {
				assert.NotContains(t, text, "keyring.Approve(", room)
			}
		}
	}
}

// TestRoomsStandInOrder holds the imports of the rooms to their order.
func TestRoomsStandInOrder(t *testing.T) {
	t.Parallel()
	folders, err := os.ReadDir(".")
	require.NoError(t, err)
	var rooms []string
	for _, f := range folders {
		if f.IsDir() && f.Name() != "testdata" {
			rooms = append(rooms, f.Name())
		}
	}
	assert.ElementsMatch(t, order, rooms, "every room has its place in the order")
	for i, room := range order {
		for path := range sources(t, room) {
			f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
			require.NoError(t, err)
			for _, im := range f.Imports {
				imported := strings.Trim(im.Path.Value, `"`)
				for _, outside := range []string{"server", "cli", "client", "demo", "standin", "guard", "browser", "testbed"} {
					assert.NotEqual(t, "innergate/"+outside, imported, path)
				}
				if name, ok := strings.CutPrefix(imported, "innergate/gate/"); ok {
					assert.Less(t, slices.Index(order, name), i, "%s imports %s, which stands above it or beside it", path, name)
				}
				assert.NotEqual(t, "innergate/gate", imported, path)
			}
		}
	}
}

// TestRoomsStaySmall keeps a room readable: no package of the house has more than 5,000 lines, the root of the gate not 400.
func TestRoomsStaySmall(t *testing.T) {
	t.Parallel()
	lines := map[string]int{}
	for path, text := range house(t) {
		lines[filepath.Dir(path)] += strings.Count(text, "\n")
	}
	require.Greater(t, len(lines), 80, "the packages were found")
	for folder, n := range lines {
		most := 5000
		if folder == "gate" {
			most = 400
		}
		assert.LessOrEqual(t, n, most, folder)
	}
}

// TestCommandsStandBesideEachOther holds the rooms of the command line apart: each stands on what all share, and one alone uses
// another, since a rehearsal ends by printing its trace. Only what runs the gate knows its inside.
func TestCommandsStandBesideEachOther(t *testing.T) {
	t.Parallel()
	for path, text := range house(t) {
		room, ok := strings.CutPrefix(filepath.Dir(path), "cli/")
		if !ok {
			continue
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, text, parser.ImportsOnly)
		require.NoError(t, err)
		for _, im := range f.Imports {
			imported := strings.Trim(im.Path.Value, `"`)
			if other, ok := strings.CutPrefix(imported, "innergate/cli/"); ok && other != "terminal" {
				assert.Equal(t, "rehearsal uses traces", room+" uses "+other, path)
			}
			if room == "service" {
				continue
			}
			assert.NotEqual(t, "innergate/gate", imported, path)
			if strings.HasPrefix(imported, "innergate/server") {
				assert.Contains(t, []string{"changes uses innergate/server/management", "pages uses innergate/server"},
					room+" uses "+imported, "the schema of files, and the texts of pages alone")
			}
		}
	}
}

// house is every Go file of the project that is no test, by its path from the root.
func house(t *testing.T) map[string]string {
	t.Helper()
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir("..", func(path string, d os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".git") {
			return filepath.SkipDir
		}
		if strings.HasSuffix(path, ".go") && !strings.HasSuffix(path, "_test.go") {
			text, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			inside, err := filepath.Rel("..", path)
			if err != nil {
				return err
			}
			out[inside] = string(text)
		}
		return nil
	}))
	return out
}

// writes finds the tables that a text writes to by SQL.
var writes = regexp.MustCompile(`(?:INSERT (?:OR \w+ )?INTO|UPDATE|DELETE FROM) ([a-z_]{3,})\b`)

// rows finds models whose rows are written through GORM where the model stands in the call itself.
var rows = regexp.MustCompile(`\.(?:Create|Save|Delete)\(&store\.(\w+)\{|Model\(&store\.(\w+)\{\}\)[^\n]*\.Updates?\(`)

// TestOneRoomWritesATable finds for each table the rooms that write to it, by SQL or by a model named in the call. It must be one.
func TestOneRoomWritesATable(t *testing.T) {
	t.Parallel()
	writers := map[string][]string{}
	note := func(what, room string) {
		if !slices.Contains(writers[what], room) {
			writers[what] = append(writers[what], room)
		}
	}
	for _, room := range order {
		for _, text := range sources(t, room) {
			for _, m := range writes.FindAllStringSubmatch(text, -1) {
				if m[1] != "set" {
					note(m[1], room)
				}
			}
			for _, m := range rows.FindAllStringSubmatch(text, -1) {
				note("store."+m[1]+m[2], room)
			}
		}
	}
	require.Greater(t, len(writers), 50, "tables and models were found")
	for what, who := range writers {
		assert.Len(t, who, 1, "%s is written by %s", what, strings.Join(who, " and "))
	}
}
