package claims_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate/core/claims"
	"innergate/core/trace"
)

// tenRules over fifteen attributes, as a sign-in has them.
func tenRules(t testing.TB, expression bool) (*claims.Compiled, claims.Bag) {
	t.Helper()
	m := claims.Mapping{
		{
			Set:      "preferred_username",
			From:     claims.Names{"urn:oid:0.9.2342.19200300.100.1.1", "uid"},
			Steps:    []claims.Step{{Word: "lower"}},
			Required: true,
		},
		{
			Set:      "email",
			From:     claims.Names{"mail", "email", "urn:oid:0.9.2342.19200300.100.1.3"},
			Steps:    []claims.Step{{Word: "lower"}, {Word: "trim"}, {Word: "first"}},
			Required: true,
		},
		{Set: "given_name", From: claims.Names{"urn:oid:2.5.4.42", "givenName"}, Steps: []claims.Step{{Word: "first"}}},
		{Set: "family_name", From: claims.Names{"urn:oid:2.5.4.4", "sn"}, Steps: []claims.Step{{Word: "first"}}},
		{Set: "username", From: claims.Names{"email"}, Steps: []claims.Step{{Word: "before", Arg: "@"}}},
		{
			Set:  "groups",
			From: claims.Names{"memberOf"},
			Steps: []claims.Step{
				{Word: "keep", Arg: "^ferry-"},
				{Word: "cut_prefix", Arg: "ferry-"},
				{Word: "translate", Arg: map[string]any{"deckhands": "crew"}},
				{Word: "unique"},
			},
		},
		{Set: "site", Value: "harbour"},
		{Set: "department", From: claims.Names{"department"}, Steps: []claims.Step{{Word: "upper"}}},
		{Set: "locale", From: claims.Names{"preferredLanguage"}, Steps: []claims.Step{{Word: "default", Arg: "en"}}},
		{Set: "name", From: claims.Names{"displayName"}, Steps: []claims.Step{{Word: "first"}}},
	}
	if expression {
		m[9] = claims.Rule{Set: "name", Expr: `given_name + " " + family_name`}
	}
	c, err := m.Compile()
	require.NoError(t, err)
	in := claims.Bag{
		"urn:oid:0.9.2342.19200300.100.1.1": {
			"MVoss",
		}, "mail": {"Mira.Voss@saltmere.example"}, "urn:oid:2.5.4.42": {"Mira"}, "urn:oid:2.5.4.4": {"Voss"},
		"memberOf":   {"ferry-deckhands", "ferry-purser", "staff", "ferry-crew"},
		"department": {"Deck"}, "displayName": {"Mira Voss"},
	}
	for i := len(in); i < 15; i++ {
		in[fmt.Sprintf("other%d", i)] = []string{"value"}
	}
	return c, in
}

// BenchmarkMapping times ten rules over fifteen attributes; the floor is to copy the same values into another bag.
func BenchmarkMapping(b *testing.B) {
	_, in := tenRules(b, false)
	b.Run("floor", func(b *testing.B) {
		b.ReportAllocs()
		for b.Loop() {
			out := make(claims.Bag, len(in))
			for n, v := range in {
				out[n] = append([]string(nil), v...)
			}
		}
	})
	for _, expression := range []bool{false, true} {
		for _, recorded := range []bool{false, true} {
			c, in := tenRules(b, expression)
			b.Run(fmt.Sprintf("expression=%v/recorded=%v", expression, recorded), func(b *testing.B) {
				b.ReportAllocs()
				for b.Loop() {
					var rec *trace.Recorder
					if recorded {
						rec = trace.NewRecorder(time.Time{}, time.Now)
					}
					if _, err := c.Apply(in, "in", rec); err != nil {
						b.Fatal(err)
					}
				}
			})
		}
	}
}
