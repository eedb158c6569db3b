package checkups

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
	"innergate/core/checkup"
	"innergate/core/explain"
)

// foundSomething ends `innergate checkup` where something is at or above the severity that was given.
type foundSomething struct{ text string }

func (f *foundSomething) Error() string { return f.text }

// Checkup is `innergate checkup`: inspect the whole configuration, and live with what was found or correct it.
func Checkup(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:  "checkup",
		Usage: "inspect the whole configuration, and live with what was found or correct it",
		Description: "Exits with 1 where something that nobody accepted is at or above the severity given with --fail-at, so that it " +
			"serves in pipelines.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "fail-at", Usage: "broken, attention, remark or never", Value: "broken"},
		},
		Metadata: terminal.Examples(
			"innergate checkup", "innergate checkup --fail-at attention",
			"innergate checkup accept 3f9c0a… --reason \"the vendor changes over in May\" --days 60",
		),
		Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
			least := c.String("fail-at")
			if least != "never" && least != checkup.Broken && least != checkup.Attention && least != checkup.Remark {
				return terminal.Usage("%q is no severity; broken, attention, remark and never are", least)
			}
			r, err := cl.Checkup(ctx)
			if err != nil {
				return err
			}
			if err := p.Show(c, r, func() {
				p.findings(r.Findings)
				fmt.Fprintf(p.Out, "\n%d objects in %d ms: %d broken, %d to attend to, %d remarks, %d accepted.\n", r.Objects, r.Millis,
					r.Broken, r.Attention, r.Remarks, r.Accepted)
			}); err != nil {
				return err
			}
			count := map[string]int{checkup.Broken: r.Broken, checkup.Attention: r.Broken + r.Attention,
				checkup.Remark: r.Broken + r.Attention + r.Remarks}[least]
			if count > 0 {
				return &foundSomething{fmt.Sprintf("%d findings are at or above %q; --fail-at sets the bound", count, least)}
			}
			return nil
		}),
		Commands: []*cli.Command{
			{
				Name:      "accept",
				Usage:     "live with a finding for a while",
				ArgsUsage: "FINDING",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "reason", Usage: "for whoever reads it next", Required: true},
					&cli.IntFlag{Name: "days", Usage: "for how long, at most 366", Value: 30},
				},
				Metadata: terminal.Examples("innergate checkup accept 3f9c0a… --reason \"the vendor changes over in May\" --days 60"),
				Action: p.With("FINDING", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					id, err := wholeFinding(ctx, cl, args[0])
					if err != nil {
						return err
					}
					f, err := cl.AcceptFinding(
						ctx,
						id,
						api.AcceptFinding{Reason: c.String("reason"), Until: time.Now().AddDate(0, 0, c.Int("days"))},
					)
					if err != nil {
						return err
					}
					return p.Show(c, f, func() { p.findings([]api.KeptFinding{*f}) })
				}),
			},
			{
				Name:      "reopen",
				Usage:     "take an acceptance back",
				ArgsUsage: "FINDING",
				Metadata:  terminal.Examples("innergate checkup reopen 3f9c0a…"),
				Action: p.With("FINDING", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					id, err := wholeFinding(ctx, cl, args[0])
					if err != nil {
						return err
					}
					f, err := cl.ReopenFinding(ctx, id)
					if err != nil {
						return err
					}
					return p.Show(c, f, func() { p.findings([]api.KeptFinding{*f}) })
				}),
			},
			{
				Name:      "correct",
				Usage:     "show the change that would settle a finding; with --yes, make it",
				ArgsUsage: "FINDING",
				Flags:     []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "make the change"}},
				Metadata:  terminal.Examples("innergate checkup correct 3f9c0a…", "innergate checkup correct 3f9c0a… --yes"),
				Action: p.With("FINDING", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					id, err := wholeFinding(ctx, cl, args[0])
					if err != nil {
						return err
					}
					fix, err := cl.Correction(ctx, id)
					if err != nil {
						return err
					}
					if err := p.Show(c, fix, func() {
						fmt.Fprintln(p.Out, fix.Words)
						for _, x := range fix.Changes {
							fmt.Fprintf(p.Out, "  %s: %s -> %s\n", x.Field, terminal.OrDash(x.Before), terminal.OrDash(x.After))
						}
					}); err != nil || !c.Bool("yes") {
						return err
					}
					return cl.Correct(ctx, id, fix.Revision)
				}),
			},
			{
				Name:     "outside",
				Usage:    "partners' hosts, as they were last looked at",
				Flags:    []cli.Flag{&cli.StringFlag{Name: "look", Usage: "look at this one now, by scheme, host and port"}},
				Metadata: terminal.Examples("innergate checkup outside", "innergate checkup outside --look https://id.saltmere.example"),
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					list, err := cl.OutsideHosts(ctx)
					if o := c.String("look"); o != "" {
						list, err = cl.LookOutside(ctx, o)
					}
					if err != nil {
						return err
					}
					return p.Show(c, list, func() {
						var rows []table.Row
						for _, h := range list.Items {
							state, skew, ends := "not looked at yet", "", ""
							if h.Looked != nil {
								if state = fmt.Sprintf("%d ms", h.Millis); h.Error != "" {
									state = h.Error
								}
							}
							if h.SkewSeconds != nil {
								skew = fmt.Sprintf("%+d s", *h.SkewSeconds)
							}
							if h.CertEnds != nil {
								ends = terminal.Ago(h.CertEnds)
							}
							var users []string
							for _, u := range h.UsedBy {
								users = append(users, u.Name)
							}
							rows = append(
								rows,
								table.Row{
									h.Origin,
									state,
									terminal.OrDash(skew),
									terminal.OrDash(ends),
									terminal.Ago(h.Looked),
									strings.Join(users, ", "),
								},
							)
						}
						p.Table(
							table.Row{"Host", "Answer", "Clock", "TLS ends", "Looked at", "Of"},
							rows,
							"No partner that is open has a host.",
						)
					})
				}),
			},
			{
				Name:        "tell",
				Usage:       "whom the gate tells about new findings",
				Description: "The webhook's secret is read from INNERGATE_WEBHOOK_SECRET; it is never an argument.",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "webhook", Usage: "an address that takes a POST with the findings"},
					&cli.StringFlag{Name: "mail", Usage: "mail addresses, parted by commas"},
					&cli.StringFlag{Name: "from", Usage: "the mildest severity that is told", Value: checkup.Attention},
					&cli.BoolFlag{Name: "nobody", Usage: "tell nobody any more"},
				},
				Metadata: terminal.Examples(
					"innergate checkup tell", "innergate checkup tell --mail gate@saltmere.example --from broken",
				),
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					n, err := cl.Notices(ctx)
					if c.IsSet("webhook") || c.IsSet("mail") || c.Bool("nobody") {
						in := api.SaveNotices{
							Notices: api.Notices{
								Webhook: c.String("webhook"),
								Mail:    terminal.Commas(c.String("mail")),
								From:    c.String("from"),
							},
						}
						if secret := os.Getenv("INNERGATE_WEBHOOK_SECRET"); secret != "" {
							in.Secret = &secret
						}
						n, err = cl.SetNotices(ctx, in)
					}
					if err != nil {
						return err
					}
					return p.Show(c, n, func() {
						p.Table(
							table.Row{"", ""},
							[]table.Row{
								{"webhook", terminal.OrDash(n.Webhook)},
								{"mail", terminal.OrDash(strings.Join(n.Mail, ", "))},
								{"from", terminal.OrDash(n.From)},
							},
							"",
						)
						var rows []table.Row
						for _, d := range n.Deliveries {
							rows = append(rows, table.Row{d.To, terminal.Ago(d.LastSent), d.Waiting, d.Tries, terminal.OrDash(d.Error)})
						}
						if len(rows) > 0 {
							p.Table(table.Row{"Told", "Last sent", "Waiting", "Tries", "Trouble"}, rows, "")
						}
					})
				}),
			},
		},
	}
}

