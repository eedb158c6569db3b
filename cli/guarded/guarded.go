package guarded

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/client"
)

// Guard is `innergate guard`: applications behind the gate: show, try, password, nginx.
func Guard(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:     "guard",
		Usage:    "applications behind the gate: show, try, password, nginx",
		Metadata: terminal.Examples("innergate guard show berth-board", "innergate guard try berth-board /harbour-master/plan"),
		Commands: []*cli.Command{
			{
				Name:      "show",
				Usage:     "how an application stands behind the gate",
				ArgsUsage: "SHORTNAME",
				Metadata:  terminal.Examples("innergate guard show berth-board"),
				Action: p.With("SHORTNAME", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					v, err := cl.Guard(ctx, args[0])
					if err != nil {
						return err
					}
					return p.Show(c, v, func() {
						p.Table(
							table.Row{"", ""},
							[]table.Row{
								{"public address", v.PublicURL},
								{"inner addresses", terminal.OrDash(strings.Join(v.Upstreams, "\n"))},
								{"passes on", v.Pass},
								{"in", terminal.OrDash(strings.Join(v.Headers, "\n"))},
							},
							"",
						)
						fmt.Fprintln(p.Out)
						var rows []table.Row
						for _, r := range v.Paths {
							rows = append(
								rows,
								table.Row{
									r.Path,
									terminal.OrDash(strings.Join(r.Methods, " ")),
									r.Then,
									terminal.OrDash(strings.Join(r.Groups, ", ") + r.Use),
								},
							)
						}
						p.Table(
							table.Row{"Path", "Methods", "Then", "Groups, rule set"},
							rows,
							"There is no path rule: every path is for people who are signed in and may use the application.",
						)
					})
				}),
			},
			{
				Name:      "try",
				Usage:     "which path rule decides, and what that means",
				ArgsUsage: "SHORTNAME PATH",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "method", Value: "GET"},
					&cli.StringFlag{Name: "person", Usage: "for whom, by user name or mail address"},
				},
				Metadata: terminal.Examples("innergate guard try berth-board /harbour-master/plan --method POST"),
				Action: p.With("SHORTNAME PATH", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					q := api.TryPath{Path: args[1], Method: c.String("method")}
					if who := c.String("person"); who != "" {
						var err error
						if q.Person, err = terminal.PersonID(ctx, cl, who); err != nil {
							return err
						}
					}
					t, err := cl.TryPath(ctx, args[0], q)
					if err != nil {
						return err
					}
					return p.Show(c, t, func() {
						fmt.Fprintln(p.Out, t.Words)
						if t.Rule != "" {
							fmt.Fprintf(p.Out, "By the rule %s.\n", t.Rule)
						}
						if t.May != nil {
							fmt.Fprintln(p.Out, map[bool]string{true: "This person may.", false: "This person may not."}[*t.May])
						}
					})
				}),
			},
			{
				Name:      "password",
				Usage:     "store the password for basic credentials, read from standard input; it is never shown again",
				ArgsUsage: "SHORTNAME",
				Metadata:  terminal.Examples("innergate guard password berth-board < password.txt"),
				Action: p.With("SHORTNAME", func(ctx context.Context, _ *cli.Command, cl *client.Client, args []string) error {
					password, err := p.Secret("Password: ")
					if err != nil {
						return err
					}
					if err := cl.SetGuardPassword(ctx, args[0], api.GuardPassword{Password: password}); err != nil {
						return err
					}
					fmt.Fprintln(p.Err, "It is stored, sealed.")
					return nil
				}),
			},
			{
				Name:      "nginx",
				Usage:     "what an nginx in front of the application needs, where it passes requests on itself",
				ArgsUsage: "SHORTNAME",
				Metadata:  terminal.Examples("innergate guard nginx berth-board > berth-board.conf"),
				Action: p.With("SHORTNAME", func(ctx context.Context, _ *cli.Command, cl *client.Client, args []string) error {
					v, err := cl.Guard(ctx, args[0])
					if err != nil {
						return err
					}
					if v.Nginx == "" {
						return errors.New("what a proxy needs holds a secret, and is told to engineers and owners only")
					}
					fmt.Fprint(p.Out, v.Nginx)
					return nil
				}),
			},
		},
	}
}
