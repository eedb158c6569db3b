package partners

import (
	"context"
	"encoding/base64"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/client"
)

// partnerOf takes applications/cargo-ledger apart.
func partnerOf(text string) (kind, slug string, err error) {
	kind, slug, ok := strings.Cut(text, "/")
	if !ok || kind != "applications" && kind != "providers" || slug == "" {
		return "", "", terminal.Usage(
			"%q names no partner; write applications/ or providers/ and the short name, such as applications/cargo-ledger",
			text,
		)
	}
	return kind, slug, nil
}

// onlySecret is the ID of a provider's secret that was given, or of the only one that is held.
func onlySecret(ctx context.Context, cl *client.Client, args []string) (string, error) {
	if len(args) > 1 {
		return args[1], nil
	}
	list, err := cl.Secrets(ctx, "providers", args[0])
	if err != nil {
		return "", err
	}
	var ids []string
	for _, s := range list.Items {
		ids = append(ids, s.ID)
	}
	switch len(ids) {
	case 0:
		return "", fmt.Errorf("no secret of %s is held. `innergate secret enter %s` takes one", args[0], args[0])
	case 1:
		return ids[0], nil
	}
	return "", terminal.Usage("several secrets of %s are held; give one ID of %s", args[0], strings.Join(ids, ", "))
}

