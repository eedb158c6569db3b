package files_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/files"
)

const rota = `applications:
  - slug: crew-rota
    name: Crew Rota
    kind: saml
    reach: everyone
    providers: [saltmere-staff]
    access: {to: everybody}
    startUrl: https://rota.example/sign-in
    saml:
      entityId: https://rota.example/saml
      acs:
        - {binding: HTTP-POST, location: "https://rota.example/acs", index: 0, default: true}
    mapping:
      - set: roles
        from: groups
        steps: [{keep: "^ferry-"}, unique]
`

func read(texts ...string) *files.Set {
	var list []files.Text
	for i, t := range texts {
		list = append(list, files.Text{Name: fmt.Sprintf("%d.yaml", i+1), Text: t})
	}
	return files.Read(list)
}

func TestRead(t *testing.T) {
	set := read(
		rota,
		"groups:\n  - {slug: crew, name: Crew}\nassignments:\n  - {application: crew-rota, group: crew, roles: [hand]}\n"+
			"sessions: {idleMinutes: 30, maxHours: 8}\nsecrets:\n  - {for: mail, env: MAIL}\n",
	)
	require.Empty(t, set.Problems)
	var keys []string
	for _, o := range set.Objects {
		keys = append(keys, o.Key()+" at "+o.At.String())
	}
	assert.Equal(
		t,
		[]string{
			"application crew-rota at 1.yaml:2",
			"group crew at 2.yaml:2",
			"assignment crew-rota/crew at 2.yaml:4",
			"setting sessions at 2.yaml:5",
		},
		keys,
	)
	assert.Equal(t, "env:MAIL", set.Secrets[0].Key())
	assert.Contains(t, set.Objects[0].Body, `"subject":{"source":"profile","from":"preferred_username"}`, "defaults are filled in")
}

// TestWhatIsWrongIsNamed: file, line, key, and the nearest right name.
func TestWhatIsWrongIsNamed(t *testing.T) {
	for name, c := range map[string]struct {
		change [2]string
		want   string
	}{
		"a misspelt key": {[2]string{"startUrl:", "startUlr:"},
			`1.yaml:8: applications[0].startUlr: the key "startUlr" is not known here; "startUrl" is`},
		"another case and dashes": {[2]string{"entityId:", "entity-id:"},
			`1.yaml:10: applications[0].saml.entity-id: the key "entity-id" is not known here; "entityId" is`},
		"a key in the wrong place": {[2]string{"    startUrl:", "    requireSignedRequests: true\n    startUrl:"},
			`1.yaml:8: applications[0].requireSignedRequests: the key "requireSignedRequests" is not known here; it belongs below "saml"`},
		"a key that is like none": {[2]string{"    startUrl:", "    zzzzzzzz: 1\n    startUrl:"},
			`the key "zzzzzzzz" is not known here; these are: access, accounts, circle, contact`},
		"a section that is misspelt": {[2]string{"applications:", "aplications:"},
			`1.yaml:1: aplications: the key "aplications" is not known here; "applications" is`},
		"a key twice": {[2]string{"    kind: saml", "    kind: saml\n    name: Again"},
			`1.yaml:5: applications[0].name: the key stands in line 3 already`},
		"text for a list": {[2]string{"[saltmere-staff]", "saltmere-staff"},
			"1.yaml:6: applications[0].providers: it should hold a list, not text"},
		"a list for a group": {[2]string{"{to: everybody}", "[everybody]"},
			"1.yaml:7: applications[0].access: it should hold a group of keys, not a list"},
		"text for a truth": {[2]string{"default: true", "default: perhaps"},
			"1.yaml:12: applications[0].saml.acs[0].default: it should hold true or false, not text"},
		"text for a number":     {[2]string{"index: 0", "index: none"}, "it should hold a whole number, not text"},
		"a value that can't be": {[2]string{"reach: everyone", "reach: all"}, `1.yaml:5: applications[0].reach: "all" is no reach`},
		"a step that is none":   {[2]string{"unique]", "[unique]]"}, "a step is a word such as lower"},
		"an anchor": {[2]string{"{to: everybody}", "&a {to: everybody}"},
			"1.yaml:7: applications[0].access: anchors and aliases are not read here"},
		"no YAML": {[2]string{"providers: [saltmere-staff]", "providers: [saltmere-staff"}, "this is not YAML"},
		"a tab":   {[2]string{"    kind", "\tkind"}, "this is not YAML"},
		"something else than a mapping": {[2]string{rota, "- a\n- b\n"},
			"1.yaml:1: a configuration file holds keys such as applications and providers, and this is a list"},
		"nothing": {[2]string{rota, "# only a remark\n"}, "there is nothing in it"},
	} {
		t.Run(name, func(t *testing.T) {
			text := strings.Replace(rota, c.change[0], c.change[1], 1)
			require.NotEqual(t, rota, text)
			set := read(text)
			require.NotEmpty(t, set.Problems)
			assert.Contains(t, set.Problems.Error(), c.want)
		})
	}
}

