package journal_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/journal"
)

func lines(n int) []journal.Line {
	var out []journal.Line
	last := ""
	for i := range n {
		l := journal.Line{
			Number:   int64(i + 1),
			At:       time.Date(2026, 11, 27, 9, i, 0, 0, time.UTC),
			Who:      "Fenna",
			Action:   "changed",
			Kind:     "application",
			Object:   "Crew Rota",
			Previous: last,
		}
		l.Hash = l.Sum()
		last = l.Hash
		out = append(out, l)
	}
	return out
}

func walk(list []journal.Line) error {
	var c journal.Chain
	for i := range list {
		if err := c.Add(&list[i]); err != nil {
			return err
		}
	}
	return nil
}

func TestAWholeChainFits(t *testing.T) {
	var c journal.Chain
	list := lines(5)
	for i := range list {
		require.NoError(t, c.Add(&list[i]))
	}
	assert.EqualValues(t, 5, c.Lines)
	assert.Equal(t, list[4].Hash, c.Last)
}

func TestWhateverIsDoneToAChainIsFound(t *testing.T) {
	for name, c := range map[string]struct {
		do   func([]journal.Line) []journal.Line
		line int64
		why  string
	}{
		"changed": {func(l []journal.Line) []journal.Line { l[2].Who = "nobody"; return l }, 3, "was changed"},
		"changed and hashed": {func(l []journal.Line) []journal.Line {
			l[2].Who = "nobody"
			l[2].Hash = l[2].Sum()
			return l
		}, 4, "does not follow"},
		"taken out":       {func(l []journal.Line) []journal.Line { return append(l[:2], l[3:]...) }, 4, "does not follow"},
		"first taken out": {func(l []journal.Line) []journal.Line { return l[1:] }, 2, "not the first"},
		"put in twice":    {func(l []journal.Line) []journal.Line { return append(l[:3], l[2:]...) }, 3, "stands behind"},
		"swapped":         {func(l []journal.Line) []journal.Line { l[1], l[2] = l[2], l[1]; return l }, 3, "does not follow"},
	} {
		t.Run(name, func(t *testing.T) {
			err := walk(c.do(lines(5)))
			var broken *journal.BrokenError
			require.ErrorAs(t, err, &broken)
			assert.Equal(t, c.line, broken.Number)
			assert.Contains(t, broken.Why, c.why)
		})
	}
}
