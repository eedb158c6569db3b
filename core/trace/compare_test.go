package trace_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/trace"
)

func check(name string, ok bool, expected, got string) trace.Entry {
	return trace.Entry{Step: trace.Receive, Check: &trace.Check{Name: name, OK: ok, Expected: expected, Got: got}}
}

func TestCompareNamesTheFirstDifferenceThatMatters(t *testing.T) {
	message := func(binding, signature string) trace.Entry {
		return trace.Entry{
			Step: trace.Receive,
			Message: &trace.Message{
				From:      trace.Provider,
				To:        trace.Gate,
				Name:      "Response",
				Binding:   binding,
				Signature: signature,
				Raw:       "<a/>",
			},
		}
	}
	value := func(out ...string) trace.Entry {
		return trace.Entry{Step: trace.Match, Value: &trace.Value{Direction: "in", Rule: "email", Output: out}}
	}
	decision := func(about, result string) trace.Entry {
		return trace.Entry{Step: trace.Decide, Decision: &trace.Decision{About: about, Result: result}}
	}
	failure := trace.Entry{Step: trace.Receive, Failure: &trace.Failure{Code: "saml.audience-mismatch"}}
	for name, c := range map[string]struct {
		a, b   []trace.Entry
		others bool
		first  int
		says   string
	}{
		"alike": {[]trace.Entry{message("HTTP-POST", "x"), check("saml.audience", true, "a", "a"), value("m")},
			[]trace.Entry{message("HTTP-POST", "x"), check("saml.audience", true, "a", "a"), value("m")}, false, -1, ""},
		"a check that failed, before the failure": {[]trace.Entry{check("saml.issuer", true, "i", "i"),
			check("saml.audience", true, "a", "a")},
			[]trace.Entry{check("saml.issuer", true, "i", "i"), check("saml.audience", false, "a", "b"), failure}, false, 1,
			"“a” was expected, “b” came"},
		"new values of each sign-in don't matter": {[]trace.Entry{check("saml.in-response-to", true, "_1", "_1")},
			[]trace.Entry{check("saml.in-response-to", true, "_2", "_2")}, false, -1, ""},
		"another binding": {[]trace.Entry{message("HTTP-POST", "x")}, []trace.Entry{message("HTTP-Artifact", "x")},
			false, 0, "Another binding"},
		"a signature that is gone": {[]trace.Entry{message("HTTP-POST", "RSA-SHA256")},
			[]trace.Entry{message("HTTP-POST", "")}, false, 0, "then nothing"},
		"a value that is gone, of one person": {[]trace.Entry{value("m")}, []trace.Entry{value()}, false, 0, "then nothing"},
		"a value of another person":           {[]trace.Entry{value("m")}, []trace.Entry{value("z")}, true, -1, ""},
		"a value that another person lacks":   {[]trace.Entry{value("m")}, []trace.Entry{value()}, true, 0, "then nothing"},
		"access decided otherwise": {[]trace.Entry{decision("access", "allowed")},
			[]trace.Entry{decision("access", "refused")}, true, 0, "“allowed”, then “refused”"},
		"another person": {[]trace.Entry{decision("person", "Mira")}, []trace.Entry{decision("person", "Zoë")}, true, -1, ""},
		"the same check twice": {[]trace.Entry{check("c", true, "", ""), check("c", true, "", "")},
			[]trace.Entry{check("c", true, "", ""), check("c", false, "", "no")}, false, 1, "“no” came"},
		"something in the second only": {[]trace.Entry{value("m")}, []trace.Entry{decision("strength", "asked for more"), value("m")},
			false, 0, "second only"},
	} {
		rows, first := trace.Compare(c.a, c.b, c.others)
		assert.Equal(t, c.first, first, name)
		if first >= 0 {
			assert.Contains(t, rows[first].Difference, c.says, name)
		}
	}
	rows, _ := trace.Compare(
		[]trace.Entry{check("a", true, "", ""), check("b", true, "", "")},
		[]trace.Entry{check("a", true, "", ""), check("x", true, "", ""), check("b", true, "", ""), failure},
		false,
	)
	require.Len(t, rows, 4)
	assert.Equal(
		t,
		[]string{"a", "x", "b", "failure"},
		[]string{rows[0].Name, rows[1].Name, rows[2].Name, rows[3].Name},
		"in the order of the second, where it has more",
	)
}
