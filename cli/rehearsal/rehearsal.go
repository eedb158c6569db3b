package rehearsal

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/cli/traces"
	"innergate/client"
)

// Rehearse is `innergate rehearse`: order a test sign-in and print its link.
func Rehearse(of *terminal.Program) *cli.Command {
	p := &commands{of}
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
	}, Metadata: terminal.Examples("innergate rehearse crew-rota", "innergate rehearse crew-rota --flow idp --follow",
		"innergate rehearse crew-rota --then cargo-ledger --sign-out", "innergate rehearse --provider northquay-stevedores"),
		Action: p.Flexible(0, 1, func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			application := ""
			if len(args) == 1 {
				application = args[0]
			} else if c.String("provider") == "" {
				return terminal.Usage("APPLICATION is missing, or --provider to try a provider alone. See `%s --help`", c.FullName())
			}
			r, err := cl.NewRehearsal(
				ctx,
				api.NewRehearsal{
					Application: application,
					Second:      c.String("then"),
					SignOut:     c.Bool("sign-out"),
					KeepPerson:  c.Bool("keep-person"),
					Scopes:      terminal.Words(c.String("scopes")),
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
				return p.Show(c, r, func() {
					fmt.Fprintf(
						p.Out,
						"Open this in a browser; it is good until %s, for the first browser that begins:\n\n  %s\n\n",
						terminal.LocalTime(r.Expires), r.Link,
					)
				})
			}
			fmt.Fprintf(p.Err, "Open this in a browser:\n\n  %s\n\n", r.Link)
			return p.follow(ctx, c, cl, r.ID)
		})}
}

// follow prints what comes to the rehearsal's trace as it comes, and the whole of it in the end.
func (p *commands) follow(ctx context.Context, c *cli.Command, cl *client.Client, id string) error {
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
	if err := p.Show(c, t, func() { traces.Print(p.Program, t, false) }); err != nil {
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
