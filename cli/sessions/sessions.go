package sessions

import (
	"context"
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/client"
)

// Sessions is `innergate session`: sessions at the gate: list, end, limits.
func Sessions(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:     "session",
		Usage:    "sessions at the gate: list, end, limits",
		Metadata: terminal.Examples("innergate session list --person voss"),
		Commands: []*cli.Command{
			{
				Name:  "list",
				Usage: "list sessions, the newest first",
				Metadata: terminal.Examples(
					"innergate session list", "innergate session list --person mira.voss@saltmere.example",
					"innergate session list --app crew-rota --ended",
				),
				Flags: []cli.Flag{
					&cli.StringFlag{
						Name:  "search",
						Usage: "how the person's name begins, or a network address",
					}, &cli.StringFlag{Name: "person", Usage: "only sessions of this person"},
					&cli.StringFlag{Name: "provider", Usage: "only those in which this provider vouched"},
					&cli.StringFlag{Name: "app", Usage: "only those that went to this application"},
					&cli.BoolFlag{
						Name:  "ended",
						Usage: "those that are over as well",
					}, &cli.IntFlag{Name: "limit", Usage: "rows at most", Value: 50},
					&cli.StringFlag{Name: "after", Usage: "where the page before ended"}},
				Action: p.With("", p.listSessions),
			},
			{
				Name:      "end",
				Usage:     "end a session, or all of a person; applications are told",
				ArgsUsage: "SESSION",
				Metadata: terminal.Examples(
					"innergate session end 01ARZ3NDEKTSV4RRFFQ69G5FAV",
					"innergate session end --person mira.voss@saltmere.example",
				),
				Flags: []cli.Flag{&cli.StringFlag{Name: "person", Usage: "all sessions of this person"}},
				Action: func(ctx context.Context, c *cli.Command) error {
					if who := c.String("person"); who != "" {
						return p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
							id, err := terminal.PersonID(ctx, cl, who)
							if err != nil {
								return err
							}
							if err := cl.EndSessionsOf(ctx, id); err != nil {
								return err
							}
							fmt.Fprintln(p.Err, "All sessions of this person have ended; their applications are told.")
							return nil
						})(ctx, c)
					}
					return p.With("SESSION", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
						if err := cl.EndSession(ctx, args[0]); err != nil {
							return err
						}
						fmt.Fprintln(p.Err, "The session has ended; its applications are told.")
						return nil
					})(ctx, c)
				},
			},
			{
				Name:     "limits",
				Usage:    "show how long sessions last, or change it",
				Metadata: terminal.Examples("innergate session limits", "innergate session limits --idle 60 --max 10"),
				Flags: []cli.Flag{
					&cli.IntFlag{Name: "idle", Usage: "minutes for which a session may lie unused"},
					&cli.IntFlag{Name: "max", Usage: "hours that a session lasts at most"},
					&cli.StringFlag{Name: "persistent", Usage: "yes: sessions outlive the browser; no: they go with it"},
				},
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					s, err := cl.SessionLimits(ctx)
					if err != nil {
						return err
					}
					if c.IsSet("idle") || c.IsSet("max") || c.IsSet("persistent") {
						if c.IsSet("idle") {
							s.IdleMinutes = c.Int("idle")
						}
						if c.IsSet("max") {
							s.MaxHours = c.Int("max")
						}
						if c.IsSet("persistent") {
							s.Persistent = c.String("persistent") == "yes"
						}
						if s, err = cl.SetSessionLimits(ctx, *s); err != nil {
							return err
						}
					}
					return p.Show(c, s, func() {
						words := "they go when the browser is closed"
						if s.Persistent {
							words = "they outlive the browser"
						}
						fmt.Fprintf(
							p.Out, "Sessions may lie unused for %d minutes and last %d hours at most; %s.\n",
							s.IdleMinutes, s.MaxHours, words,
						)
					})
				}),
			},
		},
	}
}

func (p *commands) listSessions(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
	filters := map[string]string{"provider": c.String("provider"), "application": c.String("app")}
	if c.Bool("ended") {
		filters["ended"] = "yes"
	}
	if who := c.String("person"); who != "" {
		id, err := terminal.PersonID(ctx, cl, who)
		if err != nil {
			return err
		}
		filters["person"] = id
	}
	list, err := cl.Sessions(
		ctx,
		client.Page{Search: c.String("search"), Limit: c.Int("limit"), After: c.String("after"), Filters: filters},
	)
	if err != nil {
		return err
	}
	return p.Show(c, list, func() {
		var rows []table.Row
		for _, x := range list.Items {
			state := "open, until " + x.Ends.Local().Format("2 Jan 15:04")
			if x.Ended != nil {
				state = x.EndedBy
			}
			rows = append(rows, table.Row{x.ID, x.Person, x.Device, x.Address, through(x), namesOf(x), terminal.Ago(&x.LastUsed), state})
		}
		p.Table(
			table.Row{"ID", "Person", "Device", "Address", "Through", "Applications", "Last used", "State"},
			rows,
			"Nobody has a session at the gate now.",
		)
		p.More(list.Next)
	})
}

func through(x api.Session) string {
	var out []string
	for _, v := range x.Providers {
		name := v.Name
		if v.Strength == "two" {
			name += " (two factors)"
		}
		out = append(out, name)
	}
	return strings.Join(out, ", ")
}

func namesOf(x api.Session) string {
	var out []string
	for _, v := range x.Applications {
		name := v.Name
		if v.Told != "" {
			name += " (" + v.Told + ")"
		}
		out = append(out, name)
	}
	return terminal.OrDash(strings.Join(out, ", "))
}