func TestTwoFilesCannotDefineTheSame(t *testing.T) {
	set := read(rota, rota, "sessions: {idleMinutes: 30, maxHours: 8}\n", "sessions: {idleMinutes: 40, maxHours: 8}\n")
	require.Len(t, set.Problems, 2)
	assert.Equal(
		t, "2.yaml:2: applications[0]: Application crew-rota stands at 1.yaml:2 already; one of them must go",
		set.Problems[0].String(),
	)
	assert.Equal(t, "4.yaml:1: sessions: it stands at 3.yaml:1 already; one of them must go", set.Problems[1].String())
}

func TestSecretsNeverStandInClear(t *testing.T) {
	for text, want := range map[string]string{
		"secrets:\n  - {for: providers/x, value: hush}\n":                    `"value" is not known here`,
		"secrets:\n  - {for: providers/x}\n":                                 "comes from one of env",
		"secrets:\n  - {for: providers/x, env: A, file: b}\n":                "comes from one of env",
		"secrets:\n  - {for: crew-rota, env: A}\n":                           `"crew-rota" has no secret`,
		"secrets: [{for: mail, env: A}, {for: mail, env: B}]\n":              "stands at 1.yaml:1 already",
		"mail: {server: a.example:587, from: a@b.example, password: hush}\n": `the key "password" is not known here`,
	} {
		assert.Contains(t, read(text).Problems.Error(), want, text)
	}
}

// TestWrittenAndReadAgain: what is written reads as the same, as one file and as a folder.
func TestWrittenAndReadAgain(t *testing.T) {
	set := read(
		rota+"  - {slug: second, name: \"0123\", kind: link, startUrl: \"https://a.example/\", description: \"two\\nlines, and: a "+
			"colon\"}\n",
		"groups: [{slug: \"yes\", name: \"true\"}]\nreview: {second: true}\n",
	)
	require.Empty(t, set.Problems)
	text, err := files.Write(set.Objects, nil, "a remark")
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(text, "# a remark\n"))
	folder, err := files.WriteFolder(set.Objects, []files.Secret{{For: "mail", Env: "X"}})
	require.NoError(t, err)
	var names []string
	for _, f := range folder {
		names = append(names, f.Name)
	}
	assert.Equal(
		t,
		[]string{"applications/crew-rota.yaml", "applications/second.yaml", "groups.yaml", "secrets.yaml", "settings.yaml"},
		names,
	)
	held := map[string]map[string]files.Object{}
	for _, o := range set.Objects {
		if held[o.Kind] == nil {
			held[o.Kind] = map[string]files.Object{}
		}
		held[o.Kind][o.Slug] = o
	}
	for _, again := range []*files.Set{files.Read([]files.Text{{Text: text}}), files.Read(folder)} {
		require.Empty(t, again.Problems)
		steps, unchanged := files.Compare(held, again.Objects, func(files.Object) bool { return true })
		assert.Empty(t, steps)
		assert.Equal(t, len(set.Objects), unchanged)
	}
}

