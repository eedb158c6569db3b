package terminal

import (
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"
)

const (
	columnGap  = 2  // what stands around a column
	leastWidth = 12 // to which a column is narrowed
)

// width is how many characters the terminal shows in a line, 0 where the output is none.
func (p *Program) width() int {
	f, ok := p.Out.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return 0
	}
	w, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 0
	}
	return w
}

// fitted narrows the widest columns of a table until it fits a width; what stands in them goes on in the next line. Nothing is
// cut. A width of 0 is any.
func fitted(header table.Row, rows []table.Row, width int) []table.ColumnConfig {
	widths := make([]int, len(header))
	for _, row := range append([]table.Row{header}, rows...) {
		for i, cell := range row {
			if i >= len(widths) {
				break
			}
			for line := range strings.Lines(fmt.Sprint(cell)) {
				widths[i] = max(widths[i], text.StringWidthWithoutEscSequences(strings.TrimRight(line, "\n")))
			}
		}
	}
	total := func() (n int) {
		for _, w := range widths {
			n += w + columnGap
		}
		return n
	}
	for width > 0 && total() > width {
		widest := slices.Index(widths, slices.Max(widths))
		if widths[widest] <= leastWidth {
			break
		}
		widths[widest] = max(leastWidth, widths[widest]-(total()-width+1)/2)
	}
	configs := make([]table.ColumnConfig, len(widths))
	for i, w := range widths {
		configs[i] = table.ColumnConfig{Number: i + 1, WidthMax: max(w, 1), WidthMaxEnforcer: text.WrapSoft}
	}
	return configs
}