// Secrets is `innergate secret`: client secrets: ours that applications hold, and those that providers gave us.
func Secrets(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:     "secret",
		Usage:    "client secrets: ours that applications hold, and those that providers gave us",
		Metadata: terminal.Examples("innergate secret list providers/northquay-stevedores"),
		Commands: []*cli.Command{
			{
				Name:      "list",
				Usage:     "list the secrets of one side, without the secrets",
				ArgsUsage: "PARTNER",
				Metadata:  terminal.Examples("innergate secret list applications/cargo-ledger"),
				Action: func(ctx context.Context, c *cli.Command) error {
					args, err := terminal.Arguments(c, "PARTNER")
					if err != nil {
						return err
					}
					kind, slug, err := partnerOf(args[0])
					if err != nil {
						return err
					}
					cl, err := p.Client(c)
					if err != nil {
						return err
					}
					list, err := cl.Secrets(ctx, kind, slug)
					if err != nil {
						return err
					}
					return p.Show(c, list, func() {
						var rows []table.Row
						for _, s := range list.Items {
							hint := terminal.OrDash(s.Hint)
							if s.Hint != "" {
								hint += "…"
							}
							for i, k := range s.Keytab {
								if i == 0 {
									hint = ""
								}
								hint = strings.TrimSpace(fmt.Sprintf("%s\n%s@%s v%d", hint, k.Service, k.Realm, k.Version))
							}
							rows = append(rows, table.Row{
								s.ID,
								s.State,
								hint,
								s.By,
								day(s.Expires),
								terminal.Ago(s.LastUsed),
								terminal.OrDash(s.Tried),
							})
						}
						p.Table(
							table.Row{"ID", "State", "Begins", "By", "Ends", "Last used", "When tried"},
							rows,
							"There is no secret. `innergate secret new` makes one for an application; `innergate secret enter` stores "+
								"one that a provider gave.",
						)
					})
				},
			},
			{
				Name:      "new",
				Usage:     "make a secret for an application; it is printed once, and two are valid at once",
				ArgsUsage: "SHORTNAME",
				Flags:     []cli.Flag{&cli.IntFlag{Name: "days", Usage: "its life; 0 for no end"}},
				Metadata:  terminal.Examples("innergate secret new cargo-ledger --days 365"),
				Action: p.With("SHORTNAME", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					s, err := cl.NewSecret(ctx, args[0], api.NewSecret{Days: c.Int("days")})
					if err != nil {
						return err
					}
					return p.Show(c, s, func() { fmt.Fprintln(p.Out, s.Secret) })
				}),
			},
			{
				Name:      "enter",
				Usage:     "store a secret that a provider gave, read from standard input; it is never shown again",
				ArgsUsage: "SHORTNAME",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "ends", Usage: "the day on which the provider lets it end, as 2027-05-31"},
					&cli.StringFlag{Name: "keytab", Usage: "a realm's keytab, from this file, in place of standard input"},
				},
				Metadata: terminal.Examples("innergate secret enter northquay-stevedores --ends 2027-05-31 < secret.txt",
					"innergate secret enter quayside-desk --keytab gate.keytab"),
				Action: func(ctx context.Context, c *cli.Command) error {
					args, err := terminal.Arguments(c, "SHORTNAME")
					if err != nil {
						return err
					}
					in := api.TheirSecret{}
					if text := c.String("ends"); text != "" {
						t, err := time.Parse("2006-01-02", text)
						if err != nil {
							return terminal.Usage("%q is no day; write it as 2027-05-31", text)
						}
						in.Expires = &t
					}
					cl, err := p.Client(c)
					if err != nil {
						return err
					}
					if in.Value, err = entered(p, c.String("keytab")); err != nil {
						return err
					}
					s, err := cl.KeepSecret(ctx, args[0], in)
					if err != nil {
						return err
					}
					return p.Show(c, s, func() {
						if c.String("keytab") != "" {
							fmt.Fprintln(p.Out, "Stored, and counts. Rehearse a sign-in from a machine of the realm.")
							return
						}
						if s.State == "next" {
							fmt.Fprintf(
								p.Out,
								"Stored as the next secret. Try it with `innergate secret try %s %s`, then `innergate secret switch %s`.\n",
								args[0], s.ID, args[0],
							)
							return
						}
						fmt.Fprintf(p.Out, "Stored, and in use. Try it with `innergate secret try %s %s`.\n", args[0], s.ID)
					})
				},
			},
			{
				Name:        "try",
				Usage:       "try a provider's secret at its token endpoint, without a sign-in",
				ArgsUsage:   "SHORTNAME [ID]",
				Description: "Without an ID it takes the only one that is held.",
				Metadata: terminal.Examples(
					"innergate secret try northquay-stevedores",
					"innergate secret try northquay-stevedores 01KAR6…",
				),
				Action: p.Flexible(1, 2, func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					id, err := onlySecret(ctx, cl, args)
					if err != nil {
						return err
					}
					t, err := cl.TrySecret(ctx, args[0], id)
					if err != nil {
						return err
					}
					return p.Show(c, t, func() {
						fmt.Fprintf(p.Out, "%s: %s\n", t.Result, t.Text)
						if t.Remedy != "" {
							fmt.Fprintln(p.Out, t.Remedy)
						}
					})
				}),
			},
			{
				Name:      "switch",
				Usage:     "use a provider's next secret from now on",
				ArgsUsage: "SHORTNAME",
				Metadata:  terminal.Examples("innergate secret switch northquay-stevedores"),
				Action: p.With("SHORTNAME", func(ctx context.Context, _ *cli.Command, cl *client.Client, args []string) error {
					if err := cl.SwitchSecret(ctx, args[0]); err != nil {
						return err
					}
					fmt.Fprintln(p.Out, "The next secret is in use, and the one before is forgotten.")
					return nil
				}),
			},
			{
				Name:      "remove",
				Usage:     "take a secret back at once",
				ArgsUsage: "PARTNER ID",
				Metadata:  terminal.Examples("innergate secret remove applications/cargo-ledger 01KAR6…"),
				Action: func(ctx context.Context, c *cli.Command) error {
					args, err := terminal.Arguments(c, "PARTNER", "ID")
					if err != nil {
						return err
					}
					kind, slug, err := partnerOf(args[0])
					if err != nil {
						return err
					}
					cl, err := p.Client(c)
					if err != nil {
						return err
					}
					if err := cl.DeleteSecret(ctx, kind, slug, args[1]); err != nil {
						return err
					}
					fmt.Fprintln(p.Out, "Taken back.")
					return nil
				},
			},
		},
	}
}

func day(t *time.Time) string {
	if t == nil {
		return "–"
	}
	return t.UTC().Format("2006-01-02")
}

// entered is the secret that somebody types or pipes in, or a keytab from a file, in base64.
func entered(p *commands, keytab string) (string, error) {
	if keytab == "" {
		return p.Secret("Secret: ")
	}
	data, err := os.ReadFile(keytab)
	return base64.StdEncoding.EncodeToString(data), err
}
