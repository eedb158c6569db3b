package configuration

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/client"
	"innergate/core/access"
)

// reachFlags say who is in a circle, for how long, and what becomes of open sessions.
var reachFlags = []cli.Flag{
	&cli.StringFlag{
		Name:  "groups",
		Usage: "of the circle, parted by commas",
	}, &cli.StringFlag{Name: "people", Usage: "of the circle, by user name or mail address"},
	&cli.StringFlag{Name: "networks", Usage: "of the circle, such as 10.20.0.0/16"},
	&cli.IntFlag{Name: "share", Usage: "percent of all people"},
	&cli.StringFlag{
		Name:  "except-groups",
		Usage: "exceptions, which win",
	}, &cli.StringFlag{Name: "except-people", Usage: "exceptions, which win"},
	&cli.StringFlag{Name: "except-networks", Usage: "exceptions, which win"},
	&cli.StringFlag{Name: "instead", Usage: "the provider for those outside a provider's circle"},
	&cli.IntFlag{
		Name:  "minutes",
		Usage: "how long it holds; after that what was before comes back",
	}, &cli.BoolFlag{Name: "end-sessions", Usage: "end the open sessions of people who are outside from then on"},
	&cli.BoolFlag{Name: "preview", Usage: "say whom it would touch, and change nothing"},
}

func reachChange(c *cli.Command, reach string) api.ReachChange {
	in := api.ReachChange{Reach: access.Reach(reach), Minutes: c.Int("minutes"), EndSessions: c.Bool("end-sessions")}
	circle := access.Circle{
		Groups:   terminal.Words(c.String("groups")),
		People:   terminal.Words(c.String("people")),
		Networks: terminal.Words(c.String("networks")),
		Share:    c.Int("share"),
		Instead:  c.String("instead"),
	}
	not := access.Exceptions{
		Groups:   terminal.Words(c.String("except-groups")),
		People:   terminal.Words(c.String("except-people")),
		Networks: terminal.Words(c.String("except-networks")),
	}
	if len(not.Groups)+len(not.People)+len(not.Networks) > 0 {
		circle.Except = &not
	}
	if len(circle.Groups)+len(circle.People)+len(circle.Networks)+circle.Share > 0 || circle.Except != nil || circle.Instead != "" {
		in.Circle = &circle
	}
	return in
}

// reach sets an object's reach; undo and history stand beside it.
func (p *commands) reach(kind, word string) *cli.Command {
	name := map[string]string{"app": "crew-rota", "provider": "northquay-stevedores"}[word]
	act := p.With("SHORTNAME REACH", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
		in := reachChange(c, args[1])
		if c.Bool("preview") {
			r, err := cl.PreviewReach(ctx, kind, args[0], in)
			if err != nil {
				return err
			}
			return p.Show(c, r, func() { p.reachPreview(r) })
		}
		r, err := cl.ChangeReach(ctx, kind, args[0], in)
		if err != nil {
			return err
		}
		return p.Show(c, r, func() {
			p.reachPreview(&r.ReachPreview)
			if r.Ended > 0 {
				fmt.Fprintf(p.Out, "%d sessions were ended.\n", r.Ended)
			}
			if r.Until != nil {
				fmt.Fprintf(p.Out, "It holds until %s.\n", terminal.LocalTime(*r.Until))
			}
			fmt.Fprintf(p.Err, "It acts at once. `innergate %s reach-undo %s` takes it back.\n", word, args[0])
		})
	})
	return &cli.Command{
		Name:      "reach",
		Usage:     "say whom it serves: draft, circle, everyone or closed",
		ArgsUsage: "SHORTNAME draft|circle|everyone|closed",
		Flags:     reachFlags,
		Metadata: terminal.Examples(
			"innergate "+word+" reach "+name+" circle --groups office --except-people mvoss --preview",
			"innergate "+word+" reach "+name+" closed --minutes 30 --end-sessions",
			"innergate "+word+" reach "+name+" everyone",
		),
		Action: act,
	}
}

func (p *commands) reachPreview(r *api.ReachPreview) {
	for _, line := range r.Words {
		fmt.Fprintln(p.Out, line)
	}
	for _, list := range []struct {
		head   string
		people []api.PersonLine
	}{{"Can use it again, or for the first time", r.Gain}, {"Can't use it any more", r.Lose}, {"Have no other way", r.Only}} {
		if len(list.people) == 0 {
			continue
		}
		fmt.Fprintf(p.Out, "\n%s:\n", list.head)
		for _, x := range list.people {
			fmt.Fprintf(p.Out, "  %s (%s)\n", x.Name, terminal.OrDash(x.Email))
		}
	}
}

func (p *commands) reachUndo(kind, word string) *cli.Command {
	return &cli.Command{
		Name:      "reach-undo",
		Usage:     "take the newest change of the reach back",
		ArgsUsage: "SHORTNAME",
		Metadata:  terminal.Examples("innergate " + word + " reach-undo crew-rota"),
		Action: p.With("SHORTNAME", func(ctx context.Context, _ *cli.Command, cl *client.Client, args []string) error {
			if err := cl.UndoReach(ctx, kind, args[0]); err != nil {
				return err
			}
			fmt.Fprintln(p.Err, "It is as it was before.")
			return nil
		}),
	}
}

