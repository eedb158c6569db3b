package console

import (
	"context"
	"fmt"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/client"
)

// Tokens is `innergate token`: API tokens.
func Tokens(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:     "token",
		Usage:    "API tokens",
		Metadata: terminal.Examples("innergate token new --name pipeline --role viewer --days 90"),
		Commands: []*cli.Command{
			{
				Name:     "list",
				Usage:    "list tokens, without their secrets",
				Metadata: terminal.Examples("innergate token list"),
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					list, err := cl.Tokens(ctx)
					if err != nil {
						return err
					}
					return p.Show(c, list, func() {
						var rows []table.Row
						for _, t := range list.Items {
							rows = append(rows, table.Row{t.ID, t.Name, t.Role, t.By, terminal.Ago(t.LastUsed), terminal.Ago(t.Expires)})
						}
						p.Table(table.Row{"ID", "Name", "Role", "Made by", "Last used", "Ends"}, rows, "There are no tokens.")
					})
				}),
			},
			{
				Name:  "new",
				Usage: "make a token; its secret is printed once",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "name", Usage: "what will use it", Required: true},
					&cli.StringFlag{Name: "role", Usage: "owner, engineer or viewer", Value: "viewer"},
					&cli.IntFlag{Name: "days", Usage: "its life; 0 for no end", Value: 90},
				},
				Metadata: terminal.Examples("innergate token new --name pipeline --role engineer"),
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					t, err := cl.NewToken(ctx, api.NewToken{Name: c.String("name"), Role: c.String("role"), Days: c.Int("days")})
					if err != nil {
						return err
					}
					return p.Show(c, t, func() { fmt.Fprintln(p.Out, t.Secret) })
				}),
			},
			{
				Name:      "revoke",
				Usage:     "take a token back at once",
				ArgsUsage: "ID",
				Metadata:  terminal.Examples("innergate token revoke 01KAR6…"),
				Action: p.With("ID", func(ctx context.Context, _ *cli.Command, cl *client.Client, args []string) error {
					if err := cl.RevokeToken(ctx, args[0]); err != nil {
						return err
					}
					fmt.Fprintln(p.Out, "The token is revoked.")
					return nil
				}),
			},
		},
	}
}

// ConsoleAccess is `innergate console`: who may come in to the console and the command line through providers.
func ConsoleAccess(of *terminal.Program) *cli.Command {
	p := &commands{of}
	rules := func(ctx context.Context, c *cli.Command, change func(*api.ConsoleAccess) error) error {
		cl, err := p.Client(c)
		if err != nil {
			return err
		}
		a, err := cl.ConsoleAccess(ctx)
		if err != nil {
			return err
		}
		if change != nil {
			if err := change(a); err != nil {
				return err
			}
			if err := cl.SetConsoleAccess(ctx, *a); err != nil {
				return err
			}
		}
		return p.Show(c, a, func() {
			var rows []table.Row
			for i, r := range a.Rules {
				rows = append(rows, table.Row{i + 1, r.Provider, r.Attribute + " = " + r.Value, r.Role})
			}
			p.Table(
				table.Row{"#", "Provider", "Whose profile has", "Role"},
				rows,
				"Nobody comes in through a provider. `innergate console add` adds a rule.",
			)
			for _, slug := range a.Unconfirmed {
				fmt.Fprintf(p.Out, "%s gives no role until an owner confirms it: somebody else has changed it. `innergate console "+
					"confirm`\n", slug)
			}
		})
	}
	return &cli.Command{
		Name:  "console",
		Usage: "who may come in to the console and the command line through providers",
		Metadata: terminal.Examples(
			"innergate console add --provider saltmere-staff --attribute groups --value ferry-office --role engineer",
		),
		Commands: []*cli.Command{
			{
				Name:     "list",
				Usage:    "list the rules",
				Metadata: terminal.Examples("innergate console list"),
				Action:   func(ctx context.Context, c *cli.Command) error { return rules(ctx, c, nil) },
			},
			{
				Name:     "confirm",
				Usage:    "have providers give roles again that somebody else than an owner has changed",
				Metadata: terminal.Examples("innergate console confirm"),
				Action: func(ctx context.Context, c *cli.Command) error {
					return rules(ctx, c, func(a *api.ConsoleAccess) error {
						a.Unconfirmed = nil
						return nil
					})
				},
			},
			{
				Name:  "add",
				Usage: "give a role to everybody for whom a provider vouches and whose profile has a value",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "provider", Required: true, Usage: "the provider's short name"},
					&cli.StringFlag{Name: "attribute", Usage: "the profile's attribute", Value: "groups"},
					&cli.StringFlag{Name: "value", Required: true, Usage: "the value that it must have"},
					&cli.StringFlag{Name: "role", Required: true, Usage: "owner, engineer or viewer"},
				},
				Metadata: terminal.Examples(
					"innergate console add --provider saltmere-staff --value ferry-office --role engineer",
				),
				Action: func(ctx context.Context, c *cli.Command) error {
					return rules(ctx, c, func(a *api.ConsoleAccess) error {
						a.Rules = append(
							a.Rules,
							api.AccessRule{
								Provider:  c.String("provider"),
								Attribute: c.String("attribute"),
								Value:     c.String("value"),
								Role:      c.String("role"),
							},
						)
						return nil
					})
				},
			},
			{
				Name:      "remove",
				Usage:     "take a rule away; whoever came in by it is out at once",
				ArgsUsage: "NUMBER",
				Metadata:  terminal.Examples("innergate console remove 1"),
				Action: func(ctx context.Context, c *cli.Command) error {
					args, err := terminal.Arguments(c, "NUMBER")
					if err != nil {
						return err
					}
					return rules(ctx, c, func(a *api.ConsoleAccess) error {
						var n int
						if _, err := fmt.Sscan(args[0], &n); err != nil || n < 1 || n > len(a.Rules) {
							return terminal.Usage("there is no rule %q; `innergate console list` numbers them", args[0])
						}
						a.Rules = append(a.Rules[:n-1], a.Rules[n:]...)
						return nil
					})
				},
			},
		},
	}
}
