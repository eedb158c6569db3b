package configuration

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/client"
	"innergate/core/access"
	"innergate/core/config"
)

// Access is `innergate access`: who may use an application, and why.
func Access(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:     "access",
		Usage:    "who may use an application, and why",
		Metadata: terminal.Examples("innergate access show crew-rota", "innergate access why crew-rota mvoss"),
		Commands: []*cli.Command{
			{
				Name:      "show",
				Usage:     "show the rules in sentences, and who is assigned",
				ArgsUsage: "APPLICATION",
				Flags:     terminal.PageFlags,
				Metadata:  terminal.Examples("innergate access show crew-rota"),
				Action:    p.With("APPLICATION", p.showAccess),
			},
			{
				Name:      "set",
				Usage:     "set whom the application is open to, or its whole policy from a file",
				ArgsUsage: "APPLICATION",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "to", Usage: "assigned or everybody"},
					&cli.StringFlag{Name: "otherwise", Usage: "what follows where no rule fits: allow or refuse"},
					&cli.StringFlag{
						Name:  "file",
						Usage: "the policy in YAML or JSON, as under access in a configuration file; - for standard input",
					},
				},
				Metadata: terminal.Examples(
					"innergate access set crew-rota --to assigned",
					"innergate access set crew-rota --file policy.yaml",
				),
				Action: p.With("APPLICATION", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					a, err := cl.Application(ctx, args[0])
					if err != nil {
						return err
					}
					policy := a.Access
					if c.String("file") != "" {
						policy = access.Policy{}
						if err := p.Strictly(c.String("file"), terminal.MaxRules, &policy); err != nil {
							return err
						}
					}
					terminal.Override(&policy.To, c.String("to"))
					terminal.Override(&policy.Otherwise, c.String("otherwise"))
					if a, err = cl.SetAccess(ctx, args[0], policy); err != nil {
						return err
					}
					return p.Show(c, a.Access, func() { p.sentences(a.Access.InWords()) })
				}),
			},
			{
				Name:      "assign",
				Usage:     "let a person or a group use an application, with its own roles",
				ArgsUsage: "APPLICATION",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "person", Usage: "an ID, or how the name or mail address begins"},
					&cli.StringFlag{Name: "group", Usage: "a group's short name"},
					&cli.StringSliceFlag{Name: "role", Usage: "a role of the application's own; may be repeated"},
				},
				Metadata: terminal.Examples(
					"innergate access assign crew-rota --group crew --role editor",
					"innergate access assign crew-rota --person mvoss",
				),
				Action: p.With("APPLICATION", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					kind, who, err := assignee(ctx, c, cl)
					if err != nil {
						return err
					}
					if err := cl.Assign(ctx, args[0], api.Assignment{Kind: kind, Who: who, Roles: c.StringSlice("role")}); err != nil {
						return err
					}
					fmt.Fprintf(p.Out, "The %s is assigned to %s, from now on.\n", kind, args[0])
					return nil
				}),
			},
			{
				Name:      "unassign",
				Usage:     "take an assignment away",
				ArgsUsage: "APPLICATION",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "person", Usage: "an ID, or how the name or mail address begins"},
					&cli.StringFlag{Name: "group", Usage: "a group's short name"},
				},
				Metadata: terminal.Examples("innergate access unassign crew-rota --group crew"),
				Action: p.With("APPLICATION", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					kind, who, err := assignee(ctx, c, cl)
					if err != nil {
						return err
					}
					if err := cl.Unassign(ctx, args[0], kind, who); err != nil {
						return err
					}
					fmt.Fprintf(p.Out, "The %s is no longer assigned to %s.\n", kind, args[0])
					return nil
				}),
			},
			{
				Name:      "who",
				Usage:     "who can get in, and why",
				ArgsUsage: "APPLICATION",
				Flags:     terminal.PageFlags,
				Metadata:  terminal.Examples("innergate access who crew-rota"),
				Action: p.With("APPLICATION", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					w, err := cl.WhoGetsIn(
						ctx,
						args[0],
						client.Page{Search: c.String("search"), Limit: c.Int("limit"), After: c.String("after")},
					)
					if err != nil {
						return err
					}
					return p.Show(c, w, func() {
						p.sentences(w.Rules)
						var rows []table.Row
						for _, a := range w.Items {
							rows = append(
								rows,
								table.Row{
									a.Person.Name,
									terminal.OrDash(a.Person.Email),
									a.Result,
									strings.Join(append(a.Before, a.By), "; "),
									terminal.OrDash(strings.Join(a.Roles, ", ")),
								},
							)
						}
						p.Table(table.Row{"Person", "Mail", "Result", "Because", "Roles"}, rows, "Nobody is assigned, so nobody gets in.")
						p.More(w.Next)
					})
				}),
			},
			{
				Name:      "why",
				Usage:     "whether one person would get in, and why",
				ArgsUsage: "APPLICATION PERSON",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "provider", Usage: "the provider through which they come"},
					&cli.StringFlag{Name: "from", Usage: "the network address from which they come"},
					&cli.StringFlag{Name: "at", Usage: "when, as 2026-11-23T08:00:00Z (default: now)"},
					&cli.BoolFlag{Name: "second-factor", Usage: "as if a second factor had been used"},
				},
				Metadata: terminal.Examples(
					"innergate access why crew-rota mvoss",
					"innergate access why crew-rota mvoss --from 192.0.2.7 --second-factor",
				),
				Action: p.With("APPLICATION PERSON", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					q := api.AccessQuestion{Provider: c.String("provider"), Network: c.String("from"), TwoFactor: c.Bool("second-factor")}
					if q.Network != "" {
						if _, err := netip.ParseAddr(q.Network); err != nil {
							return terminal.Usage("%q is no network address; write it such as 192.0.2.7", q.Network)
						}
					}
					if text := c.String("at"); text != "" {
						at, err := time.Parse(time.RFC3339, text)
						if err != nil {
							return terminal.Usage("%q is no time; write it as 2026-11-23T08:00:00Z", text)
						}
						q.At = &at
					}
					var err error
					if q.Person, err = terminal.PersonID(ctx, cl, args[1]); err != nil {
						return err
					}
					a, err := cl.ExplainAccess(ctx, args[0], q)
					if err != nil {
						return err
					}
					return p.Show(c, a, func() {
						fmt.Fprintf(p.Out, "%s: %s, because: %s\n", a.Person.Name, a.Result, strings.Join(append(a.Before, a.By), "; "))
						if len(a.Roles) > 0 {
							fmt.Fprintf(p.Out, "roles at the application: %s\n", strings.Join(a.Roles, ", "))
						}
						fmt.Fprintf(p.Out, "asked about: %s\n", a.Asked)
						for _, s := range a.Passed {
							fmt.Fprintf(p.Out, "passed over: %s\n", s)
						}
					})
				}),
			},
		},
	}
}