func (p *commands) reachHistory(kind, word string) *cli.Command {
	return &cli.Command{
		Name:      "reach-history",
		Usage:     "how the reach was changed, the newest first",
		ArgsUsage: "SHORTNAME",
		Metadata:  terminal.Examples("innergate " + word + " reach-history crew-rota"),
		Action: p.With("SHORTNAME", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			list, err := cl.ReachHistory(ctx, kind, args[0])
			if err != nil {
				return err
			}
			return p.Show(c, list, func() {
				var rows []table.Row
				for _, x := range list.Items {
					undone := ""
					if x.Undone != nil {
						undone = "taken back " + terminal.Ago(x.Undone)
					} else if x.Until != nil {
						undone = "until " + terminal.LocalTime(*x.Until)
					}
					rows = append(rows, table.Row{terminal.Ago(&x.At), x.By, x.From, x.To, undone})
				}
				p.Table(table.Row{"When", "Who", "From", "To", ""}, rows, "Its reach was not changed by itself yet.")
			})
		}),
	}
}

// Routes is `innergate route`: the ways by which people sign in: list, set, ask.
func Routes(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:     "route",
		Usage:    "the ways by which people sign in: list, set, ask",
		Metadata: terminal.Examples("innergate route list", "innergate route ask cargo-ledger --name somebody@northquay.example"),
		Commands: []*cli.Command{
			{
				Name:     "list",
				Usage:    "list the routes, in order",
				Metadata: terminal.Examples("innergate route list", "innergate route list -o yaml > routes.yaml"),
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					r, err := cl.Routes(ctx)
					if err != nil {
						return err
					}
					return p.Show(c, r, func() {
						var rows []table.Row
						for i, x := range r.Rules {
							rows = append(
								rows,
								table.Row{i + 1, terminal.OrDash(x.Name), strings.Join(routeWords(x.If), "\n"), strings.Join(x.To, " or ")},
							)
						}
						p.Table(
							table.Row{"", "Name", "If", "Leads to"},
							rows,
							"There is no route: every application offers the providers that serve it. `innergate route set FILE` sets "+
								"some.",
						)
					})
				}),
			},
			{
				Name:      "set",
				Usage:     "replace the routes by what a file holds, in the form that list -o yaml prints",
				ArgsUsage: "FILE",
				Metadata:  terminal.Examples("innergate route set routes.yaml"),
				Action: p.With("FILE", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					data, err := p.Input(args[0], 4<<20)
					if err != nil {
						return err
					}
					doc, err := yaml.YAMLToJSON(data)
					if err != nil {
						return fmt.Errorf("the file %s is not YAML: %s", args[0], yaml.FormatError(err, false, false))
					}
					var r access.Routes
					dec := json.NewDecoder(strings.NewReader(string(doc)))
					dec.DisallowUnknownFields()
					if err := dec.Decode(&r); err != nil {
						return fmt.Errorf("the file %s does not hold routes: %w. Compare with `innergate route list -o yaml`", args[0], err)
					}
					made, err := cl.SetRoutes(ctx, r)
					if err != nil {
						return err
					}
					return p.Show(c, made, func() { fmt.Fprintf(p.Out, "%d routes are set; they act at once.\n", len(made.Rules)) })
				}),
			},
			{
				Name:      "ask",
				Usage:     "where somebody would go, and why",
				ArgsUsage: "APPLICATION",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "person", Usage: "somebody whom the gate knows from a session"},
					&cli.StringFlag{Name: "name", Usage: "what somebody enters: a mail address or login name"},
					&cli.StringFlag{Name: "network", Usage: "the address they come from"},
				},
				Metadata: terminal.Examples(
					"innergate route ask cargo-ledger",
					"innergate route ask cargo-ledger --name lene.aas@northquay.example",
				),
				Action: p.With("APPLICATION", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					q := api.RouteQuestion{Application: args[0], Name: c.String("name"), Network: c.String("network")}
					if who := c.String("person"); who != "" {
						id, err := terminal.PersonID(ctx, cl, who)
						if err != nil {
							return err
						}
						q.Person = id
					}
					a, err := cl.AskRoute(ctx, q)
					if err != nil {
						return err
					}
					return p.Show(c, a, func() { p.routeAnswer(a) })
				}),
			},
		},
	}
}

func (p *commands) routeAnswer(a *api.RouteAnswer) {
	switch {
	case a.Refused != nil:
		fmt.Fprintf(p.Out, "Refused: %s. %s\n", a.Refused.Title, a.Refused.Cause)
	case a.Goes != "":
		fmt.Fprintf(p.Out, "Goes straight to %s.\nBecause: %s\n", a.Goes, a.By)
	default:
		fmt.Fprintf(p.Out, "Sees a page “%s”.\nBecause: %s\n", a.Page.Title, a.By)
		if len(a.Page.Buttons) > 0 {
			fmt.Fprintf(p.Out, "  buttons  %s\n", strings.Join(a.Page.Buttons, ", "))
		}
		if a.Page.Field {
			fmt.Fprintln(p.Out, "  a field for a mail address or name")
		}
	}
	for _, x := range a.Passed {
		fmt.Fprintf(p.Out, "  passed over  %s\n", x)
	}
}

func routeWords(c access.RouteCondition) []string {
	var out []string
	for _, x := range []struct {
		word string
		list []string
	}{{"application", c.Applications}, {"mail domain", c.MailDomains}, {"has used", c.Known}, {"group", c.Groups},
		{"network", c.Networks}, {"asked for", c.Wish}, {"reach", c.Reach}} {
		if len(x.list) > 0 {
			out = append(out, x.word+" "+strings.Join(x.list, " or "))
		}
	}
	if len(out) == 0 {
		return []string{"always"}
	}
	return out
}
