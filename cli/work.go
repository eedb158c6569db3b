package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/client"
	"innergate/core/trace"
	"innergate/gate/rehearsal"
	"innergate/server"
)

func (p *program) rehearse() *cli.Command {
	return &cli.Command{Name: "rehearse", Usage: "order a test sign-in and print its link", ArgsUsage: "[APPLICATION]", Flags: []cli.Flag{
		&cli.StringFlag{
			Name:  "flow",
			Usage: "sp (begin at the application) or idp (unsolicited response)",
			Value: "sp",
		}, &cli.StringFlag{Name: "provider", Usage: "short name, where the application has several"},
		&cli.StringFlag{
			Name:  "to",
			Usage: "deep link for an unsolicited response",
		}, &cli.BoolFlag{Name: "stop", Usage: "end it at the gate: show what the provider sends, and what the application would get"},
		&cli.StringFlag{Name: "proposal", Usage: "the ID of a proposed change that holds in the rehearsal, and nowhere else"},
		&cli.IntFlag{Name: "hours", Usage: "how long the link is good, at most 72", Value: 1},
		&cli.BoolFlag{Name: "keep-session", Usage: "accept an older session at the provider"},
		&cli.StringFlag{
			Name:  "then",
			Usage: "a second application, which is opened after the first and must ask nothing",
		}, &cli.BoolFlag{Name: "sign-out", Usage: "end it with signing out of everything"},
		&cli.BoolFlag{Name: "keep-person", Usage: "make and change the person as a real sign-in would"},
		&cli.StringFlag{Name: "scopes", Usage: "ask the provider for these scopes, parted by commas"},
		&cli.BoolFlag{
			Name:  "follow",
			Usage: "wait for the sign-in and print its trace; exits 1 if it was refused",
		}, &cli.DurationFlag{Name: "wait", Usage: "how long to wait with --follow", Value: 10 * time.Minute},
	}, Metadata: examples("innergate rehearse crew-rota", "innergate rehearse crew-rota --flow idp --follow",
		"innergate rehearse crew-rota --then cargo-ledger --sign-out", "innergate rehearse --provider northquay-stevedores"),
		Action: p.flexible(0, 1, func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			application := ""
			if len(args) == 1 {
				application = args[0]
			} else if c.String("provider") == "" {
				return usage("APPLICATION is missing, or --provider to try a provider alone. See `%s --help`", c.FullName())
			}
			r, err := cl.NewRehearsal(
				ctx,
				api.NewRehearsal{
					Application: application,
					Second:      c.String("then"),
					SignOut:     c.Bool("sign-out"),
					KeepPerson:  c.Bool("keep-person"),
					Scopes:      words(c.String("scopes")),
					Provider:    c.String("provider"),
					Flow:        c.String("flow"),
					To:          c.String("to"),
					KeepSession: c.Bool("keep-session"),
					Stop:        c.Bool("stop"),
					Hours:       c.Int("hours"),
					Proposal:    c.String("proposal"),
				},
			)
			if err != nil {
				return err
			}
			if !c.Bool("follow") {
				return p.show(c, r, func() {
					fmt.Fprintf(
						p.Out,
						"Open this in a browser; it is good until %s, for the first browser that begins:\n\n  %s\n\n",
						localTime(r.Expires), r.Link,
					)
				})
			}
			fmt.Fprintf(p.Err, "Open this in a browser:\n\n  %s\n\n", r.Link)
			return p.follow(ctx, c, cl, r.ID)
		})}
}

// follow prints what comes to the rehearsal's trace as it comes, and the whole of it in the end.
func (p *program) follow(ctx context.Context, c *cli.Command, cl *client.Client, id string) error {
	ctx, cancel := context.WithTimeout(ctx, c.Duration("wait"))
	defer cancel()
	var last api.FollowedTrace
	err := cl.FollowRehearsal(ctx, id, func(t api.FollowedTrace) error {
		for _, e := range t.Entries {
			if line := entryLine(e); line != "" {
				fmt.Fprintf(p.Err, "  %8.1f ms  %-8s %s\n", float64(e.At)/1000, e.Step, line)
			}
		}
		last = t
		return nil
	})
	if ctx.Err() != nil {
		return fmt.Errorf("nobody finished the sign-in in time")
	}
	if err != nil {
		return err
	}
	t, err := cl.Trace(ctx, last.Reference)
	if err != nil {
		return err
	}
	if err := p.show(c, t, func() { p.trace(t, false) }); err != nil {
		return err
	}
	if t.Outcome == "refused" {
		return fmt.Errorf("the sign-in was refused: %s", t.Code)
	}
	return nil
}

