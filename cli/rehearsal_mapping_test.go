package cli_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestMappingTry applies rules to an input by command line, without a service.
func TestMappingTry(t *testing.T) {
	folder := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	rules := file(
		"rules.yaml",
		"- set: email\n  from: [mail, email]\n  steps: [lower, trim]\n  required: true\n- set: username\n"+
			"  from: email # what the rule above made\n  steps: [{before: \"@\"}]\n",
	)
	input := file("input.json", `{"attributes":{"mail":["Mira.Voss@Saltmere.example "]}}`)

	code, out, says := run(t, "", "mapping", "try", "--rules", rules, "--input", input)
	require.Equal(t, 0, code, says)
	for _, word := range []string{"mail", "lower: mira.voss@saltmere.example", "before @: mira.voss"} {
		assert.Contains(t, out, word)
	}

	code, out, says = run(
		t, `{"attributes":{"mail":"Mira.Voss@Saltmere.example"}}`, "mapping", "try", "--rules", rules, "--input", "-",
		"-o", "json",
	)
	require.Equal(t, 0, code, says)
	type answer struct {
		Attributes map[string][]string
		Steps      []map[string]any
		Problems   []map[string]string
	}
	var got answer
	require.NoError(t, json.Unmarshal([]byte(out), &got))
	assert.Equal(t, map[string][]string{"email": {"mira.voss@saltmere.example"}, "username": {"mira.voss"}}, got.Attributes)
	assert.Len(t, got.Steps, 2)
	assert.NotNil(t, got.Problems)

	code, out, says = run(t, `{"attributes":{"phone":["1"]}}`, "mapping", "try", "--rules", rules, "--input", "-", "-o", "json")
	assert.Equal(t, 1, code)
	require.NoError(t, json.Unmarshal([]byte(out), &got))
	assert.Equal(t, "email", got.Problems[0]["rule"])
	assert.Equal(t, "map.required-missing", got.Problems[0]["code"])
	assert.Contains(t, says, "one rule has a problem")

	for _, c := range []struct{ rules, input, says string }{
		{"- set: a\n  form: b", "", `unknown field "form"`},
		{"a: b: c", "", "neither YAML nor JSON"},
		{"[]", "", "there is no rule"},
		{`{"set":"a"}`, "", "it is a table of names where a list belongs"},
		{"", "[1]", "it is a list where a table of names belongs"},
		{"", "{}", "names no attributes"},
		{"", `{"attributes":{},"more":1}`, `unknown field "more"`},
	} {
		r, in := rules, input
		if c.rules != "" {
			r = file("bad.yaml", c.rules)
		}
		if c.input != "" {
			in = file("bad.json", c.input)
		}
		code, out, says := run(t, "", "mapping", "try", "--rules", r, "--input", in)
		assert.Equal(t, 1, code, c)
		assert.Contains(t, says, c.says)
		assert.Empty(t, out)
	}
	code, _, says = run(t, "", "mapping", "try", "--rules", "-", "--input", "-")
	assert.Equal(t, 2, code)
	assert.Contains(t, says, "only one")
	code, _, says = run(t, "", "mapping", "try", "--rules", filepath.Join(folder, "none"), "--input", input)
	assert.Equal(t, 1, code)
	assert.Contains(t, says, "can't be read")
}
