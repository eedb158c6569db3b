package moves

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/client"
	"innergate/core/access"
	"innergate/core/moves"
)

// Moves is `innergate move`: take applications from one provider to another, in waves.
func Moves(of *terminal.Program) *cli.Command {
	p := &commands{of}
	shown := func(m *api.Move, err error, c *cli.Command) error {
		if err != nil {
			return err
		}
		return p.Show(c, m, func() { p.move(m) })
	}
	type action func(ctx context.Context, c *cli.Command, cl *client.Client, slug string, number int) (*api.Move, error)
	wave := func(act action) cli.ActionFunc {
		return p.With("MOVE WAVE", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			n, err := strconv.Atoi(args[1])
			if err != nil {
				return terminal.Usage("%q is no number of a wave", args[1])
			}
			m, err := act(ctx, c, cl, args[0], n)
			return shown(m, err, c)
		})
	}
	return &cli.Command{
		Name:  "move",
		Usage: "take applications from one provider to another, in waves",
		Metadata: terminal.Examples(
			"innergate move new 'To the north quay' --from saltmere-staff --to northquay-stevedores",
			"innergate move show to-the-north-quay", "innergate move uses saltmere-staff",
		),
		Commands: []*cli.Command{
			{
				Name:     "list",
				Usage:    "list moves, the newest first",
				Metadata: terminal.Examples("innergate move list"),
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					list, err := cl.Moves(ctx)
					if err != nil {
						return err
					}
					return p.Show(c, list, func() {
						var rows []table.Row
						for _, m := range list.Items {
							rows = append(
								rows,
								table.Row{
									m.Slug,
									m.Name,
									m.From.Name + " → " + m.To.Name,
									m.State,
									fmt.Sprintf("%d of %d", m.Moved, m.Applications),
								},
							)
						}
						p.Table(table.Row{"Move", "Name", "From and to", "State", "Moved"}, rows, "There is no move.")
					})
				}),
			},
			{
				Name:      "new",
				Usage:     "plan a move; nothing changes yet",
				ArgsUsage: "NAME",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "from", Usage: "the old provider", Required: true},
					&cli.StringFlag{Name: "to", Usage: "the new provider", Required: true},
					&cli.StringFlag{
						Name:  "apps",
						Usage: "applications, parted by commas; all that have the old provider, unless they are named",
					},
					&cli.StringFlag{Name: "groups", Usage: "the groups whose people's sign-ins both ways count"},
					&cli.StringFlag{Name: "people", Usage: "the people whose sign-ins both ways count"},
					&cli.StringFlag{Name: "short-name", Usage: "the move's short name"},
					&cli.StringFlag{Name: "remark", Usage: "why"},
				},
				Metadata: terminal.Examples(
					"innergate move new 'To the north quay' --from saltmere-staff --to northquay-stevedores --apps " +
						"cargo-ledger,berth-board",
				),
				Action: p.With("NAME", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					in := api.NewMove{
						Name:         args[0],
						Slug:         c.String("short-name"),
						From:         c.String("from"),
						To:           c.String("to"),
						Remark:       c.String("remark"),
						Applications: terminal.Words(c.String("apps")),
					}
					if g, who := terminal.Words(c.String("groups")), terminal.Words(c.String("people")); len(g)+len(who) > 0 {
						in.Circle = &access.Circle{Groups: g, People: who}
					}
					m, err := cl.NewMove(ctx, in)
					return shown(m, err, c)
				}),
			},
			{
				Name:      "show",
				Usage:     "show a move: waves, usage and readiness of each application",
				ArgsUsage: "MOVE",
				Metadata:  terminal.Examples("innergate move show to-the-north-quay"),
				Action: p.With("MOVE", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					m, err := cl.Move(ctx, args[0])
					return shown(m, err, c)
				}),
			},
			{
				Name:      "plan",
				Usage:     "say which applications are in a wave, when it opens, and what it bears",
				ArgsUsage: "MOVE WAVE",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "apps", Usage: "applications, parted by commas"},
					&cli.StringFlag{Name: "opens", Usage: "when its window opens"},
					&cli.StringFlag{Name: "closes", Usage: "when it closes; an hour later, unless it is said"},
					&cli.IntFlag{Name: "failures", Usage: "failed sign-ins that it bears", Value: -1},
					&cli.IntFlag{Name: "differences", Usage: "people for whom something may differ", Value: -1},
				},
				Metadata: terminal.Examples(
					"innergate move plan to-the-north-quay 2 --apps berth-board --opens '2026-12-01 22:00' --failures 3",
				),
				Action: wave(func(ctx context.Context, c *cli.Command, cl *client.Client, slug string, n int) (*api.Move, error) {
					in := api.PlanWave{Applications: terminal.Words(c.String("apps"))}
					for name, into := range map[string]**time.Time{"opens": &in.Opens, "closes": &in.Closes} {
						if c.String(name) != "" {
							t, err := terminal.Moment(c.String(name))
							if err != nil {
								return nil, err
							}
							*into = &t
						}
					}
					if f, d := c.Int("failures"), c.Int("differences"); f >= 0 || d >= 0 {
						in.Limits = &moves.Limits{Failures: max(f, 0), Differences: max(d, 0)}
					}
					return cl.PlanWave(ctx, slug, n, in)
				}),
			},
			{
				Name:      "approve",
				Usage:     "approve a wave that somebody else planned",
				ArgsUsage: "MOVE WAVE",
				Metadata:  terminal.Examples("innergate move approve to-the-north-quay 1"),
				Action: wave(func(ctx context.Context, _ *cli.Command, cl *client.Client, slug string, n int) (*api.Move, error) {
					return cl.ApproveWave(ctx, slug, n)
				}),
			},
			{
				Name:      "open",
				Usage:     "open a wave at once: people sign in with the new provider from now on",
				ArgsUsage: "MOVE WAVE",
				Flags: []cli.Flag{
					&cli.IntFlag{Name: "minutes", Usage: "how long its window is, in which it goes back by itself", Value: 60},
					&cli.BoolFlag{Name: "anyway", Usage: "although an application is not ready"},
				},
				Metadata: terminal.Examples("innergate move open to-the-north-quay 1 --minutes 120"),
				Action: wave(func(ctx context.Context, c *cli.Command, cl *client.Client, slug string, n int) (*api.Move, error) {
					return cl.OpenWave(ctx, slug, n, api.OpenWave{Minutes: c.Int("minutes"), Anyway: c.Bool("anyway")})
				}),
			},
			{
				Name:      "back",
				Usage:     "take a wave back at once",
				ArgsUsage: "MOVE WAVE",
				Flags:     []cli.Flag{&cli.StringFlag{Name: "reason", Usage: "why"}},
				Metadata:  terminal.Examples("innergate move back to-the-north-quay 1 --reason 'roles differ'"),
				Action: wave(func(ctx context.Context, c *cli.Command, cl *client.Client, slug string, n int) (*api.Move, error) {
					return cl.BackWave(ctx, slug, n, c.String("reason"))
				}),
			},
			{
				Name:      "trial",
				Usage:     "make a link by which people sign in both ways; nothing reaches the application",
				ArgsUsage: "MOVE APPLICATION",
				Flags: []cli.Flag{
					&cli.IntFlag{Name: "people", Usage: "how many may use it", Value: 20},
					&cli.IntFlag{Name: "hours", Usage: "how long it is good", Value: 72},
				},
				Metadata: terminal.Examples("innergate move trial to-the-north-quay cargo-ledger"),
				Action: p.With("MOVE APPLICATION", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					t, err := cl.NewTrial(ctx, args[0], api.NewTrial{Application: args[1], People: c.Int("people"), Hours: c.Int("hours")})
					if err != nil {
						return err
					}
					return p.Show(c, t, func() {
						fmt.Fprintln(p.Out, t.Link)
						fmt.Fprintf(p.Err, "It is for %d people, until %s.\n", t.People, terminal.LocalTime(t.Expires))
					})
				}),
			},
			{
				Name:      "compare",
				Usage:     "what came of signing in both ways, those that differ first",
				ArgsUsage: "MOVE [APPLICATION]",
				Metadata:  terminal.Examples("innergate move compare to-the-north-quay"),
				Action: p.Flexible(1, 2, func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					app := ""
					if len(args) == 2 {
						app = args[1]
					}
					list, err := cl.MoveComparisons(ctx, args[0], app)
					if err != nil {
						return err
					}
					return p.Show(c, list, func() {
						if len(list.Items) == 0 {
							fmt.Fprintln(p.Out, "Nobody has signed in both ways yet.")
						}
						for _, x := range list.Items {
							fmt.Fprintf(
								p.Out, "%-8s %s at %s (%s, %s) %s\n", x.Result, terminal.OrDash(x.Person), x.Application, x.How,
								terminal.LocalTime(x.At), x.Code,
							)
							for _, d := range x.Differences {
								fmt.Fprintf(
									p.Out, "    %s\n      - %s\n      + %s\n", d.Name,
									terminal.OrDash(strings.Join(d.Was, ", ")), terminal.OrDash(strings.Join(d.Is, ", ")),
								)
							}
						}
					})
				}),
			},
			{
				Name:      "end",
				Usage:     "end a move; what has moved stays moved",
				ArgsUsage: "MOVE",
				Metadata:  terminal.Examples("innergate move end to-the-north-quay"),
				Action: p.With("MOVE", func(ctx context.Context, _ *cli.Command, cl *client.Client, args []string) error {
					if err := cl.EndMove(ctx, args[0]); err != nil {
						return err
					}
					fmt.Fprintln(p.Err, "The move has ended.")
					return nil
				}),
			},
			{
				Name:      "uses",
				Usage:     "what still uses a provider, until it can be closed; exits with 1 where something does",
				ArgsUsage: "PROVIDER",
				Metadata:  terminal.Examples("innergate move uses saltmere-staff"),
				Action: p.With("PROVIDER", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					u, err := cl.StillUses(ctx, args[0])
					if err != nil {
						return err
					}
					if err := p.Show(c, u, func() {
						for _, w := range u.Words {
							fmt.Fprintln(p.Out, w)
						}
						var rows []table.Row
						for _, a := range u.Apps {
							rows = append(rows, table.Row{a.Slug, a.Name, a.Reach, a.Others, a.SignIns})
						}
						p.Table(table.Row{"Application", "Name", "Reach", "Other providers", "Sign-ins, 30 days"}, rows,
							"No application has it.")
						for _, r := range slices.Concat(u.Routes, u.Rules) {
							fmt.Fprintln(p.Out, "named by "+r)
						}
					}); err != nil {
						return err
					}
					if !u.Closable {
						return fmt.Errorf("%s can't be closed yet", u.Provider.Name)
					}
					return nil
				}),
			},
		},
	}
}

