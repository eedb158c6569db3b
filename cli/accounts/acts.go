package accounts

import (
	"context"
	"fmt"
	"strconv"

	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/client"
)

// approve is `innergate accounts approve`, of some accounts or of all that wait.
func (p *commands) approve() *cli.Command {
	return &cli.Command{
		Name:      "approve",
		Usage:     "approve accounts that wait for it: those that are named, or all with --all",
		ArgsUsage: "APPLICATION [ACCOUNT…]",
		Flags:     []cli.Flag{&cli.BoolFlag{Name: "all", Usage: "all that wait"}},
		Metadata:  terminal.Examples("innergate accounts approve cargo-ledger 01KAR6…", "innergate accounts approve cargo-ledger --all"),
		Action: p.Flexible(1, 500, func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			if len(args) == 1 && !c.Bool("all") {
				return terminal.Usage("which accounts? Name them, or say --all")
			}
			return p.done(ctx, c, cl, args[0], api.AccountAct{Do: "approve", IDs: args[1:]}, "Approved")
		}),
	}
}

// act is a command that does something with some accounts.
func (p *commands) act(name, usage, done string) *cli.Command {
	return &cli.Command{
		Name:      name,
		Usage:     usage,
		ArgsUsage: "APPLICATION ACCOUNT…",
		Flags:     []cli.Flag{&cli.BoolFlag{Name: "all", Usage: "all for which it makes sense"}},
		Metadata:  terminal.Examples("innergate accounts " + name + " cargo-ledger 01KAR6…"),
		Action: p.Flexible(1, 500, func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			if len(args) == 1 && !c.Bool("all") {
				return terminal.Usage("which accounts? Name them, or say --all")
			}
			return p.done(ctx, c, cl, args[0], api.AccountAct{Do: name, IDs: args[1:]}, done)
		}),
	}
}

func (p *commands) done(ctx context.Context, c *cli.Command, cl *client.Client, slug string, in api.AccountAct, word string) error {
	n, err := cl.ActOnAccounts(ctx, slug, in)
	if err != nil {
		return err
	}
	return p.Show(c, n, func() { fmt.Fprintf(p.Out, "%s: %d.\n", word, n.Count) })
}

// adopt is `innergate accounts adopt`.
func (p *commands) adopt() *cli.Command {
	return &cli.Command{
		Name:      "adopt",
		Usage:     "take an account that is there, and of nobody known here, as a person's",
		ArgsUsage: "APPLICATION ACCOUNT PERSON",
		Metadata:  terminal.Examples("innergate accounts adopt cargo-ledger 01KAR6… mira.voss@saltmere.example"),
		Action: p.With("APPLICATION ACCOUNT PERSON", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			id, err := terminal.PersonID(ctx, cl, args[2])
			if err != nil {
				return err
			}
			return p.done(ctx, c, cl, args[0], api.AccountAct{Do: "adopt", IDs: args[1:2], Person: id}, "Adopted")
		}),
	}
}

// agree is `innergate accounts agree`.
func (p *commands) agree() *cli.Command {
	return &cli.Command{
		Name:      "agree",
		Usage:     "agree that so many accounts are taken away at once as `innergate accounts show` names",
		ArgsUsage: "APPLICATION COUNT",
		Metadata:  terminal.Examples("innergate accounts agree cargo-ledger 42"),
		Action: p.With("APPLICATION COUNT", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			count, err := strconv.Atoi(args[1])
			if err != nil {
				return terminal.Usage("%q is no number", args[1])
			}
			n, err := cl.AgreeToAccounts(ctx, args[0], count)
			if err != nil {
				return err
			}
			return p.Show(c, n, func() { fmt.Fprintf(p.Out, "Agreed: %d accounts are taken away.\n", n.Count) })
		}),
	}
}

// secret is `innergate accounts secret`: what the gate proves itself with there.
func (p *commands) secret() *cli.Command {
	return &cli.Command{
		Name:  "secret",
		Usage: "the token, client secret or password with which the gate keeps accounts",
		Metadata: terminal.Examples("innergate accounts secret enter cargo-ledger < token.txt",
			"innergate accounts secret switch cargo-ledger"),
		Commands: []*cli.Command{
			{
				Name:      "enter",
				Usage:     "store one, read from standard input; a second one is the next",
				ArgsUsage: "APPLICATION",
				Metadata:  terminal.Examples("innergate accounts secret enter cargo-ledger < token.txt"),
				Action: p.With("APPLICATION", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					value, err := p.Secret("Token, client secret or password: ")
					if err != nil {
						return err
					}
					s, err := cl.EnterAccountSecret(ctx, args[0], api.TheirSecret{Value: value})
					if err != nil {
						return err
					}
					return p.Show(c, s, func() {
						if s.State == "next" {
							fmt.Fprintf(p.Out, "Stored as the next one. `innergate accounts try %s --next` tries it, `innergate "+
								"accounts secret "+
								"switch %s` switches to it.\n", args[0], args[0])
							return
						}
						fmt.Fprintf(p.Out, "Stored, and in use. `innergate accounts try %s` tries it.\n", args[0])
					})
				}),
			},
			{
				Name:      "switch",
				Usage:     "put the next one into the place of the one that counts",
				ArgsUsage: "APPLICATION",
				Metadata:  terminal.Examples("innergate accounts secret switch cargo-ledger"),
				Action: p.With("APPLICATION", func(ctx context.Context, _ *cli.Command, cl *client.Client, args []string) error {
					if err := cl.SwitchAccountSecret(ctx, args[0]); err != nil {
						return err
					}
					fmt.Fprintln(p.Out, "Switched.")
					return nil
				}),
			},
		},
	}
}
