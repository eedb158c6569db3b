package traces

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/client"
	"innergate/core/trace"
)

// moreTraces are the commands on traces beside listing and showing them.
func (p *commands) moreTraces() []*cli.Command {
	return []*cli.Command{
		{
			Name:      "compare",
			Usage:     "lay two sign-ins side by side, and name the first difference that matters",
			ArgsUsage: "REFERENCE [OTHER]",
			Description: "Without another it takes the newest good sign-in before: of the same person, or else of anybody through the " +
				"same passage.",
			Flags:    []cli.Flag{&cli.BoolFlag{Name: "all", Usage: "print what is alike as well"}},
			Metadata: terminal.Examples("innergate trace compare 7F3K-92QX", "innergate trace compare 7F3K-92QX 9MQC-B59A"),
			Action: func(ctx context.Context, c *cli.Command) error {
				if n := c.Args().Len(); n < 1 || n > 2 {
					return terminal.Usage("compare takes one reference number or two")
				}
				cl, err := p.Client(c)
				if err != nil {
					return err
				}
				r, err := cl.CompareTraces(ctx, c.Args().Get(0), c.Args().Get(1))
				if err != nil {
					return err
				}
				return p.Show(c, r, func() { p.comparison(r, c.Bool("all")) })
			},
		},
		{
			Name:      "refused-there",
			Usage:     "where the application refused what it was sent: what to compare, and what its message means",
			ArgsUsage: "REFERENCE [MESSAGE]",
			Description: "No trace can know what the application made of it. MESSAGE is what it said, in its own words; what fits it " +
				"stands first.",
			Metadata: terminal.Examples(
				"innergate trace refused-there 7F3K-92QX", `innergate trace refused-there 7F3K-92QX "Invalid audience"`,
			),
			Action: p.Flexible(1, 2, func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
				r, err := cl.RefusedThere(ctx, args[0], strings.Join(args[1:], ""))
				if err != nil {
					return err
				}
				return p.Show(c, r, func() { p.refusedThere(r) })
			}),
		},
		{
			Name:     "keep",
			Usage:    "how long traces are kept",
			Flags:    []cli.Flag{&cli.IntFlag{Name: "days", Usage: "by age"}, &cli.IntFlag{Name: "count", Usage: "by number"}},
			Metadata: terminal.Examples("innergate trace keep", "innergate trace keep --days 30 --count 500000"),
			Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
				k, err := cl.TraceRetention(ctx)
				if err == nil && (c.IsSet("days") || c.IsSet("count")) {
					in := api.TraceRetention{Days: k.Days, Count: k.Count}
					if c.IsSet("days") {
						in.Days = c.Int("days")
					}
					if c.IsSet("count") {
						in.Count = c.Int("count")
					}
					k, err = cl.SetTraceRetention(ctx, in)
				}
				if err != nil {
					return err
				}
				return p.Show(c, k, func() {
					fmt.Fprintf(
						p.Out, "Traces are kept for %d days, and %d of them at most. The oldest began: %s.\n", k.Days,
						k.Count, terminal.Ago(k.Oldest),
					)
				})
			}),
		},
		{
			Name:  "count",
			Usage: "count the sign-ins of the last days",
			Flags: []cli.Flag{
				&cli.IntFlag{Name: "days", Usage: "from 1 to 366", Value: 7},
				&cli.StringFlag{Name: "app", Usage: "short name of an application"},
				&cli.StringFlag{Name: "provider", Usage: "short name of a provider"},
			},
			Metadata: terminal.Examples("innergate trace count", "innergate trace count --days 30 --app crew-rota"),
			Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
				s, err := cl.Statistics(
					ctx,
					c.Int("days"),
					map[string]string{"application": c.String("app"), "provider": c.String("provider")},
				)
				if err != nil {
					return err
				}
				return p.Show(c, s, func() { p.statistics(s) })
			}),
		},
	}
}

