package sources

import (
	"context"
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/client"
	"innergate/core/config"
)

// Templates is `innergate template`: connections saved with blanks, from which others are started.
func Templates(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:  "template",
		Usage: "connections saved with blanks, from which others are started",
		Metadata: terminal.Examples(
			"innergate template list",
			"innergate template start role-pairs --name \"Harbour Ledger\" --value account=4711 --value us=gate --value group=ledger-",
		),
		Commands: []*cli.Command{
			{
				Name:     "list",
				Usage:    "list templates",
				Metadata: terminal.Examples("innergate template list"),
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					list, err := cl.Templates(ctx)
					if err != nil {
						return err
					}
					return p.Show(c, list, func() {
						var rows []table.Row
						for _, t := range list.Items {
							var blanks []string
							for _, b := range t.Blanks {
								blanks = append(blanks, b.Name)
							}
							rows = append(rows, table.Row{t.Slug, t.Side, t.Name, terminal.OrDash(strings.Join(blanks, ", "))})
						}
						p.Table(table.Row{"Short name", "Side", "Name", "Blanks"}, rows, "There are no templates.")
					})
				}),
			},
			{
				Name:      "show",
				Usage:     "show a template with its blanks and steps",
				ArgsUsage: "TEMPLATE",
				Metadata:  terminal.Examples("innergate template show role-pairs"),
				Action: p.With("TEMPLATE", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					t, err := cl.Template(ctx, args[0])
					if err != nil {
						return err
					}
					return p.Show(c, t, func() {
						fmt.Fprintf(p.Out, "%s (%s, for %ss)\n%s\n\n", t.Name, t.Slug, t.Side, terminal.OrDash(t.Description))
						for _, b := range t.Blanks {
							fmt.Fprintf(p.Out, "blank %-12s %s%s\n", b.Name, b.Hint, terminal.WithComma("such as "+b.Sample))
						}
						for i, s := range t.Steps {
							fmt.Fprintf(p.Out, "%d. %s\n", i+1, s)
						}
					})
				}),
			},
			{
				Name:                      "start",
				DisableSliceFlagSeparator: true,
				Usage:                     "make a draft from a template",
				ArgsUsage:                 "TEMPLATE",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "name", Usage: "the new connection's name", Required: true},
					&cli.StringFlag{Name: "short-name", Usage: "its short name (default: made from the name)"},
					&cli.StringSliceFlag{Name: "value", Usage: "a blank and its value, as account=4711; may be repeated"},
				},
				Metadata: terminal.Examples(
					"innergate template start number-in-address --name \"Harbour App\" --value host=app.harbours.example --value " +
						"number=10042",
				),
				Action: func(ctx context.Context, c *cli.Command) error {
					args, err := terminal.Arguments(c, "TEMPLATE")
					if err != nil {
						return err
					}
					in := api.StartTemplate{Name: c.String("name"), Slug: c.String("short-name"), Values: map[string]string{}}
					for _, v := range c.StringSlice("value") {
						name, value, ok := strings.Cut(v, "=")
						if !ok {
							return terminal.Usage("%q is no blank with its value; write it as name=value", v)
						}
						in.Values[name] = value
					}
					cl, err := p.Client(c)
					if err != nil {
						return err
					}
					made, err := cl.StartTemplate(ctx, args[0], in)
					if err != nil {
						return err
					}
					return p.Show(c, made, func() {
						fmt.Fprintf(
							p.Out, "The draft %s is there: `innergate %s show %s`.\n", made.Name,
							map[string]string{"application": "app", "provider": "provider"}[made.Kind], made.Slug,
						)
					})
				},
			},
			{
				Name:                      "save",
				DisableSliceFlagSeparator: true,
				Usage:                     "save a connection as a template",
				ArgsUsage:                 "app|provider SHORTNAME",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "name", Usage: "the template's name", Required: true},
					&cli.StringFlag{Name: "description", Usage: "what shape of connection it is"},
					&cli.StringSliceFlag{
						Name:  "blank",
						Usage: "a blank and its value in this connection, as number=10042; may be repeated",
					},
				},
				Metadata: terminal.Examples(
					"innergate template save app harbour-app --name \"Harbour App\" --blank number=10042",
				),
				Action: func(ctx context.Context, c *cli.Command) error {
					side, slug, _, err := terminal.PartnerArguments(c)
					if err != nil {
						return err
					}
					in := api.NewTemplate{Name: c.String("name"), Description: c.String("description"), From: side + "/" + slug}
					for _, v := range c.StringSlice("blank") {
						name, value, ok := strings.Cut(v, "=")
						if !ok {
							return terminal.Usage("%q is no blank with its value; write it as name=value", v)
						}
						in.Blanks = append(in.Blanks, config.Blank{Name: name, Sample: value})
					}
					cl, err := p.Client(c)
					if err != nil {
						return err
					}
					t, err := cl.NewTemplate(ctx, in)
					if err != nil {
						return err
					}
					return p.Show(c, t, func() { fmt.Fprintf(p.Out, "Saved as %s.\n", t.Slug) })
				},
			},
			{
				Name:      "remove",
				Usage:     "delete a template that was saved here",
				ArgsUsage: "TEMPLATE",
				Metadata:  terminal.Examples("innergate template remove harbour-app"),
				Action: p.With("TEMPLATE", func(ctx context.Context, _ *cli.Command, cl *client.Client, args []string) error {
					if err := cl.Delete(ctx, "templates", args[0]); err != nil {
						return err
					}
					fmt.Fprintf(p.Out, "%s is deleted.\n", args[0])
					return nil
				}),
			},
		},
	}
}
