package ldapdir

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/client"
)

// read is `innergate directory read`.
func (p *commands) read() *cli.Command {
	return &cli.Command{
		Name:      "read",
		Usage:     "read people from a directory: look what would come of it, and write that with --write",
		ArgsUsage: "PROVIDER",
		Description: "The first time it is looked at before anything is written. Where more people are gone than the share " +
			"that is set, it " +
			"stops and names them; --agree says that they are to be made inactive.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "write", Usage: "write what the last look found, or read anew and write"},
			&cli.BoolFlag{Name: "changed", Usage: "those only whose entry changed since the last time"},
			&cli.BoolFlag{Name: "agree", Usage: "agree that so many are gone as the last reading says"},
			&cli.BoolFlag{Name: "cancel", Usage: "cancel the reading that is at work, or waits for an answer"},
		},
		Metadata: terminal.Examples("innergate directory read harbour-office", "innergate directory read harbour-office --write",
			"innergate directory read harbour-office --write --changed"),
		Action: p.With("PROVIDER", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			list, err := cl.Readings(ctx, args[0])
			if err != nil {
				return err
			}
			var last api.Reading
			if len(list.Items) > 0 {
				last = list.Items[0]
			}
			got, err := beginReading(ctx, c, cl, args[0], last)
			if err != nil || got == nil {
				return err
			}
			for got.State == "looking" || got.State == "writing" {
				select {
				case <-ctx.Done():
					return ctx.Err()
				case <-time.After(200 * time.Millisecond):
				}
				if got, err = cl.Reading(ctx, args[0], got.ID); err != nil {
					return err
				}
			}
			if err := p.Show(c, got, func() { p.reading(got) }); err != nil {
				return err
			}
			if got.State == "stopped" {
				return fmt.Errorf("the reading was stopped: %s", got.Note)
			}
			return nil
		}),
	}
}

// beginReading does what the flags say with the last reading, or begins one; nil where one was cancelled.
func beginReading(ctx context.Context, c *cli.Command, cl *client.Client, slug string, last api.Reading) (*api.Reading, error) {
	switch {
	case c.Bool("cancel") && last.ID == "":
		return nil, terminal.Usage("there is no reading to cancel")
	case c.Bool("cancel"):
		return nil, cl.CancelReading(ctx, slug, last.ID)
	case c.Bool("agree") && last.State != "asking":
		return nil, terminal.Usage("no reading asks for an answer")
	case c.Bool("agree"), c.Bool("write") && !c.Bool("changed") && (last.State == "looked" || last.State == "stopped"):
		return cl.WriteReading(ctx, slug, last.ID)
	case last.State == "asking":
		return nil, terminal.Usage(
			"the last reading asks whether %d people are to be made inactive; answer with --agree or --cancel", last.Gone,
		)
	}
	return cl.NewReading(ctx, slug, api.NewReading{Write: c.Bool("write"), Changed: c.Bool("changed")})
}

func (p *commands) reading(r *api.Reading) {
	rows := []table.Row{
		{"entries read", r.Entries}, {"new", r.Made}, {"changed", r.Updated}, {"as they were", r.Same}, {"active again", r.Back},
		{"gone", fmt.Sprintf("%d of %d", r.Gone, r.Known)}, {"gone, but come another way too", r.Elsewhere}, {"not taken", r.Bad},
	}
	p.Table(table.Row{"What", "People"}, rows, "")
	if len(r.GoneNames) > 0 {
		fmt.Fprintf(p.Out, "\nGone: %s\n", strings.Join(r.GoneNames, ", "))
	}
	rows = nil
	for _, one := range r.Problems {
		rows = append(rows, table.Row{one.Entry, one.Code, one.Text})
	}
	if len(rows) > 0 {
		fmt.Fprintln(p.Out)
		p.Table(table.Row{"Not taken", "Code", "Why"}, rows, "")
	}
	fmt.Fprintln(p.Out, map[string]string{
		"looked": "Nothing was written. `innergate directory read … --write` writes it.",
		"asking": "More are gone than may be at once; nobody was made inactive. Answer with --agree, or --cancel.",
		"done":   "Written.",
	}[r.State])
	if r.Note != "" {
		fmt.Fprintln(p.Out, r.Note)
	}
}