// TestLongFilesReadAsShortOnes: pieces that are read side by side say the same, with the same lines.
func TestLongFilesReadAsShortOnes(t *testing.T) {
	var b strings.Builder
	b.WriteString("# a remark before everything\ngroups:\n  - {slug: crew, name: Crew}\n\napplications:\n")
	for i := range 12000 {
		fmt.Fprintf(
			&b,
			"  # remark %d\n  - slug: app-%d\n    name: Application %d\n    kind: link\n    description: |\n      - not an item\n"+
				"      - {slug: neither}\n    startUrl: https://a.example/%s\n\n",
			i,
			i,
			i,
			strings.Repeat("x", 200),
		)
	}
	b.WriteString("templates: []\n")
	text := b.String()
	require.Greater(t, len(text), 3<<20)
	set := read(text)
	require.Empty(t, set.Problems)
	require.Len(t, set.Objects, 12001)
	lines := strings.Split(text, "\n")
	for _, o := range []files.Object{set.Objects[0], set.Objects[1], set.Objects[5000], set.Objects[11999], set.Objects[12000]} {
		assert.Contains(t, lines[o.At.Line-1], "slug: "+o.Slug)
	}
	bad := read(strings.Replace(text, "    name: Application 9000\n", "    nmae: Application 9000\n", 1))
	require.NotEmpty(t, bad.Problems)
	assert.Contains(t, lines[bad.Problems[0].Line-1], "Application 9000")
	assert.Contains(t, bad.Problems[0].Message, `"name" is`)
	broken := read(strings.Replace(text, "    name: Application 9000\n", "    name: [\n", 1))
	require.Len(t, broken.Problems, 1)
	assert.Contains(t, broken.Problems[0].Message, "not YAML")
}

func TestCompareFindsAnOrderThatCanBeTaken(t *testing.T) {
	o := func(kind, slug, body string) files.Object { return files.Object{Kind: kind, Slug: slug, Body: body} }
	held := map[string]map[string]files.Object{
		files.Application: {
			"a": o(files.Application, "a", "1"),
			"b": o(files.Application, "b", "1"),
		}, files.Provider: {"p": o(files.Provider, "p", "1")}, files.Group: {"g": o(files.Group, "g", "1")},
	}
	steps, unchanged := files.Compare(
		held,
		[]files.Object{
			o(files.Application, "a", "2"),
			o(files.Application, "c", "1"),
			o(files.Provider, "q", "1"),
			o(files.Group, "g", "1"),
		},
		func(o files.Object) bool { return o.Slug != "b" },
	)
	var got []string
	for _, s := range steps {
		got = append(got, s.Action+" "+s.Slug)
	}
	assert.Equal(t, []string{"create q", "update a", "create c", "remove p"}, got, "b was not made by files; p goes after what named it")
	assert.Equal(t, 1, unchanged)
}

