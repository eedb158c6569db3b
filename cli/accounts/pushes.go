package accounts

import (
	"context"
	"fmt"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/client"
)

// pushes is `innergate accounts pushes`: people whom a provider pushes to the gate.
func (p *commands) pushes() *cli.Command {
	return &cli.Command{
		Name:     "pushes",
		Usage:    "people whom a provider pushes to the gate: where, with which tokens, with which habits",
		Metadata: terminal.Examples("innergate accounts pushes show northquay-stevedores"),
		Commands: []*cli.Command{
			{
				Name:      "show",
				Usage:     "how a provider pushes its people",
				ArgsUsage: "PROVIDER",
				Metadata:  terminal.Examples("innergate accounts pushes show northquay-stevedores"),
				Action: p.With("PROVIDER", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					v, err := cl.Pushes(ctx, args[0])
					if err != nil {
						return err
					}
					return p.Show(c, v, func() { p.pushed(v) })
				}),
			},
			{
				Name:      "token",
				Usage:     "make a token for a provider; it is printed once, and two count at once",
				ArgsUsage: "PROVIDER",
				Flags:     []cli.Flag{&cli.IntFlag{Name: "days", Usage: "its life; 0 for no end"}},
				Metadata:  terminal.Examples("innergate accounts pushes token northquay-stevedores --days 365"),
				Action: p.With("PROVIDER", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					s, err := cl.NewPushToken(ctx, args[0], c.Int("days"))
					if err != nil {
						return err
					}
					return p.Show(c, s, func() { fmt.Fprintln(p.Out, s.Secret) })
				}),
			},
			{
				Name:      "drop",
				Usage:     "take a token back",
				ArgsUsage: "PROVIDER TOKEN",
				Metadata:  terminal.Examples("innergate accounts pushes drop northquay-stevedores 01KAR6…"),
				Action: p.With("PROVIDER TOKEN", func(ctx context.Context, _ *cli.Command, cl *client.Client, args []string) error {
					if err := cl.DropPushToken(ctx, args[0], args[1]); err != nil {
						return err
					}
					fmt.Fprintln(p.Out, "Taken back.")
					return nil
				}),
			},
		},
	}
}

func (p *commands) pushed(v *api.Pushes) {
	on := "off: nothing is taken"
	if v.On {
		on = "on"
	}
	p.Table(table.Row{"What", ""}, []table.Row{{"pushing", on}, {"to", v.Address}, {"people", v.People}, {"of these inactive", v.Inactive},
		{"groups", v.Groups}, {"not worked out", v.Problems}}, "")
	var rows []table.Row
	for _, t := range v.Tokens {
		ends := "never"
		if t.Expires != nil {
			ends = terminal.LocalTime(*t.Expires)
		}
		rows = append(rows, table.Row{t.ID, t.Hint + "…", t.By, ends, terminal.Ago(t.LastUsed)})
	}
	fmt.Fprintln(p.Out)
	p.Table(table.Row{"ID", "Begins", "By", "Ends", "Last used"}, rows, "There is no token. `innergate accounts pushes token` makes one.")
	rows = nil
	for _, r := range v.Remarks {
		rows = append(rows, table.Row{r.Text, terminal.LocalTime(r.Last)})
	}
	if len(rows) > 0 {
		fmt.Fprintln(p.Out)
		p.Table(table.Row{"Habits of the sender, taken without harm", "Last"}, rows, "")
	}
}