func (p *commands) sentences(list []string) {
	for _, s := range list {
		fmt.Fprintln(p.Out, "  "+s)
	}
	fmt.Fprintln(p.Out)
}

func assignee(ctx context.Context, c *cli.Command, cl *client.Client) (kind, who string, err error) {
	person, group := c.String("person"), c.String("group")
	switch {
	case (person == "") == (group == ""):
		return "", "", terminal.Usage("either --person or --group is needed")
	case group != "":
		return "group", group, nil
	}
	who, err = terminal.PersonID(ctx, cl, person)
	return "person", who, err
}

func (p *commands) showAccess(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	a, err := cl.Application(ctx, args[0])
	if err != nil {
		return err
	}
	list, err := cl.Assignments(ctx, args[0], client.Page{Search: c.String("search"), Limit: c.Int("limit"), After: c.String("after")})
	if err != nil {
		return err
	}
	return p.Show(c, struct {
		Access      access.Policy    `json:"access"`
		Assignments []api.Assignment `json:"assignments"`
		Next        string           `json:"next,omitempty"`
	}{a.Access, list.Items, list.Next}, func() {
		p.sentences(a.Access.InWords())
		var rows []table.Row
		for _, x := range list.Items {
			rows = append(rows, table.Row{x.Kind, x.Name, terminal.OrDash(x.Hint), terminal.OrDash(strings.Join(x.Roles, ", ")), x.By})
		}
		p.Table(table.Row{"", "Assigned", "", "Roles", "By"}, rows, "Nobody is assigned.")
		p.More(list.Next)
	})
}

