package claims_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/claims"
)

func TestExpressions(t *testing.T) {
	in := claims.Bag{
		"given_name":       {"Mira"},
		"family_name":      {"Voss"},
		"email":            {"Mira.Voss@Saltmere.example"},
		"groups":           {"ferry-crew", "staff"},
		"urn:oid:2.5.4.12": {"Purser"},
	}
	for _, c := range []struct {
		expr string
		want []string
	}{
		{`given_name + " " + family_name`, []string{"Mira Voss"}},
		{`email.lower().before("@")`, []string{"mira.voss"}},
		{`email.after("@").upper()`, []string{"SALTMERE.EXAMPLE"}},
		{`value("urn:oid:2.5.4.12").lower()`, []string{"purser"}},
		{`value("urn:oid:1.1")`, nil},
		{`values("groups").filter(g, g.startsWith("ferry-"))`, []string{"ferry-crew"}},
		{`values("groups").map(g, g.upper()).join("; ")`, []string{"FERRY-CREW; STAFF"}},
		{`values("nothing")`, nil},
		{`"staff" in values("groups")`, []string{"true"}},
		{`values("groups").size()`, []string{"2"}},
		{`email.matches("@saltmere[.]example$") ? "own" : "other"`, []string{"other"}},
		{`nickname`, nil},
		{`nickname + middle_name`, nil},
		{`given_name + nickname`, []string{"Mira"}},
		{`string(values("groups").size()) + " groups"`, []string{"2 groups"}},
	} {
		e, err := claims.CompileExpression(c.expr)
		require.NoError(t, err, c.expr)
		got, err := e.Values(in, nil)
		require.NoError(t, err, c.expr)
		assert.Equal(t, c.want, got, c.expr)
	}
}

func TestExpressionsThatCantBeUsed(t *testing.T) {
	for expr, says := range map[string]string{
		`given_name +`:                          "character",
		`given_name + 1`:                        "no matching overload",
		`{"a": given_name}`:                     "gives a map",
		`1.5`:                                   "gives a double",
		`given_name.shout()`:                    "shout",
		strings.Repeat("a", 2001):               "2000 are the most",
		`[1, 2]`:                                "gives a list(int)",
		`values("groups").map(g, g.size())`:     "gives a list(int)",
		`given_name.matches("(")`:               "invalid",
		`timestamp("2026-11-23T00:00:00.000Z")`: "gives a",
	} {
		_, err := claims.CompileExpression(expr)
		assert.ErrorContains(t, err, says, expr)
	}
	_, err := claims.CompileCondition(`given_name`)
	assert.ErrorContains(t, err, "true or false is needed")
}

// TestExpressionsEnd feeds an expression that would take very long: the bound on its cost ends it, and the rule is
// named.
func TestExpressionsEnd(t *testing.T) {
	many := make([]string, 5000)
	for i := range many {
		many[i] = strings.Repeat("x", i%50)
	}
	m := claims.Mapping{
		{Set: "slow", Expr: `values("a").map(x, values("a").filter(y, values("a").exists(z, z == x + y)).size() > 3 ? x : "").join(",")`},
	}
	began := time.Now()
	a := m.Try(claims.Bag{"a": many})
	require.Len(t, a.Problems, 1)
	assert.Equal(t, "slow", a.Problems[0].Rule)
	assert.Contains(t, a.Problems[0].Message, "takes too long")
	assert.Less(t, time.Since(began), 2*time.Second)

	huge := claims.Mapping{{Set: "photo", From: claims.Names{"jpegPhoto"}}}.Try(claims.Bag{"jpegPhoto": {strings.Repeat("A", 1<<20)}})
	require.Len(t, huge.Problems, 1)
	assert.Contains(t, huge.Problems[0].Message, "1048576 bytes")
	assert.Less(t, len(huge.Problems[0].Message), 300)
}

func TestRuleSetsStandWhereTheyAreUsed(t *testing.T) {
	sets := map[string]claims.Mapping{"names": {{Set: "name", From: claims.Names{"cn"}}}, "nested": {{Use: "names"}}}
	find := func(slug string) (claims.Mapping, error) { return sets[slug], nil }
	m := claims.Mapping{{Set: "a", Value: "1"}, {Use: "names"}, {Set: "b", From: claims.Names{"name"}}}
	require.NoError(t, m.Check())
	_, err := m.Compile()
	assert.ErrorContains(t, err, "not known here")
	whole, err := m.Resolve(find)
	require.NoError(t, err)
	c, err := whole.Compile()
	require.NoError(t, err)
	out, err := c.Apply(claims.Bag{"cn": {"Mira"}}, "in", nil)
	require.NoError(t, err)
	assert.Equal(t, claims.Bag{"a": {"1"}, "name": {"Mira"}, "b": {"Mira"}}, claims.Profile(out))
	_, err = claims.Mapping{{Use: "nested"}}.Resolve(find)
	assert.ErrorContains(t, err, "can't use another")
	assert.Error(t, claims.Mapping{{Use: "names", Set: "x"}}.Check())
}
