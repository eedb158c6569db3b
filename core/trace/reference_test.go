package trace_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"innergate/core/trace"
)

func TestReferences(t *testing.T) {
	t.Parallel()
	seen := map[string]bool{}
	for range 200 {
		r := trace.NewReference()
		assert.Regexp(t, trace.ReferenceForm, r)
		assert.False(t, strings.ContainsAny(r, "01OIL"), "letters that are taken for others: %s", r)
		assert.False(t, seen[r])
		seen[r] = true
	}
}

// TestIDsIn finds what leads to a trace, a dozen at most, and nothing that only looks so.
func TestIDsIn(t *testing.T) {
	t.Parallel()
	entries := []trace.Entry{{}, {Message: &trace.Message{
		Raw:    `<Response ID="_abc1" InResponseTo="_req9"><x ID="_abc1"/><y ID="a b"/><z ID="no`,
		Opened: `{"jti":"token-1"}`,
	}}}
	assert.Equal(t, []string{"_abc1", "_req9", "token-1"}, trace.IDsIn(entries))
	var many []trace.Entry
	for i := range 40 {
		many = append(many, trace.Entry{Message: &trace.Message{Raw: ` ID="_` + strings.Repeat("x", i+4) + `"`}})
	}
	assert.Len(t, trace.IDsIn(many), 12)
}