// wholeFinding completes the beginning of a finding's ID.
func wholeFinding(ctx context.Context, cl *client.Client, text string) (string, error) {
	list, err := cl.Findings(ctx, client.Page{})
	if err != nil {
		return "", err
	}
	var fit []string
	for _, f := range list.Items {
		if strings.HasPrefix(f.ID, strings.TrimSuffix(text, "…")) {
			fit = append(fit, f.ID)
		}
	}
	if len(fit) != 1 {
		return "", terminal.Usage("%d findings begin with %q; `innergate checkup` lists them", len(fit), text)
	}
	return fit[0], nil
}

func (p *commands) findings(list []api.KeptFinding) {
	var rows []table.Row
	for _, f := range list {
		state := f.Severity
		if f.Accepted != nil {
			state = "accepted until " + f.Accepted.Until.Format(time.DateOnly)
		}
		fix := ""
		if f.Correctable {
			fix = "\nA correction is known: innergate checkup correct " + f.ID[:6]
		}
		rows = append(rows, table.Row{f.ID[:6], state, f.Name, f.Title + "\n" + f.Detail + fix, f.Code, terminal.Ago(&f.FirstSeen)})
	}
	p.Table(table.Row{"ID", "State", "About", "Finding", "Code", "Since"}, rows, "Nothing needs attention.")
}

// Explain is the catalogue of failures; it needs no service.
func Explain(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:        "explain",
		Usage:       "what a code means, and who must do what",
		ArgsUsage:   "[CODE]",
		Description: "Needs no service. Without a code it lists all; --search narrows by words.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "search", Usage: "words of the code or the title"},
			&cli.BoolFlag{Name: "handbook", Usage: "print the handbook's page"},
		},
		Metadata: terminal.Examples("innergate explain saml.audience-mismatch", "innergate explain --search clock"),
		Action: func(_ context.Context, c *cli.Command) error {
			switch {
			case c.Bool("handbook"):
				fmt.Fprint(p.Out, explain.Handbook())
				return nil
			case c.Args().Len() > 1:
				return terminal.Usage("explain takes one code")
			case c.Args().Len() == 1:
				e, ok := explain.Lookup(explain.Code(c.Args().First()))
				if !ok {
					near := ""
					if one := explain.Nearest(c.Args().First()); one != "" {
						near = "; the nearest is " + one
					}
					return terminal.Usage("there is no code %q%s. `innergate explain` lists all", c.Args().First(), near)
				}
				return p.Show(c, e, func() { fmt.Fprint(p.Out, e.Text()) })
			}
			var list []explain.Explanation
			for _, e := range explain.All() {
				if s := strings.ToLower(c.String("search")); strings.Contains(strings.ToLower(e.Text()), s) {
					list = append(list, e)
				}
			}
			return p.Show(c, api.List[explain.Explanation]{Items: list}, func() {
				var rows []table.Row
				for _, e := range list {
					rows = append(rows, table.Row{e.Code, e.Title, e.Side.Words(), e.SAMLStatus(), e.OAuthCode()})
				}
				p.Table(table.Row{"Code", "Title", "Who must act", "SAML answers", "OAuth 2.0 answers"}, rows, "No code fits these words.")
			})
		},
	}
}
