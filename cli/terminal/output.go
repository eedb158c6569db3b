package terminal

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"
)

// More says how to see what comes after a page.
func (p *Program) More(next string) {
	if next != "" {
		fmt.Fprintf(p.Out, "\nThere is more: add --after %q\n", next)
	}
}

// Ago is a time of the past in words, also where it never was.
func Ago(t *time.Time) string {
	if t == nil {
		return "never"
	}
	return LocalTime(*t)
}

// OrDash is a text, or a dash in its place where there is none.
func OrDash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}

// Show prints a value as JSON or YAML, or as the text that people gives.
func (p *Program) Show(c *cli.Command, v any, people func()) error {
	switch c.Root().String("output") {
	case "json":
		enc := json.NewEncoder(p.Out)
		enc.SetIndent("", "  ")
		enc.SetEscapeHTML(false)
		return enc.Encode(v)
	case "yaml":
		out, err := yaml.MarshalWithOptions(v, yaml.UseJSONMarshaler(), yaml.UseLiteralStyleIfMultiline(true), yaml.IndentSequence(true))
		if err != nil {
			return err
		}
		_, err = p.Out.Write(out)
		return err
	}
	people()
	return nil
}

// Table prints rows under a header. On a terminal it fits the width; nothing is ever cut.
func (p *Program) Table(header table.Row, rows []table.Row, empty string) {
	if len(rows) == 0 {
		fmt.Fprintln(p.Out, empty)
		return
	}
	newTable(p.Out, header, rows, p.width()).Render()
}

func newTable(out io.Writer, header table.Row, rows []table.Row, width int) table.Writer {
	w := table.NewWriter()
	w.SetOutputMirror(out)
	w.SetStyle(table.StyleLight)
	w.Style().Format.Header = text.FormatDefault
	w.Style().Options = table.Options{SeparateHeader: true}
	if header[0] != "" {
		w.AppendHeader(header)
	}
	w.AppendRows(rows)
	w.SetColumnConfigs(fitted(header, rows, width))
	return w
}

// LocalTime is a time as the reader's clock shows it.
func LocalTime(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }

// Ending says when something ends, in days.
func Ending(t, now time.Time) string {
	days := int(t.Sub(now).Hours() / 24)
	if days < 0 {
		return fmt.Sprintf("%s (ended %d days ago)", t.Local().Format("2006-01-02"), -days)
	}
	return fmt.Sprintf("%s (in %d days)", t.Local().Format("2006-01-02"), days)
}

// Silent says of which nodes nothing is known.
func (p *Program) Silent(nodes []string) {
	if len(nodes) > 0 {
		fmt.Fprintf(p.Err, "What these nodes keep is missing here, since they did not answer: %s\n", strings.Join(nodes, ", "))
	}
}