func (p *commands) move(m *api.Move) {
	fmt.Fprintf(
		p.Out, "%s (%s): from %s to %s, %s. %d of %d applications have moved.\n", m.Name, m.Slug, m.From.Name,
		m.To.Name, m.State, m.Moved, m.Applications,
	)
	if m.Remark != "" {
		fmt.Fprintln(p.Out, m.Remark)
	}
	if m.Circle != nil {
		fmt.Fprintln(p.Out, "Sign-ins both ways count of "+m.Circle.InWords()+".")
	}
	for _, w := range m.Waves {
		fmt.Fprintf(p.Out, "\nWave %d: %s", w.Number, w.State)
		switch {
		case w.State == "planned" && w.Opens != nil:
			fmt.Fprintf(p.Out, ", opens %s", terminal.LocalTime(*w.Opens))
		case w.State == "open" && w.Closes != nil:
			fmt.Fprintf(
				p.Out, " until %s; %d signed in, %d failed (bears %d), %d differ (bears %d)", terminal.LocalTime(*w.Closes),
				w.Count.SignedIn, w.Count.Failed, w.Limits.Failures, w.Count.Differed, w.Limits.Differences,
			)
		}
		if w.NeedsSecond {
			fmt.Fprint(p.Out, ", needs a second person")
		}
		fmt.Fprintln(p.Out, ".")
		if w.Note != "" {
			fmt.Fprintln(p.Out, "  "+w.Note)
		}
		for _, a := range m.Apps {
			if a.Wave != w.Number {
				continue
			}
			fmt.Fprintf(
				p.Out, "  %s (%s): %s, %s. %d people, %d sign-ins in 30 days, the last %s. Compared: %s.\n", a.Name,
				a.Slug, a.State, a.Verdict.State, a.Users, a.SignIns, terminal.Ago(a.LastSignIn), compared(a.Compared),
			)
			for _, why := range a.Verdict.Why {
				fmt.Fprintln(p.Out, "    - "+why)
			}
		}
	}
}

func compared(counts map[string]int) string {
	var parts []string
	for _, r := range []string{"same", "differs", "failed", "alone", "outside"} {
		if counts[r] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", counts[r], r))
		}
	}
	if len(parts) == 0 {
		return "nobody yet"
	}
	return strings.Join(parts, ", ")
}