func (p *commands) refusedThere(r *api.RefusedThere) {
	var rows []table.Row
	for _, l := range r.Compare {
		rows = append(rows, table.Row{l.Name, l.Sent, terminal.OrDash(l.Registered), l.Look})
	}
	p.Table(table.Row{"What", "Was sent", "Registered here", "Compare there with"}, rows, "")
	rows = nil
	for _, m := range r.Messages {
		mark := ""
		if m.Fits {
			mark = "▶"
		}
		rows = append(rows, table.Row{mark, m.Says, m.Means, strings.Join(m.Compare, ", ")})
	}
	fmt.Fprintln(p.Out)
	p.Table(table.Row{"", "Where it says such as", "it means", "Compare"}, rows, "")
}

// Bundle makes a file for support.
func Bundle(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:      "bundle",
		Usage:     "one file for support about one sign-in or one partner",
		ArgsUsage: "[REFERENCE]",
		Description: "Lists what is in it; with --out, writes it as an HTML file that is read without the gate. Secrets are never in " +
			"it, signature values are taken out, personal values are masked unless --personal is given.",
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name:  "app",
				Usage: "about this application, by short name",
			}, &cli.StringFlag{Name: "provider", Usage: "about this provider, by short name"},
			&cli.BoolFlag{Name: "personal", Usage: "leave names, identifiers and messages in"},
			&cli.StringFlag{Name: "out", Usage: "the file to write"},
		},
		Metadata: terminal.Examples(
			"innergate bundle 7F3K-92QX", "innergate bundle 7F3K-92QX --out sign-in.html",
			"innergate bundle --provider saltmere-staff --out saltmere.html",
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			q := api.BundleQuestion{Reference: c.Args().First(), Personal: c.Bool("personal")}
			if c.Args().Len() > 1 {
				return terminal.Usage("bundle takes one reference number")
			}
			if q.Slug = c.String("app"); q.Slug != "" {
				q.Kind = "application"
			}
			if s := c.String("provider"); s != "" {
				if q.Slug != "" {
					return terminal.Usage("a bundle is about one partner")
				}
				q.Kind, q.Slug = "provider", s
			}
			cl, err := p.Client(c)
			if err != nil {
				return err
			}
			b, err := cl.Bundle(ctx, q)
			if err != nil {
				return err
			}
			if err := p.Show(c, b, func() {
				var rows []table.Row
				for _, x := range b.Contents {
					rows = append(rows, table.Row{x.What, x.Redacted})
				}
				fmt.Fprintf(p.Out, "A bundle about the %s holds:\n\n", b.About)
				p.Table(table.Row{"What", "Taken out of it"}, rows, "")
			}); err != nil || c.String("out") == "" {
				return err
			}
			page, err := cl.BundleFile(ctx, q)
			if err != nil {
				return err
			}
			if err := os.WriteFile(c.String("out"), page, 0o600); err != nil {
				return fmt.Errorf("the bundle can't be written: %w", err)
			}
			fmt.Fprintf(p.Err, "\n%s is written, %d kB.\n", c.String("out"), (len(page)+1023)/1024)
			return nil
		},
	}
}

func (p *commands) comparison(r *api.TraceComparison, all bool) {
	fmt.Fprintf(
		p.Out, "A  %s  %s  %s, %s, %s\nB  %s  %s  %s, %s, %s\n\n%s\n\n", r.A.Reference, terminal.LocalTime(r.A.Started),
		r.A.Application, terminal.OrDash(r.A.Person), r.A.Outcome, r.B.Reference, terminal.LocalTime(r.B.Started), r.B.Application,
		terminal.OrDash(r.B.Person), r.B.Outcome, r.Words,
	)
	var rows []table.Row
	for i, x := range r.Rows {
		if x.Difference == "" && !all {
			continue
		}
		mark := ""
		if x.Matters {
			mark = "•"
		}
		if i == r.First {
			mark = "▶"
		}
		rows = append(rows, table.Row{mark, string(x.Step), x.Kind, x.Name, terminal.OrDash(x.Difference)})
	}
	p.Table(table.Row{"", "Step", "Kind", "What", "Difference"}, rows, "Nothing differs.")
	for _, c := range r.Configuration {
		fmt.Fprintf(p.Out, "\n%s changed %s (revision %d, %s):\n", c.By, c.Object.Name, c.Revision, terminal.LocalTime(c.At))
		for _, x := range c.Changes {
			fmt.Fprintf(p.Out, "  %s: %s -> %s\n", x.Field, terminal.OrDash(x.Before), terminal.OrDash(x.After))
		}
	}
}

