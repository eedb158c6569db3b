// Package ldapdir has the commands on directories of others.
package ldapdir

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/client"
)

type commands struct{ *terminal.Program }

// Directories is `innergate directory`: directories of others, asked by LDAP.
func Directories(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:     "directory",
		Usage:    "directories on somebody's premises, asked by LDAP: try them, and read people from them",
		Metadata: terminal.Examples("innergate directory try harbour-office wfell"),
		Commands: []*cli.Command{{
			Name:      "try",
			Usage:     "try servers, TLS, bind and base, and one person by name, without signing anybody in",
			ArgsUsage: "PROVIDER [NAME]",
			Description: "Each step says what came of it; the first that does not work is explained. Of the person it shows what the " +
				"directory tells, and what the mapping makes of it.",
			Metadata: terminal.Examples("innergate directory try harbour-office", "innergate directory try harbour-office wfell"),
			Action: p.Flexible(1, 2, func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
				got, err := cl.TryDirectory(ctx, args[0], api.TryDirectory{Name: strings.Join(args[1:], "")})
				if err != nil {
					return err
				}
				if err := p.Show(c, got, func() { p.tried(got) }); err != nil {
					return err
				}
				if !got.Works {
					return errors.New("the directory does not work as it is set; see what came of each step")
				}
				return nil
			}),
		}, p.read()},
	}
}

func (p *commands) tried(got *api.TriedDirectory) {
	var rows []table.Row
	for _, s := range got.Steps {
		mark := "✓"
		if !s.OK {
			mark = "✕"
		}
		rows = append(rows, table.Row{mark, s.Text, s.Got, fmt.Sprintf("%.1f ms", float64(s.Micros)/1000)})
	}
	p.Table(table.Row{"", "What", "Came of it", "Took"}, rows, "")
	if got.Code != "" {
		fmt.Fprintf(p.Out, "\n%s. %s\n", got.Code, got.Remedy)
	}
	rows = nil
	for _, name := range slices.Sorted(maps.Keys(got.Values)) {
		rows = append(rows, table.Row{name, strings.Join(got.Values[name], "\n")})
	}
	if len(rows) > 0 {
		fmt.Fprintln(p.Out)
		p.Table(table.Row{"The directory tells", "Values"}, rows, "")
	}
	rows = nil
	for _, v := range got.Made {
		rows = append(rows, table.Row{v.Name, strings.Join(v.Values, "\n")})
	}
	if len(rows) > 0 {
		fmt.Fprintln(p.Out)
		p.Table(table.Row{"The mapping makes", "Values"}, rows, "")
	}
}
