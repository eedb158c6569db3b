package claims_test

import (
	"encoding/json"
	"strings"
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
		`[{"set":"a","from":"b","value":"c"}]`:             "more than one of",
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
	m := mapping(
		t,
		`[{"set":"email","from":["urn:oid:0.9.2342.19200300.100.1.3","mail"],"steps":["lower"]},{"set":"username","from":"email",`+
			`"steps":[{"before":"@"}]},{"set":"site","value":"harbour"}]`,
	)
	compiled, err := m.Compile()
	require.NoError(t, err)
	rec := trace.NewRecorder(time.Time{}, func() time.Time { return time.Time{} })
	out, err := compiled.Apply(claims.Bag{"mail": {"Mira.Voss@saltmere.example"}}, "in", rec)
	require.NoError(t, err)
	assert.Equal(
		t,
		claims.Bag{"email": {"mira.voss@saltmere.example"}, "username": {"mira.voss"}, "site": {"harbour"}},
		claims.Profile(out),
	)
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
	assert.Equal(t, explain.MapRequiredMissing, f.Code)
	assert.Equal(t, "emailAddress", f.Evidence[0].Got)
}

func TestPresetsCompile(t *testing.T) {
	for _, m := range []claims.Mapping{claims.Standard(), claims.Outgoing()} {
		_, err := m.Compile()
		assert.NoError(t, err)
	}
}

func TestTryTellsEverything(t *testing.T) {
	m := mapping(
		t,
		`[{"set":"email","from":["mail","email"],"steps":["trim","lower"],"required":true},{"set":"username","from":"email",`+
			`"steps":[{"before":"@"}]},
		{"set":"groups","from":"memberOf","steps":[{"keep":"^ferry-"},{"cut_prefix":"ferry-"},{"translate":{"deckhands":"crew"}},`+
			`"unique"]},{"set":"site","value":"harbour"}]`,
	)
	a := m.Try(claims.Bag{"email": {" Mira.Voss@saltmere.example"}, "memberOf": {"ferry-deckhands", "ferry-crew", "staff"}})
	assert.Equal(
		t,
		claims.Bag{"email": {"mira.voss@saltmere.example"}, "username": {"mira.voss"}, "groups": {"crew"}, "site": {"harbour"}},
		a.Attributes,
	)
	assert.Empty(t, a.Problems)
	require.Len(t, a.Steps, 4)
	assert.Equal(t, "email", a.Steps[0].From, "the first name that is present")
	assert.Equal(
		t,
		[]trace.StepDone{
			{Step: "keep ^ferry-", Values: []string{"ferry-deckhands", "ferry-crew"}},
			{Step: "cut_prefix ferry-", Values: []string{"deckhands", "crew"}},
			{Step: "translate 1", Values: []string{"crew", "crew"}},
			{Step: "unique", Values: []string{"crew"}},
		},
		a.Steps[2].Steps,
	)

	a = m.Try(claims.Bag{"memberOf": {"staff"}})
	assert.Equal(t, claims.Bag{"site": {"harbour"}}, a.Attributes, "the other rules go on")
	require.Len(t, a.Problems, 1)
	assert.Equal(t, "email", a.Problems[0].Rule)
	assert.Equal(t, "map.required-missing", a.Problems[0].Code)
	assert.Contains(t, a.Problems[0].Message, "It takes mail, email; the input has memberOf.")
	assert.Equal(t, []string{}, a.Steps[2].Output, "no values are an empty list")

	// A value that grows beyond the limit, and one that is as large as it may be.
	many := mapping(t, `[{"set":"parts","from":"in","steps":[{"split":","}]},{"set":"site","value":"harbour"}]`)
	a = many.Try(claims.Bag{"in": {strings.Repeat(",", 10000)}})
	require.Len(t, a.Problems, 1)
	assert.Equal(
		t,
		claims.Problem{
			Rule:    "parts",
			Code:    "map.failed",
			Message: "Rule 1 fails: the step split , gives 10001 values; 10000 are the most.",
		},
		a.Problems[0],
	)
	assert.Equal(t, claims.Bag{"site": {"harbour"}}, a.Attributes)
	assert.Len(t, many.Try(claims.Bag{"in": {strings.Repeat(",", 9999)}}).Attributes["parts"], 10000)
}

func TestTryNamesEachRuleThatIsWrong(t *testing.T) {
	a := mapping(
		t,
		`[{"set":"a","from":"x","steps":["shout"]},{"set":"b","from":"x"},{"set":"c","from":"x","steps":[{"keep":"("}]}]`,
	).Try(claims.Bag{"x": {"1"}})
	require.Len(t, a.Problems, 2)
	assert.Equal(t, "a", a.Problems[0].Rule)
	assert.Equal(t, "c", a.Problems[1].Rule)
	assert.Contains(t, a.Problems[1].Message, "Rule 3")
	assert.Equal(t, claims.ProblemInvalid, a.Problems[1].Code)
	assert.Empty(t, a.Attributes, "nothing is half applied")
	assert.Empty(t, a.Steps)
	assert.NotEmpty(t, make(claims.Mapping, 201).Try(nil).Problems, "there are too many rules")
}