func percent(r *float64) string {
	if r == nil {
		return "none"
	}
	return fmt.Sprintf("%.1f %%", *r*100)
}

func (p *commands) statistics(s *api.Statistics) {
	p.Silent(s.Silent)
	fmt.Fprintf(
		p.Out, "%s to %s: %d signed in, %d refused. Refused in the last day %s, before that %s.\n\n",
		s.From.Local().Format(time.DateOnly), s.Until.Local().Format(time.DateOnly), s.SignedIn, s.Refused,
		percent(s.RateNow), percent(s.RateUsual),
	)
	for _, t := range []struct {
		head string
		list []api.CountLine
	}{{"Application", s.Applications}, {"Provider", s.Providers}} {
		var rows []table.Row
		for _, l := range t.list {
			row := table.Row{l.Name, l.SignedIn, l.Refused}
			if t.head == "Application" {
				row = append(row, terminal.Ago(l.LastSuccess))
			}
			rows = append(rows, row)
		}
		head := table.Row{t.head, "Signed in", "Refused"}
		if t.head == "Application" {
			head = append(head, "Last success")
		}
		p.Table(head, rows, "No sign-in has ended in this time.")
		fmt.Fprintln(p.Out)
	}
	var rows []table.Row
	for _, l := range s.Codes {
		rows = append(rows, table.Row{l.Name, l.Title, l.Refused})
	}
	p.Table(table.Row{"Code", "Title", "Times"}, rows, "Nothing was refused.")
}

// Traces is `innergate trace`: records of sign-ins.
func Traces(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:     "trace",
		Usage:    "records of sign-ins",
		Metadata: terminal.Examples("innergate trace list --outcome refused", "innergate trace show 7F3K-92QX"),
		Commands: append([]*cli.Command{
			{Name: "list", Usage: "list traces, the newest first", Flags: []cli.Flag{
				&cli.StringFlag{
					Name:  "search",
					Usage: "reference number, code, ID of a message or token, or how a name or address begins",
				}, &cli.StringFlag{Name: "from", Usage: "not before, such as 2026-11-23T09:30:00Z"},
				&cli.StringFlag{Name: "until", Usage: "before"}, &cli.StringFlag{Name: "app", Usage: "short name of an application"},
				&cli.StringFlag{Name: "provider", Usage: "short name of a provider"},
				&cli.StringFlag{
					Name:  "outcome",
					Usage: "open, waiting (for its token request), signed-in, not-taken-up, refused, stopped or signed-out",
				}, &cli.StringFlag{Name: "code", Usage: "explanation code"},
				&cli.StringFlag{Name: "flow", Usage: "how it was begun: sp, idp, provider, slo (a sign-out) or client"},
				&cli.IntFlag{Name: "limit", Usage: "rows at most", Value: 20},
				&cli.StringFlag{Name: "after", Usage: "where the page before ended"},
			}, Metadata: terminal.Examples("innergate trace list --app crew-rota"),
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					list, err := cl.Traces(
						ctx,
						client.Page{
							Search: c.String("search"),
							Limit:  c.Int("limit"),
							After:  c.String("after"),
							Filters: map[string]string{
								"application": c.String("app"),
								"provider":    c.String("provider"),
								"outcome":     c.String("outcome"),
								"code":        c.String("code"),
								"flow":        c.String("flow"),
								"from":        c.String("from"),
								"until":       c.String("until"),
							},
						},
					)
					if err != nil {
						return err
					}
					return p.Show(c, list, func() {
						var rows []table.Row
						for _, t := range list.Items {
							rows = append(
								rows,
								table.Row{
									t.Reference,
									terminal.LocalTime(t.Started),
									t.Application,
									t.Provider,
									t.Person,
									t.Outcome,
									t.Code,
								},
							)
						}
						p.Table(
							table.Row{"Reference", "Begun", "Application", "Provider", "Person", "Outcome", "Code"},
							rows,
							"No sign-in fits.",
						)
						p.More(list.Next)
						p.Silent(list.Silent)
					})
				})},
			{
				Name:      "show",
				Usage:     "show the whole record of one sign-in",
				ArgsUsage: "REFERENCE",
				Flags:     []cli.Flag{&cli.BoolFlag{Name: "messages", Usage: "print the messages as well"}},
				Metadata:  terminal.Examples("innergate trace show 7F3K-92QX --messages"),
				Action: p.With("REFERENCE", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					t, err := cl.Trace(ctx, args[0])
					if err != nil {
						return err
					}
					return p.Show(c, t, func() { Print(p.Program, t, c.Bool("messages")) })
				}),
			},
		}, p.moreTraces()...),
	}
}