// entryLine says an entry in one line; values and checks that held are left to the whole record.
func entryLine(e api.TraceEntry) string {
	switch {
	case e.Message != nil:
		return fmt.Sprintf("%s from %s to %s", e.Message.Name, e.Message.From, e.Message.To)
	case e.Decision != nil:
		return e.Decision.About + ": " + e.Decision.Result
	case e.Check != nil && !e.Check.OK:
		return "failed: " + e.Check.Text
	case e.Failure != nil:
		return "ended: " + e.Failure.Code
	}
	return ""
}

func (p *program) traces() *cli.Command {
	return &cli.Command{
		Name:     "trace",
		Usage:    "records of sign-ins",
		Metadata: examples("innergate trace list --outcome refused", "innergate trace show 7F3K-92QX"),
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
					Usage: "open, signed-in or refused",
				}, &cli.StringFlag{Name: "code", Usage: "explanation code"},
				&cli.IntFlag{Name: "limit", Usage: "rows at most", Value: 20},
				&cli.StringFlag{Name: "after", Usage: "where the page before ended"},
			}, Metadata: examples("innergate trace list --app crew-rota"),
				Action: p.with("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
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
								"from":        c.String("from"),
								"until":       c.String("until"),
							},
						},
					)
					if err != nil {
						return err
					}
					return p.show(c, list, func() {
						var rows []table.Row
						for _, t := range list.Items {
							rows = append(
								rows,
								table.Row{t.Reference, localTime(t.Started), t.Application, t.Provider, t.Person, t.Outcome, t.Code},
							)
						}
						p.table(
							table.Row{"Reference", "Begun", "Application", "Provider", "Person", "Outcome", "Code"},
							rows,
							"No sign-in fits.",
						)
						p.more(list.Next)
					})
				})},
			{
				Name:      "show",
				Usage:     "show the whole record of one sign-in",
				ArgsUsage: "REFERENCE",
				Flags:     []cli.Flag{&cli.BoolFlag{Name: "messages", Usage: "print the messages as well"}},
				Metadata:  examples("innergate trace show 7F3K-92QX --messages"),
				Action: p.with("REFERENCE", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					t, err := cl.Trace(ctx, args[0])
					if err != nil {
						return err
					}
					return p.show(c, t, func() { p.trace(t, c.Bool("messages")) })
				}),
			},
		}, p.moreTraces()...),
	}
}