// RuleSets is `innergate ruleset`: rule sets: mappings and access rules that many use.
func RuleSets(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:     "ruleset",
		Usage:    "rule sets: mappings and access rules that many use",
		Metadata: terminal.Examples("innergate ruleset list"),
		Commands: []*cli.Command{
			{
				Name:     "list",
				Usage:    "list rule sets with who uses them",
				Metadata: terminal.Examples("innergate ruleset list"),
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					list, err := cl.RuleSets(ctx)
					if err != nil {
						return err
					}
					return p.Show(c, list, func() {
						var rows []table.Row
						for _, r := range list.Items {
							rows = append(rows, table.Row{r.Slug, r.Name, r.Kind, len(r.Mapping) + len(r.Rules), len(r.UsedBy)})
						}
						p.Table(
							table.Row{"Short name", "Name", "For", "Rules", "Used by"},
							rows,
							"There is no rule set. A mapping or a list of access rules takes one in with `use: SHORTNAME`.",
						)
					})
				}),
			},
			{
				Name:      "show",
				Usage:     "show a rule set",
				ArgsUsage: "SHORTNAME",
				Metadata:  terminal.Examples("innergate ruleset show names -o yaml"),
				Action: p.With("SHORTNAME", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					r, err := cl.RuleSet(ctx, args[0])
					if err != nil {
						return err
					}
					return p.Show(c, r, func() {
						fmt.Fprintf(p.Out, "%s (%s), for %s\n%s\n\n", r.Name, r.Slug, r.Kind, terminal.OrDash(r.Description))
						for _, rule := range r.Rules {
							fmt.Fprintln(p.Out, "  "+rule.InWords())
						}
						var rows []table.Row
						for _, rule := range r.Mapping {
							var steps []string
							for _, s := range rule.Steps {
								steps = append(steps, s.String())
							}
							from := rule.Value + rule.Expr
							if len(rule.From) > 0 {
								from = strings.Join(rule.From, ", ")
							}
							rows = append(rows, table.Row{rule.Set, from, terminal.OrDash(strings.Join(steps, " | "))})
						}
						if len(rows) > 0 {
							p.Table(table.Row{"Sets", "From", "Steps"}, rows, "")
						}
						for _, u := range r.UsedBy {
							fmt.Fprintf(p.Out, "used by the %s %s (%s)\n", u.Kind, u.Name, u.Slug)
						}
					})
				}),
			},
			{
				Name:      "save",
				Usage:     "add a rule set or replace one from a file",
				ArgsUsage: "FILE",
				Flags:     []cli.Flag{&cli.BoolFlag{Name: "preview", Usage: "show what it does to each of its users, and change nothing"}},
				Metadata:  terminal.Examples("innergate ruleset save names.yaml --preview"),
				Action: p.With("FILE", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					var set config.RuleSet
					if err := p.Strictly(args[0], terminal.MaxRules, &set); err != nil {
						return err
					}
					if set.Slug == "" {
						set.Slug = config.Slug(set.Name)
					}
					_, err := cl.RuleSet(ctx, set.Slug)
					there := err == nil
					if err != nil && terminal.ExitCode(err) != terminal.ExitNotFound {
						return err
					}
					if there {
						effects, err := cl.PreviewRuleSet(ctx, set.Slug, set)
						if err != nil {
							return err
						}
						for _, e := range effects.Items {
							fmt.Fprintf(p.Out, "%s: %s\n", e.Object.Name, terminal.OrDash(strings.Join(append(e.Changes, e.Broken), "; ")))
						}
					}
					switch {
					case c.Bool("preview"):
						return nil
					case there:
						_, err = cl.PutRuleSet(ctx, set.Slug, set)
					default:
						_, err = cl.AddRuleSet(ctx, set)
					}
					if err != nil {
						return err
					}
					fmt.Fprintf(p.Out, "The rule set %s is saved, and acts at once.\n", set.Slug)
					return nil
				}),
			},
			{
				Name:      "remove",
				Usage:     "delete a rule set that nobody uses",
				ArgsUsage: "SHORTNAME",
				Metadata:  terminal.Examples("innergate ruleset remove names"),
				Action: p.With("SHORTNAME", func(ctx context.Context, _ *cli.Command, cl *client.Client, args []string) error {
					if err := cl.DeleteRuleSet(ctx, args[0]); err != nil {
						return err
					}
					fmt.Fprintf(p.Out, "%s is deleted.\n", args[0])
					return nil
				}),
			},
		},
	}
}