func TestMerge(t *testing.T) {
	const base = `{"name":"Ledger","access":{"to":"everybody"},"providers":["a","b"],"oidc":{"scopes":["openid"],"algorithm":"ES256"}}`
	for name, c := range map[string]struct {
		theirs, mine, want string
		both               []string
	}{
		"other fields": {`{"name":"Book","access":{"to":"everybody"},"providers":["a","b"],"oidc":{"scopes":["openid"],` +
			`"algorithm":"ES256"}}`, `{"name":"Ledger","access":{"to":"assigned"},"providers":["a","b"],"oidc":{"scopes":["openid"],` +
			`"algorithm":"ES256"}}`, `{"access":{"to":"assigned"},"name":"Book","oidc":{"algorithm":"ES256","scopes":["openid"]},` +
			`"providers":["a","b"]}`, nil},
		"fields of one group": {`{"name":"Ledger","access":{"to":"everybody"},"providers":["a","b"],"oidc":{"scopes":["openid",` +
			`"email"],"algorithm":"ES256"}}`,
			`{"name":"Ledger","access":{"to":"everybody"},"providers":["a","b"],"oidc":{"scopes":["openid"],"algorithm":"EdDSA"}}`,
			`{"access":{"to":"everybody"},"name":"Ledger",` +
				`"oidc":{"algorithm":"EdDSA","scopes":["openid","email"]},"providers":["a","b"]}`, nil},
		"the same change": {`{"name":"Book"}`, `{"name":"Book"}`, `{"name":"Book"}`, nil},
		"the same field": {`{"name":"Book","access":{"to":"everybody"},"providers":["a","b"],"oidc":{"scopes":["openid"],` +
			`"algorithm":"ES256"}}`, `{"name":"Tally","access":{"to":"everybody"},"providers":["a","b"],"oidc":{"scopes":["openid"],` +
			`"algorithm":"ES256"}}`, "", []string{"name"}},
		"lists are taken whole": {`{"name":"Ledger","access":{"to":"everybody"},"providers":["a"],"oidc":{"scopes":["openid"],` +
			`"algorithm":"ES256"}}`, `{"name":"Ledger","access":{"to":"everybody"},"providers":["a","b","c"],` +
			`"oidc":{"scopes":["openid"],"algorithm":"ES256"}}`, "", []string{"providers"}},
	} {
		t.Run(name, func(t *testing.T) {
			got, both := files.Merge(base, c.theirs, c.mine)
			assert.Equal(t, c.want, got)
			assert.Equal(t, c.both, both)
		})
	}
	taken, both := files.Merge(`{"a":1,"b":2}`, `{"a":1}`, `{"a":5,"b":2}`)
	assert.Equal(t, `{"a":5}`, taken, "what one side took away stays away")
	assert.Empty(t, both)
}

func TestReadList(t *testing.T) {
	list, err := files.ReadList(
		"\ufeffName; Metadata URL ;IdP\nPilots;https://pilots.example/md;saltmere-staff\nthree;fields;are;four\n" +
			"\"Tugs; small\";https://tugs.example/md;\n",
	)
	require.NoError(t, err)
	require.Len(t, list, 3)
	assert.Equal(
		t,
		files.Entry{
			Line:   2,
			Values: map[string]string{"name": "Pilots", "url": "https://pilots.example/md", "providers": "saltmere-staff"},
		},
		list[0],
	)
	assert.Equal(t, "there are 3 columns, and it has 4", list[1].Wrong)
	assert.Equal(t, map[string]string{"name": "Tugs; small", "url": "https://tugs.example/md"}, list[2].Values)
	for text, want := range map[string]string{"name,ulr\n": `the column "ulr" is not known; "url" is`, "": "no line of columns",
		"name,title\n": "two columns are the name", "x,y\n": "is not known; these are"} {
		_, err := files.ReadList(text)
		assert.ErrorContains(t, err, want)
	}
}

// FuzzRead holds that reading ends with objects or with problems that name a line, and that what was read comes back
// the same when it is written and read again.
func FuzzRead(f *testing.F) {
	f.Add(rota)
	f.Add("groups: [{slug: crew, name: Crew}]\nsettings: {review: {second: true}}\nsecrets:\n  - {for: providers/x, env: X}\n")
	f.Add("groups:\n  - &a {slug: crew}\n  - *a\n")
	f.Fuzz(func(t *testing.T, text string) {
		set := read(text)
		if len(set.Problems) > 0 {
			for _, p := range set.Problems {
				require.NotEmpty(t, p.Message)
			}
			return
		}
		out, err := files.Write(set.Objects, set.Secrets)
		require.NoError(t, err)
		again := read(out)
		require.Empty(t, again.Problems, out)
		bodies := map[string]string{}
		for _, o := range set.Objects {
			bodies[o.Key()] = o.Body
		}
		require.Len(t, again.Objects, len(set.Objects))
		for _, o := range again.Objects {
			require.Equal(t, bodies[o.Key()], o.Body)
		}
	})
}
