package exchange

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"innergate/cli/terminal"
	"innergate/client"
)

// Exchange is `innergate exchange`: all that the other side's engineer needs from us.
func Exchange(of *terminal.Program) *cli.Command {
	p := &commands{of}
	one := func(name, kind string) *cli.Command {
		return &cli.Command{
			Name:      name,
			Usage:     "the sheet for the engineer of one " + strings.TrimSuffix(kind, "s"),
			ArgsUsage: "SHORTNAME",
			Flags:     sheetFlags(),
			Metadata:  terminal.Examples("innergate exchange " + name + " crew-rota"),
			Action: p.With("SHORTNAME", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
				return p.exchangeSheet(ctx, c, cl, kind, args[0])
			}),
		}
	}
	return &cli.Command{
		Name:        "exchange",
		Usage:       "all that the other side's engineer needs from us",
		ArgsUsage:   "SHORTNAME",
		Description: "With a short name alone it finds out which side that is.",
		Metadata: terminal.Examples("innergate exchange crew-rota", "innergate exchange app crew-rota --markdown",
			"innergate exchange provider saltmere-staff"),
		Commands: []*cli.Command{one("app", "applications"), one("provider", "providers")},
		Flags:    sheetFlags(),
		Action: p.With("SHORTNAME", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			kind, err := sideOf(ctx, cl, args[0])
			if err != nil {
				return err
			}
			return p.exchangeSheet(ctx, c, cl, kind, args[0])
		}),
	}
}

func sheetFlags() []cli.Flag {
	return []cli.Flag{
		&cli.BoolFlag{Name: "markdown", Usage: "as Markdown, to go into a mail"},
		&cli.StringFlag{
			Name:  "compare",
			Usage: "a file (or -) with what the other side's form shows; exits 1 where a value differs",
		},
		&cli.BoolFlag{Name: "note", Usage: "remember that the sheet was handed out now"},
	}
}

// sideOf finds out whether a short name is an application's or a provider's.
func sideOf(ctx context.Context, cl *client.Client, slug string) (string, error) {
	_, appErr := cl.Application(ctx, slug)
	_, providerErr := cl.Provider(ctx, slug)
	switch {
	case appErr == nil && providerErr == nil:
		return "", terminal.Usage("%s is an application and a provider; say which: innergate exchange app %s", slug, slug)
	case providerErr == nil:
		return "providers", nil
	case appErr != nil:
		return "", appErr
	}
	return "applications", nil
}

// exchangeSheet shows the sheet of one side, or holds what the other side's form shows against it.
func (p *commands) exchangeSheet(ctx context.Context, c *cli.Command, cl *client.Client, kind, slug string) error {
	if file := c.String("compare"); file != "" {
		return p.compareSheet(ctx, c, cl, kind, slug, file)
	}
	if c.Bool("note") {
		if err := cl.NoteSheet(ctx, kind, slug); err != nil {
			return err
		}
	}
	s, err := cl.Exchange(ctx, kind, slug)
	if err != nil {
		return err
	}
	return p.Show(c, s, func() {
		if c.Bool("markdown") {
			fmt.Fprint(p.Out, s.Markdown)
			return
		}
		fmt.Fprintf(p.Out, "%s\n%s\n\n", s.Title, s.Role)
		for _, v := range s.Values {
			fmt.Fprintln(p.Out, v.Name)
			if v.Hint != "" {
				fmt.Fprintf(p.Out, "  (%s)\n", v.Hint)
			}
			fmt.Fprintf(p.Out, "  %s\n\n", strings.ReplaceAll(v.Value, "\n", "\n  "))
		}
		for i, step := range s.Steps {
			fmt.Fprintf(p.Out, "%d. %s\n", i+1, step)
		}
		for _, a := range s.Attributes {
			fmt.Fprintf(p.Out, "attribute %s: %s%s\n", a.Name, a.Meaning, terminal.WithComma(a.Sample))
		}
		for _, h := range s.HandedOut {
			state := "still holds"
			if !h.Current {
				state = fmt.Sprintf("%d values no longer hold", len(h.Differences))
			}
			fmt.Fprintf(p.Out, "handed out: %s, %s, last to %s; %s\n", h.What, terminal.LocalTime(h.Last), h.By, state)
		}
	})
}

func (p *commands) compareSheet(ctx context.Context, c *cli.Command, cl *client.Client, kind, slug, file string) error {
	text, err := p.Input(file, 1<<20)
	if err != nil {
		return err
	}
	got, err := cl.CompareSheet(ctx, kind, slug, string(text))
	if err != nil {
		return err
	}
	if err := p.Show(c, got, func() {
		for _, v := range got.Values {
			if v.Difference.Equal {
				fmt.Fprintf(p.Out, "✓ %s: equal to the last character\n", v.Name)
				continue
			}
			fmt.Fprintf(p.Out, "✕ %s (theirs: %s)\n    ours    %s\n    theirs  %s\n", v.Name, terminal.OrDash(v.Label), v.Ours, v.Theirs)
			if v.Difference.Hint != "" {
				fmt.Fprintf(p.Out, "    (%s)\n", v.Difference.Hint)
			}
		}
		for _, name := range got.Absent {
			fmt.Fprintf(p.Out, "? %s was not in it\n", name)
		}
	}); err != nil {
		return err
	}
	if !got.Equal {
		return fmt.Errorf("what the other side holds differs from our sheet")
	}
	return nil
}
