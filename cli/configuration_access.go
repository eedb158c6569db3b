package cli

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/client"
	"innergate/core/access"
	"innergate/core/config"
)

func (p *program) access() *cli.Command {
	return &cli.Command{
		Name:     "access",
		Usage:    "who may use an application, and why",
		Metadata: examples("innergate access show crew-rota", "innergate access why crew-rota mvoss"),
		Commands: []*cli.Command{
			{
				Name:      "show",
				Usage:     "show the rules in sentences, and who is assigned",
				ArgsUsage: "APPLICATION",
				Flags:     pageFlags,
				Metadata:  examples("innergate access show crew-rota"),
				Action:    p.with("APPLICATION", p.showAccess),
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
				Metadata: examples("innergate access set crew-rota --to assigned", "innergate access set crew-rota --file policy.yaml"),
				Action: p.with("APPLICATION", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					a, err := cl.Application(ctx, args[0])
					if err != nil {
						return err
					}
					policy := a.Access
					if c.String("file") != "" {
						policy = access.Policy{}
						if err := p.strictly(c.String("file"), maxRules, &policy); err != nil {
							return err
						}
					}
					override(&policy.To, c.String("to"))
					override(&policy.Otherwise, c.String("otherwise"))
					if a, err = cl.SetAccess(ctx, args[0], policy); err != nil {
						return err
					}
					return p.show(c, a.Access, func() { p.sentences(a.Access.InWords()) })
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
				Metadata: examples(
					"innergate access assign crew-rota --group crew --role editor",
					"innergate access assign crew-rota --person mvoss",
				),
				Action: p.with("APPLICATION", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
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
				Metadata: examples("innergate access unassign crew-rota --group crew"),
				Action: p.with("APPLICATION", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
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
				Flags:     pageFlags,
				Metadata:  examples("innergate access who crew-rota"),
				Action: p.with("APPLICATION", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					w, err := cl.WhoGetsIn(
						ctx,
						args[0],
						client.Page{Search: c.String("search"), Limit: c.Int("limit"), After: c.String("after")},
					)
					if err != nil {
						return err
					}
					return p.show(c, w, func() {
						p.sentences(w.Rules)
						var rows []table.Row
						for _, a := range w.Items {
							rows = append(
								rows,
								table.Row{
									a.Person.Name,
									orDash(a.Person.Email),
									a.Result,
									strings.Join(append(a.Before, a.By), "; "),
									orDash(strings.Join(a.Roles, ", ")),
								},
							)
						}
						p.table(table.Row{"Person", "Mail", "Result", "Because", "Roles"}, rows, "Nobody is assigned, so nobody gets in.")
						p.more(w.Next)
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
				Metadata: examples(
					"innergate access why crew-rota mvoss",
					"innergate access why crew-rota mvoss --from 192.0.2.7 --second-factor",
				),
				Action: p.with("APPLICATION PERSON", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					q := api.AccessQuestion{Provider: c.String("provider"), Network: c.String("from"), TwoFactor: c.Bool("second-factor")}
					if q.Network != "" {
						if _, err := netip.ParseAddr(q.Network); err != nil {
							return usage("%q is no network address; write it such as 192.0.2.7", q.Network)
						}
					}
					if text := c.String("at"); text != "" {
						at, err := time.Parse(time.RFC3339, text)
						if err != nil {
							return usage("%q is no time; write it as 2026-11-23T08:00:00Z", text)
						}
						q.At = &at
					}
					var err error
					if q.Person, err = personID(ctx, cl, args[1]); err != nil {
						return err
					}
					a, err := cl.ExplainAccess(ctx, args[0], q)
					if err != nil {
						return err
					}
					return p.show(c, a, func() {
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

func (p *program) sentences(list []string) {
	for _, s := range list {
		fmt.Fprintln(p.Out, "  "+s)
	}
	fmt.Fprintln(p.Out)
}

func assignee(ctx context.Context, c *cli.Command, cl *client.Client) (kind, who string, err error) {
	person, group := c.String("person"), c.String("group")
	switch {
	case (person == "") == (group == ""):
		return "", "", usage("either --person or --group is needed")
	case group != "":
		return "group", group, nil
	}
	who, err = personID(ctx, cl, person)
	return "person", who, err
}

func (p *program) showAccess(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	a, err := cl.Application(ctx, args[0])
	if err != nil {
		return err
	}
	list, err := cl.Assignments(ctx, args[0], client.Page{Search: c.String("search"), Limit: c.Int("limit"), After: c.String("after")})
	if err != nil {
		return err
	}
	return p.show(c, struct {
		Access      access.Policy    `json:"access"`
		Assignments []api.Assignment `json:"assignments"`
		Next        string           `json:"next,omitempty"`
	}{a.Access, list.Items, list.Next}, func() {
		p.sentences(a.Access.InWords())
		var rows []table.Row
		for _, x := range list.Items {
			rows = append(rows, table.Row{x.Kind, x.Name, orDash(x.Hint), orDash(strings.Join(x.Roles, ", ")), x.By})
		}
		p.table(table.Row{"", "Assigned", "", "Roles", "By"}, rows, "Nobody is assigned.")
		p.more(list.Next)
	})
}

func (p *program) ruleSets() *cli.Command {
	return &cli.Command{
		Name:     "ruleset",
		Usage:    "rule sets: mappings and access rules that many use",
		Metadata: examples("innergate ruleset list"),
		Commands: []*cli.Command{
			{
				Name:     "list",
				Usage:    "list rule sets with who uses them",
				Metadata: examples("innergate ruleset list"),
				Action: p.with("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					list, err := cl.RuleSets(ctx)
					if err != nil {
						return err
					}
					return p.show(c, list, func() {
						var rows []table.Row
						for _, r := range list.Items {
							rows = append(rows, table.Row{r.Slug, r.Name, r.Kind, len(r.Mapping) + len(r.Rules), len(r.UsedBy)})
						}
						p.table(
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
				Metadata:  examples("innergate ruleset show names -o yaml"),
				Action: p.with("SHORTNAME", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					r, err := cl.RuleSet(ctx, args[0])
					if err != nil {
						return err
					}
					return p.show(c, r, func() {
						fmt.Fprintf(p.Out, "%s (%s), for %s\n%s\n\n", r.Name, r.Slug, r.Kind, orDash(r.Description))
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
							rows = append(rows, table.Row{rule.Set, from, orDash(strings.Join(steps, " | "))})
						}
						if len(rows) > 0 {
							p.table(table.Row{"Sets", "From", "Steps"}, rows, "")
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
				Metadata:  examples("innergate ruleset save names.yaml --preview"),
				Action: p.with("FILE", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					var set config.RuleSet
					if err := p.strictly(args[0], maxRules, &set); err != nil {
						return err
					}
					if set.Slug == "" {
						set.Slug = config.Slug(set.Name)
					}
					_, err := cl.RuleSet(ctx, set.Slug)
					there := err == nil
					if err != nil && exitCode(err) != ExitNotFound {
						return err
					}
					if there {
						effects, err := cl.PreviewRuleSet(ctx, set.Slug, set)
						if err != nil {
							return err
						}
						for _, e := range effects.Items {
							fmt.Fprintf(p.Out, "%s: %s\n", e.Object.Name, orDash(strings.Join(append(e.Changes, e.Broken), "; ")))
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
				Metadata:  examples("innergate ruleset remove names"),
				Action: p.with("SHORTNAME", func(ctx context.Context, _ *cli.Command, cl *client.Client, args []string) error {
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
