package rehearsal

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"regexp"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/client"
	"innergate/core/saml"
	"innergate/gate/rehearsal"
)

// referenceForm is that of reference numbers.
var referenceForm = regexp.MustCompile(`(?i)^[23456789A-Z]{4}-[23456789A-Z]{4}$`)

// Judge is `innergate judge`: hold a message or token against the configuration, without a browser.
func Judge(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:      "judge",
		Usage:     "hold a message or token against the configuration, without a browser",
		ArgsUsage: "FILE|REFERENCE",
		Description: "Takes a file with a SAML response or request (XML, base64, an address or form), an ID token, an address with an " +
			"authentication request or its answer, a browser's archive of requests (HAR), - for standard input, or a trace's " +
			"reference number: then the response is judged by what is set today, at its own time. Exits with 1 where it would be refused.",
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name:  "provider",
				Usage: "whose rules hold (default: as the response's issuer tells)",
			}, &cli.StringFlag{Name: "app", Usage: "short name of the application for which it is"},
			&cli.StringFlag{Name: "at", Usage: "the time, such as 2026-11-23T09:30:00Z (default: a trace's own, or now)"},
		},
		Metadata: terminal.Examples(
			"innergate judge response.txt --app crew-rota", "innergate judge 7F3K-92QX",
			"innergate judge sign-in.har --at 2026-11-23T09:30:00Z",
		),
		Action: p.With("FILE|REFERENCE", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			q := api.Judge{Provider: c.String("provider"), Application: c.String("app")}
			if at := c.String("at"); at != "" {
				t, err := time.Parse(time.RFC3339, at)
				if err != nil {
					return terminal.Usage("%q is no time such as 2026-11-23T09:30:00Z", at)
				}
				q.At = &t
			}
			if referenceForm.MatchString(args[0]) {
				q.Trace = args[0]
			} else {
				text, note, err := p.messageOrArchive(args[0])
				if err != nil {
					return err
				}
				if q.Message = text; note != "" {
					fmt.Fprintln(p.Err, note)
				}
			}
			r, err := cl.Judge(ctx, q)
			if err != nil {
				return err
			}
			if err := p.Show(c, r, func() { p.judged(r) }); err != nil {
				return err
			}
			if !r.Good {
				return fmt.Errorf("it would be refused: %s", r.Explanation.Code)
			}
			return nil
		}),
	}
}

// messageOrArchive reads a message, or finds it in a browser's archive, which may be large.
func (p *commands) messageOrArchive(name string) (text, note string, err error) {
	in := io.Reader(p.In)
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return "", "", fmt.Errorf("the file can't be read: %w", err)
		}
		defer f.Close()
		in = f
	}
	r := bufio.NewReader(in)
	head, _ := r.Peek(512)
	if strings.HasPrefix(strings.TrimSpace(string(head)), "{") {
		value, count, err := saml.FromArchive(r)
		if err != nil {
			return "", "", err
		}
		if count > 1 {
			note = fmt.Sprintf("The archive holds %d responses; the newest is judged.", count)
		}
		return value, note, nil
	}
	data, err := io.ReadAll(io.LimitReader(r, 2<<20+1))
	return string(data), "", err
}

func (p *commands) judged(r *api.Judged) {
	fmt.Fprintf(
		p.Out,
		"Taken for: %s. Judged as of %s by the rules of %s.\n\n",
		r.Kind,
		terminal.LocalTime(r.At),
		terminal.OrDash(r.Provider+r.Application),
	)
	for _, e := range r.Entries {
		if k := e.Check; k != nil {
			mark := "✓"
			if !k.OK {
				mark = "✕"
			}
			fmt.Fprintf(p.Out, "  %s %s (%s)\n", mark, k.Text, k.Section)
			if !k.OK {
				fmt.Fprintf(p.Out, "      expected  %s\n      got       %s\n", terminal.OrDash(k.Expected), terminal.OrDash(k.Got))
			}
		}
	}
	if x := r.Explanation; x != nil {
		fmt.Fprintf(p.Out, "\n✕ %s (%s)\n  %s\n  %s\n", x.Title, x.Code, x.Cause, x.Remedy)
		return
	}
	if r.Then == nil {
		fmt.Fprintf(p.Out, "\nEvery check holds.\n")
		return
	}
	fmt.Fprintf(p.Out, "\nEvery check holds. It would be %s.\n", terminal.OrDash(r.Then.Person))
	for _, d := range r.Then.Decisions {
		fmt.Fprintf(p.Out, "  %s: %s\n", d.About, d.Result)
	}
}

// Decode is `innergate decode`: make a SAML message, a whole address or a JWT readable; needs no service.
func Decode(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:        "decode",
		Usage:       "make a SAML message, a whole address or a JWT readable; needs no service",
		ArgsUsage:   "TEXT|FILE|-",
		Description: "Nothing is verified. Standard input keeps messages out of the shell's history.",
		Metadata: terminal.Examples(
			"innergate decode - < message.txt", "innergate decode 'https://id.saltmere.example/sso?SAMLRequest=…'",
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := terminal.Arguments(c, "TEXT")
			if err != nil {
				return err
			}
			text := args[0]
			if text == "-" {
				data, err := p.Input("-", 4<<20)
				if err != nil {
					return err
				}
				text = string(data)
			} else if data, err := p.Input(text, 4<<20); err == nil {
				text = string(data)
			}
			d, err := rehearsal.DecodeAnything(text)
			if err != nil {
				return err
			}
			return p.Show(c, d, func() {
				fmt.Fprintf(p.Out, "%s%s%s\n", d.Message, terminal.WithComma(d.Binding), terminal.WithComma(d.Signed))
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
