package terminal

import (
	"strings"
	"testing"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/stretchr/testify/assert"
)

// TestTablesFitTheTerminal prints wide tables into narrow terminals: every line fits, and no word is lost.
func TestTablesFitTheTerminal(t *testing.T) {
	t.Parallel()
	header := table.Row{"Short name", "What was found", "Remedy"}
	rows := []table.Row{
		{"crew-rota", strings.Repeat("words that explain ", 12), "Take the other side's certificate."},
		{"a", "short", strings.Repeat("https://gate.saltmere.example/saml/idp/", 3)},
	}
	for _, width := range []int{0, 60, 80, 120, 400} {
		var out strings.Builder
		w := newTable(&out, header, rows, width)
		w.Render()
		for line := range strings.Lines(out.String()) {
			if width > 0 {
				assert.LessOrEqual(t, len([]rune(strings.TrimRight(line, "\n"))), width, "%d: %s", width, line)
			}
		}
		assert.Equal(t, 12, strings.Count(out.String(), "explain"), "width %d", width)
		if width == 0 || width == 400 {
			assert.Contains(t, out.String(), strings.Repeat("words that explain ", 11), "it is not narrowed without need")
		}
	}
}