// Print prints a record as the passage with time running down.
func Print(of *terminal.Program, t *api.Trace, messages bool) {
	p := &commands{of}
	fmt.Fprintf(
		p.Out, "Sign-in %s: %s\n%s through %s, %s, %s, %.1f ms, of which %.1f ms at the provider\n", t.Reference,
		t.Outcome, terminal.OrDash(t.Application), terminal.OrDash(t.Provider),
		map[string]string{"sp": "SP-initiated", "idp": "begun at the gate", "provider": "IdP-initiated"}[t.Flow],
		terminal.LocalTime(t.Started), float64(t.Micros)/1000, float64(t.ProviderMicros)/1000,
	)
	if t.Node != "" {
		fmt.Fprintf(p.Out, "kept by the node at %s\n", t.Node)
	}
	if x := t.Explanation; x != nil {
		fmt.Fprintf(p.Out, "\n✕ %s (%s)\n  %s\n", x.Title, x.Code, x.Cause)
		for i, e := range x.Evidence {
			if e.Expected != "" {
				fmt.Fprintf(p.Out, "    %s\n      expected  %s\n      got       %s\n", e.Label, e.Expected, e.Got)
				if h := x.Differences[i].Hint; h != "" {
					fmt.Fprintf(p.Out, "      (%s)\n", h)
				}
			} else {
				fmt.Fprintf(p.Out, "    %s: %s\n", e.Label, e.Got)
			}
		}
		fmt.Fprintf(p.Out, "  Who must act: %s\n  %s\n", x.Side.Words(), x.Remedy)
		if x.Theirs != "" {
			fmt.Fprintf(p.Out, "  For the other side: %s\n", x.Theirs)
		}
	}
	var step trace.Step
	for _, e := range t.Entries {
		if e.Step != step {
			step = e.Step
			fmt.Fprintf(p.Out, "\n%s\n", step)
		}
		p.traceEntry(e, messages)
	}
}

func (p *commands) traceEntry(e api.TraceEntry, messages bool) {
	at := fmt.Sprintf("%10.1f ms  ", float64(e.At)/1000)
	switch {
	case e.Message != nil:
		m := e.Message
		fmt.Fprintf(p.Out, "%s%s → %s  %s, %s%s, %d bytes\n", at, m.From, m.To, m.Name, m.Binding, terminal.WithComma(m.Signature), m.Size)
		if messages {
			fmt.Fprintln(p.Out, e.Decoded)
			if e.Opened != "" {
				fmt.Fprintln(p.Out, "what was encrypted:\n"+e.Opened)
			}
		}
	case e.Check != nil:
		mark := "✓"
		if !e.Check.OK {
			mark = "✕"
		}
		fmt.Fprintf(p.Out, "%s%s %s  %s  [%s]\n", at, mark, e.Check.Text, e.Check.Got, e.Check.Section)
	case e.Value != nil:
		v := e.Value
		fmt.Fprintf(p.Out, "%s%s ← %s: %s", at, v.Rule, terminal.OrDash(v.From), strings.Join(v.Input, ", "))
		for _, s := range v.Steps {
			fmt.Fprintf(p.Out, " | %s: %s", s.Step, strings.Join(s.Values, ", "))
		}
		if v.Withheld != "" {
			fmt.Fprintf(p.Out, " | not sent: %s", v.Withheld)
		}
		fmt.Fprintln(p.Out)
	case e.Decision != nil:
		fmt.Fprintf(
			p.Out, "%s%s: %s (%s)%s\n", at, e.Decision.About, e.Decision.Result, e.Decision.By,
			terminal.WithComma(strings.Join(e.Decision.Passed, "; ")),
		)
	case e.Failure != nil:
		fmt.Fprintf(p.Out, "%s✕ %s\n", at, e.Failure.Code)
	}
}
