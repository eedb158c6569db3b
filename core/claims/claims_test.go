package claims_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/claims"
	"innergate/core/explain"
	"innergate/core/trace"
)

func mapping(t *testing.T, text string) claims.Mapping {
	t.Helper()
	var m claims.Mapping
	require.NoError(t, json.Unmarshal([]byte(text), &m))
	return m
}

func TestSteps(t *testing.T) {
	for _, c := range []struct {
		steps    string
		in, want []string
	}{
		{`["lower"]`, []string{"MIRA"}, []string{"mira"}},
		{`["upper"]`, []string{"é"}, []string{"É"}},
		{`["trim"]`, []string{" a "}, []string{"a"}},
		{`[{"before":"@"}]`, []string{"mira@saltmere.example", "none"}, []string{"mira", "none"}},
		{`[{"after":"@"}]`, []string{"a@b", "c"}, []string{"b", "c"}},
		{`[{"cut_prefix":"ferry-"}]`, []string{"ferry-crew", "x"}, []string{"crew", "x"}},
		{`[{"cut_suffix":".old"}]`, []string{"a.old"}, []string{"a"}},
		{`[{"add_prefix":"p-"},{"add_suffix":"-s"}]`, []string{"a"}, []string{"p-a-s"}},
		{`[{"keep":"^ferry-"}]`, []string{"ferry-a", "b"}, []string{"ferry-a"}},
		{`[{"drop":"^ferry-"}]`, []string{"ferry-a", "b"}, []string{"b"}},
		{`[{"translate":{"deckhands":"crew"}}]`, []string{"deckhands", "x"}, []string{"crew", "x"}},
		{`[{"translate":{"a":"b","*":"other"}}]`, []string{"a", "x"}, []string{"b", "other"}},
		{`[{"split":";"}]`, []string{"a;b"}, []string{"a", "b"}},
		{`[{"join":", "}]`, []string{"a", "b"}, []string{"a, b"}},
		{`["first"]`, []string{"a", "b"}, []string{"a"}},
		{`["unique"]`, []string{"a", "b", "a"}, []string{"a", "b"}},
		{`["sort"]`, []string{"b", "a"}, []string{"a", "b"}},
		{`[{"limit":1}]`, []string{"a", "b"}, []string{"a"}},
		{`[{"default":"guest"}]`, nil, []string{"guest"}},
		{`[{"replace":["(\\w+)@.*","$1"]}]`, []string{"mira@x"}, []string{"mira"}},
	} {
		m := mapping(t, `[{"set":"out","from":"in","steps":`+c.steps+`}]`)
		compiled, err := m.Compile()
		require.NoError(t, err, c.steps)
		out, err := compiled.Apply(claims.Bag{"in": c.in}, "in", nil)
		require.NoError(t, err)
		assert.Equal(t, c.want, claims.Profile(out)["out"], c.steps)
		again, err := json.Marshal(m)
		require.NoError(t, err)
		assert.JSONEq(t, `[{"set":"out","from":"in","steps":`+c.steps+`}]`, string(again))
	}
}

func TestMappingRefuses(t *testing.T) {
	for text, reason := range map[string]string{
		`[{"set":"","from":"a"}]`:                          "empty",
		`[{"set":"a"}]`:                                    "neither",
		`[{"set":"a","from":"b","value":"c"}]`:             "both",
		`[{"set":"a","from":"b","steps":["shout"]}]`:       `no step "shout"`,
		`[{"set":"a","from":"b","steps":[{"keep":"("}]}]`:  "missing closing",
		`[{"set":"a","from":"b","steps":[{"limit":0}]}]`:   "whole number",
		`[{"set":"a","from":"b","steps":[{"lower":"x"}]}]`: "no argument",
		`[{"set":"a","from":"b","steps":[{"before":""}]}]`: "takes a text",
	} {
		_, err := mapping(t, text).Compile()
		assert.ErrorContains(t, err, reason, text)
	}
}

func TestMappingRecordsEachValue(t *testing.T) {
	m := mapping(t, `[{"set":"email","from":["urn:oid:0.9.2342.19200300.100.1.3","mail"],"steps":["lower"]},{"set":"username","from":"email","steps":[{"before":"@"}]},{"set":"site","value":"harbour"}]`)
	compiled, err := m.Compile()
	require.NoError(t, err)
	rec := trace.NewRecorder(time.Time{}, func() time.Time { return time.Time{} })
	out, err := compiled.Apply(claims.Bag{"mail": {"Mira.Voss@saltmere.example"}}, "in", rec)
	require.NoError(t, err)
	assert.Equal(t, claims.Bag{"email": {"mira.voss@saltmere.example"}, "username": {"mira.voss"}, "site": {"harbour"}}, claims.Profile(out))
	require.Len(t, rec.Entries(), 3)
	v := rec.Entries()[0].Value
	assert.Equal(t, "mail", v.From)
	assert.Equal(t, []trace.StepDone{{Step: "lower", Values: []string{"mira.voss@saltmere.example"}}}, v.Steps)
}

func TestMandatoryValueMissing(t *testing.T) {
	compiled, err := mapping(t, `[{"set":"email","from":"mail","required":true}]`).Compile()
	require.NoError(t, err)
	_, err = compiled.Apply(claims.Bag{"emailAddress": {"x"}}, "in", nil)
	var f *explain.Failure
	require.ErrorAs(t, err, &f)
	assert.Equal(t, "map.required-missing", f.Code)
	assert.Equal(t, "emailAddress", f.Evidence[0].Got)
}

func TestPresetsCompile(t *testing.T) {
	for _, m := range []claims.Mapping{claims.Standard(), claims.Outgoing()} {
		_, err := m.Compile()
		assert.NoError(t, err)
	}
}