// trace prints a record as the passage with time running down.
func (p *program) trace(t *api.Trace, messages bool) {
	fmt.Fprintf(
		p.Out, "Sign-in %s: %s\n%s through %s, %s, %s, %.1f ms, of which %.1f ms at the provider\n", t.Reference,
		t.Outcome, orDash(t.Application), orDash(t.Provider),
		map[string]string{"sp": "SP-initiated", "idp": "begun at the gate", "provider": "IdP-initiated"}[t.Flow],
		localTime(t.Started), float64(t.Micros)/1000, float64(t.ProviderMicros)/1000,
	)
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
		fmt.Fprintf(p.Out, "  %s\n", x.Remedy)
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

func (p *program) traceEntry(e api.TraceEntry, messages bool) {
	at := fmt.Sprintf("%10.1f ms  ", float64(e.At)/1000)
	switch {
	case e.Message != nil:
		m := e.Message
		fmt.Fprintf(p.Out, "%s%s → %s  %s, %s%s, %d bytes\n", at, m.From, m.To, m.Name, m.Binding, withComma(m.Signature), m.Size)
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
		fmt.Fprintf(p.Out, "%s%s ← %s: %s", at, v.Rule, orDash(v.From), strings.Join(v.Input, ", "))
		for _, s := range v.Steps {
			fmt.Fprintf(p.Out, " | %s: %s", s.Step, strings.Join(s.Values, ", "))
		}
		fmt.Fprintln(p.Out)
	case e.Decision != nil:
		fmt.Fprintf(
			p.Out, "%s%s: %s (%s)%s\n", at, e.Decision.About, e.Decision.Result, e.Decision.By,
			withComma(strings.Join(e.Decision.Passed, "; ")),
		)
	case e.Failure != nil:
		fmt.Fprintf(p.Out, "%s✕ %s\n", at, e.Failure.Code)
	}
}

func withComma(s string) string {
	if s == "" {
		return ""
	}
	return ", " + s
}

func (p *program) decode() *cli.Command {
	return &cli.Command{
		Name:        "decode",
		Usage:       "make a SAML message, a whole address or a JWT readable; needs no service",
		ArgsUsage:   "TEXT|FILE|-",
		Description: "Nothing is verified. Standard input keeps messages out of the shell's history.",
		Metadata: examples(
			"innergate decode - < message.txt", "innergate decode 'https://id.saltmere.example/sso?SAMLRequest=…'",
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := arguments(c, "TEXT")
			if err != nil {
				return err
			}
			text := args[0]
			if text == "-" {
				data, err := p.input("-", 4<<20)
				if err != nil {
					return err
				}
				text = string(data)
			} else if data, err := p.input(text, 4<<20); err == nil {
				text = string(data)
			}
			d, err := rehearsal.DecodeAnything(text)
			if err != nil {
				return err
			}
			return p.show(c, d, func() {
				fmt.Fprintf(p.Out, "%s%s%s\n", d.Message, withComma(d.Binding), withComma(d.Signed))
				if d.RelayState != "" {
					fmt.Fprintf(p.Out, "RelayState: %s\n", d.RelayState)
				}
				for _, name := range []string{"iat", "nbf", "exp", "auth_time"} {
					if v := d.Parameters[name]; v != "" {
						fmt.Fprintf(p.Out, "%s: %s\n", name, v)
					}
				}
				fmt.Fprintf(p.Out, "\n%s\n", d.Text)
				for _, n := range d.Notes {
					fmt.Fprintln(p.Out, n)
				}
			})
		},
	}
}

func (p *program) tokens() *cli.Command {
	return &cli.Command{
		Name:     "token",
		Usage:    "API tokens",
		Metadata: examples("innergate token new --name pipeline --role viewer --days 90"),
		Commands: []*cli.Command{
			{
				Name:     "list",
				Usage:    "list tokens, without their secrets",
				Metadata: examples("innergate token list"),
				Action: p.with("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					list, err := cl.Tokens(ctx)
					if err != nil {
						return err
					}
					return p.show(c, list, func() {
						var rows []table.Row
						for _, t := range list.Items {
							rows = append(rows, table.Row{t.ID, t.Name, t.Role, t.By, ago(t.LastUsed), ago(t.Expires)})
						}
						p.table(table.Row{"ID", "Name", "Role", "Made by", "Last used", "Ends"}, rows, "There are no tokens.")
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
				Metadata: examples("innergate token new --name pipeline --role engineer"),
				Action: p.with("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					t, err := cl.NewToken(ctx, api.NewToken{Name: c.String("name"), Role: c.String("role"), Days: c.Int("days")})
					if err != nil {
						return err
					}
					return p.show(c, t, func() { fmt.Fprintln(p.Out, t.Secret) })
				}),
			},
			{
				Name:      "revoke",
				Usage:     "take a token back at once",
				ArgsUsage: "ID",
				Metadata:  examples("innergate token revoke 01KAR6…"),
				Action: p.with("ID", func(ctx context.Context, _ *cli.Command, cl *client.Client, args []string) error {
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

// openAPI prints the description of the API, from which the console's types are made.
func (p *program) openAPI() *cli.Command {
	return &cli.Command{
		Name:     "openapi",
		Usage:    "print the management API's OpenAPI description; needs no service",
		Metadata: examples("innergate openapi > openapi.json"),
		Action: func(ctx context.Context, c *cli.Command) error {
			_, err := p.Out.Write(server.Description())
			return err
		},
	}
}
