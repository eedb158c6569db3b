package sources

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/client"
	"innergate/core/files"
)

// Handovers is `innergate handover`: links by which the other side's engineer takes our values and leaves theirs, without an account.
func Handovers(of *terminal.Program) *cli.Command {
	p := &commands{of}
	// owner reads a name such as app/ticket-desk.
	owner := func(text string) (kind, slug string, err error) {
		kind, slug, err = terminal.ObjectNamed(text)
		if err == nil && kind != files.Application && kind != files.Provider {
			err = terminal.Usage("%q is neither an application nor a provider; write it such as app/ticket-desk", text)
		}
		return kind + "s", slug, err
	}
	return &cli.Command{
		Name:  "handover",
		Usage: "links by which the other side's engineer takes our values and leaves theirs, without an account",
		Metadata: terminal.Examples(
			"innergate handover new app/ticket-desk --remark 'your metadata, please'",
			"innergate handover list app/ticket-desk",
		),
		Commands: []*cli.Command{
			{
				Name:      "new",
				Usage:     "make a link; it is printed once",
				ArgsUsage: "OBJECT",
				Flags: []cli.Flag{
					&cli.IntFlag{Name: "hours", Usage: "how long it is good", Value: 168},
					&cli.IntFlag{Name: "openings", Usage: "in how many browsers it may be opened", Value: 3},
					&cli.StringFlag{Name: "remark", Usage: "what the other side is asked for"},
				},
				Metadata: terminal.Examples(
					"innergate handover new app/ticket-desk --hours 48",
					"innergate handover new provider/northquay-stevedores",
				),
				Action: p.With("OBJECT", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					kind, slug, err := owner(args[0])
					if err != nil {
						return err
					}
					h, err := cl.NewHandover(
						ctx,
						kind,
						slug,
						api.NewHandover{Hours: c.Int("hours"), Openings: c.Int("openings"), Remark: c.String("remark")},
					)
					if err != nil {
						return err
					}
					return p.Show(c, h, func() {
						fmt.Fprintln(p.Out, h.Link)
						fmt.Fprintf(
							p.Err,
							"It can be opened in %d browsers until %s. What is left there waits as a proposal: `innergate history "+
								"proposals`.\n",
							h.Most,
							terminal.LocalTime(h.Expires),
						)
					})
				}),
			},
			{
				Name:      "list",
				Usage:     "list the links for an application or provider: who opened them, and what was left",
				ArgsUsage: "OBJECT",
				Metadata:  terminal.Examples("innergate handover list app/ticket-desk"),
				Action: p.With("OBJECT", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					kind, slug, err := owner(args[0])
					if err != nil {
						return err
					}
					list, err := cl.Handovers(ctx, kind, slug)
					if err != nil {
						return err
					}
					return p.Show(c, list, func() {
						if len(list.Items) == 0 {
							fmt.Fprintln(p.Out, "There is no handover link for it.")
						}
						for _, h := range list.Items {
							fmt.Fprintf(
								p.Out, "%s: %s, until %s, by %s. Opened in %d of %d browsers.\n", h.ID, h.State,
								terminal.LocalTime(h.Expires), h.By, len(h.Openings), h.Most,
							)
							for _, o := range h.Openings {
								fmt.Fprintf(p.Out, "  opened %s from %s, %s\n", terminal.LocalTime(o.At), o.Address, o.Device)
							}
							for _, id := range h.Left {
								fmt.Fprintf(p.Out, "  left: proposal %s\n", id)
							}
							for _, t := range h.Rehearsals {
								fmt.Fprintf(p.Out, "  tried: %s, %s %s\n", t.Reference, t.Outcome, t.Code)
							}
						}
					})
				}),
			},
			{
				Name:      "revoke",
				Usage:     "end a link at once",
				ArgsUsage: "ID",
				Metadata:  terminal.Examples("innergate handover revoke 01KAR6…"),
				Action: p.With("ID", func(ctx context.Context, _ *cli.Command, cl *client.Client, args []string) error {
					if err := cl.RevokeHandover(ctx, args[0]); err != nil {
						return err
					}
					fmt.Fprintln(p.Err, "The link is over.")
					return nil
				}),
			},
		},
	}
}

// Batches is `innergate batch`: many applications or providers at once, from files, a list, or a source.
func Batches(of *terminal.Program) *cli.Command {
	p := &commands{of}
	shown := func(c *cli.Command, b *api.Batch, err error) error {
		if err != nil {
			return err
		}
		return p.Show(c, b, func() { p.batch(b) })
	}
	return &cli.Command{
		Name:  "batch",
		Usage: "many applications or providers at once, from files, a list, or a source",
		Metadata: terminal.Examples(
			"innergate batch new metadata/*.xml --provider saltmere-staff", "innergate batch new --list partners.csv",
			"innergate batch new --source harbours",
		),
		Commands: []*cli.Command{
			{
				Name:        "new",
				Usage:       "understand and sort many partners; nothing is made yet",
				ArgsUsage:   "[FILE|FOLDER…]",
				Description: "A list is CSV with a line of columns at its head: " + strings.Join(files.Columns, ", ") + ".",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "side", Usage: "application or provider", Value: "application"},
					&cli.StringFlag{Name: "list", Usage: "a list in CSV; - for standard input"},
					&cli.StringFlag{Name: "source", Usage: "a source's short name"},
					&cli.StringFlag{Name: "search", Usage: "part of a name or entity ID in the source"},
					&cli.StringSliceFlag{
						Name:  "provider",
						Usage: "what people sign in with, where a row says nothing else; may be repeated",
					},
					&cli.StringFlag{Name: "access", Usage: "assigned or everybody"},
					&cli.StringFlag{Name: "contact", Usage: "who looks after them"},
					&cli.StringFlag{Name: "tags", Usage: "parted by commas"},
				},
				Metadata: terminal.Examples(
					"innergate batch new metadata/ --provider saltmere-staff",
					"innergate batch new --list partners.csv --access everybody",
				),
				Action: p.Flexible(0, terminal.ManyFiles, p.newBatch),
			},
			{
				Name:     "list",
				Usage:    "list the newest batches",
				Metadata: terminal.Examples("innergate batch list"),
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					list, err := cl.Batches(ctx)
					if err != nil {
						return err
					}
					return p.Show(c, list, func() {
						var rows []table.Row
						for _, b := range list.Items {
							rows = append(
								rows,
								table.Row{
									b.ID,
									b.Side,
									b.From,
									b.State,
									fmt.Sprintf("%d of %d", b.Made, b.Rows),
									b.By,
									terminal.Ago(&b.Created),
								},
							)
						}
						p.Table(table.Row{"ID", "Side", "From", "State", "Made", "Who", "When"}, rows, "There is no batch.")
					})
				}),
			},
			{
				Name:      "show",
				Usage:     "show a batch with its rows",
				ArgsUsage: "ID",
				Metadata:  terminal.Examples("innergate batch show 01KAR6…"),
				Action: p.With("ID", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					b, err := cl.Batch(ctx, args[0])
					return shown(c, b, err)
				}),
			},
			{
				Name:      "set",
				Usage:     "enter what a row misses, or leave it out",
				ArgsUsage: "ID ROW",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "name"},
					&cli.StringFlag{Name: "short-name"},
					&cli.StringFlag{Name: "start-url"},
					&cli.StringFlag{Name: "entity-id"},
					&cli.StringFlag{Name: "client-id"},
					&cli.StringFlag{Name: "contact"},
					&cli.StringFlag{Name: "description"},
					&cli.StringSliceFlag{Name: "provider"},
					&cli.BoolFlag{Name: "skip", Usage: "leave it out"},
				},
				Metadata: terminal.Examples("innergate batch set 01KAR6… 3 --name 'Pilots of the east' --provider saltmere-staff"),
				Action: p.With("ID ROW", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					n, err := strconv.Atoi(args[1])
					if err != nil {
						return terminal.Usage("%q is no number of a row", args[1])
					}
					b, err := cl.Batch(ctx, args[0])
					if err != nil {
						return err
					}
					i := slices.IndexFunc(b.Rows, func(r api.BatchRow) bool { return r.Number == n })
					if i < 0 {
						return fmt.Errorf("the batch has no row %d", n)
					}
					v := b.Rows[i].Values
					for name, into := range map[string]*string{"name": &v.Name, "short-name": &v.Slug, "start-url": &v.StartURL,
						"entity-id": &v.EntityID, "client-id": &v.ClientID, "contact": &v.Contact, "description": &v.Description} {
						if c.IsSet(name) {
							*into = c.String(name)
						}
					}
					if c.IsSet("provider") {
						v.Providers = c.StringSlice("provider")
					}
					b, err = cl.ChangeBatch(
						ctx,
						args[0],
						api.ChangeBatch{Rows: []api.BatchRowChange{{Number: n, Values: &v, Skip: c.Bool("skip")}}},
					)
					return shown(c, b, err)
				}),
			},
			{
				Name:      "make",
				Usage:     "make drafts of everything that is ready, all of it or nothing",
				ArgsUsage: "ID",
				Metadata:  terminal.Examples("innergate batch make 01KAR6…"),
				Action: p.With("ID", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					b, err := cl.MakeBatch(ctx, args[0])
					return shown(c, b, err)
				}),
			},
		},
	}
}

func (p *commands) newBatch(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	in := api.NewBatch{
		Side:   c.String("side"),
		Source: c.String("source"),
		Search: c.String("search"),
		Common: api.BatchCommon{
			Providers: c.StringSlice("provider"),
			Access:    c.String("access"),
			Contact:   c.String("contact"),
			Tags:      terminal.Words(c.String("tags")),
		},
	}
	if name := c.String("list"); name != "" {
		text, err := p.Input(name, 4<<20)
		if os.IsNotExist(err) {
			err = terminal.NoSuchFile(name)
		}
		if err != nil {
			return err
		}
		in.List = string(text)
	}
	for _, path := range args {
		info, err := os.Stat(path)
		if err != nil {
			return terminal.NoSuchFile(path)
		}
		names := []string{path}
		if info.IsDir() {
			if names, err = filepath.Glob(filepath.Join(path, "*")); err != nil {
				return err
			}
		}
		for _, name := range names {
			if i, err := os.Stat(name); err != nil || i.IsDir() {
				continue
			}
			text, err := p.Input(name, 1<<20)
			if err != nil {
				return err
			}
			in.Files = append(in.Files, files.Text{Name: filepath.Base(name), Text: string(text)})
		}
	}
	b, err := cl.NewBatch(ctx, in)
	for err == nil && b.Looking {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
		b, err = cl.Batch(ctx, b.ID)
	}
	if err != nil {
		return err
	}
	return p.Show(c, b, func() { p.batch(b) })
}

var rowWords = map[string]string{
	"ready":    "ready",
	"value":    "needs a value",
	"decision": "needs a decision",
	"no":       "can't be",
	"made":     "made",
	"new":      "not looked at yet",
}

func (p *commands) batch(b *api.Batch) {
	var rows []table.Row
	for _, r := range b.Rows {
		state := rowWords[r.State]
		if r.Skip {
			state = "left out"
		}
		rows = append(
			rows,
			table.Row{r.Number, r.Label, state, r.Name, r.Slug, strings.Join(r.Providers, ", "), strings.Join(r.Notes, " ")},
		)
	}
	p.Table(table.Row{"Row", "From", "State", "Name", "Short name", "Providers", "Remarks"}, rows, "There is nothing in it.")
	fmt.Fprintf(
		p.Out, "%s: %d ready, %d need a value, %d need a decision, %d can't be, %d made.\n", b.ID, b.Counts["ready"],
		b.Counts["value"], b.Counts["decision"], b.Counts["no"], b.Counts["made"],
	)
}

// Report is `innergate report`: applications or providers by protocol, owner, provider, certificate, last sign-in and findings.
func Report(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:      "report",
		Usage:     "applications or providers by protocol, owner, provider, certificate, last sign-in and findings",
		ArgsUsage: "[applications|providers]",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "csv", Usage: "the whole report for a spreadsheet"},
			&cli.StringFlag{Name: "search"},
			&cli.StringFlag{Name: "kind", Usage: "saml, oidc, guarded, link …"},
			&cli.StringFlag{Name: "provider", Usage: "a provider's short name"},
			&cli.StringFlag{Name: "owner", Usage: "part of the contact"},
			&cli.StringFlag{Name: "reach"},
			&cli.StringFlag{Name: "tag"},
			&cli.IntFlag{Name: "expires", Usage: "certificates that end within so many days"},
			&cli.IntFlag{Name: "unused", Usage: "nobody has signed in for so many days"},
			&cli.BoolFlag{Name: "findings", Usage: "only what something was found about"},
			&cli.StringFlag{
				Name:  "sort",
				Usage: "name, kind, owner, reach, expires, last, people, signins or findings; with - before it the other way round",
			},
			&cli.IntFlag{Name: "limit", Value: 100, Usage: "rows at most"},
			&cli.StringFlag{Name: "after", Usage: "where the page before ended"},
		},
		Metadata: terminal.Examples(
			"innergate report --expires 60",
			"innergate report applications --provider saltmere-staff --csv > staff.csv",
			"innergate report providers --sort -last",
		),
		Action: p.Flexible(0, 1, func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			side := "application"
			if len(args) > 0 {
				side = strings.TrimSuffix(args[0], "s")
			}
			if side == "app" {
				side = "application"
			}
			page := client.Page{
				Search:  c.String("search"),
				Sort:    c.String("sort"),
				Limit:   c.Int("limit"),
				After:   c.String("after"),
				Filters: map[string]string{},
			}
			for _, name := range []string{"kind", "provider", "owner", "reach", "tag"} {
				page.Filters[name] = c.String(name)
			}
			for _, name := range []string{"expires", "unused"} {
				if c.Int(name) > 0 {
					page.Filters[name] = strconv.Itoa(c.Int(name))
				}
			}
			if c.Bool("findings") {
				page.Filters["findings"] = "1"
			}
			if c.Bool("csv") {
				doc, err := cl.ReportCSV(ctx, side, page)
				if err != nil {
					return err
				}
				_, err = p.Out.Write(doc)
				return err
			}
			r, err := cl.Report(ctx, side, page)
			if err != nil {
				return err
			}
			return p.Show(c, r, func() {
				var rows []table.Row
				for _, l := range r.Items {
					ends := "—"
					if l.Expires != nil {
						ends = terminal.Ending(*l.Expires, r.At)
					}
					rows = append(
						rows,
						table.Row{
							l.Slug,
							l.Name,
							l.Kind,
							l.Reach,
							terminal.OrDash(l.Owner),
							terminal.OrDash(strings.Join(l.Providers, ", ")),
							ends,
							terminal.Ago(l.LastSignIn),
							l.SignIns,
							l.People,
							found(l),
						},
					)
				}
				other := map[string]string{"application": "Providers", "provider": "Applications"}[side]
				p.Table(
					table.Row{
						"Short name",
						"Name",
						"Kind",
						"Reach",
						"Owner",
						other,
						"Certificate ends",
						"Last sign-in",
						"30 days",
						"People",
						"Findings",
					},
					rows,
					"Nothing is so.",
				)
				fmt.Fprintf(p.Out, "%d of them.\n", r.Count)
				p.More(r.Next)
			})
		}),
	}
}

func found(l api.ReportLine) string {
	var parts []string
	if l.Broken > 0 {
		parts = append(parts, fmt.Sprintf("%d broken", l.Broken))
	}
	if l.Attention > 0 {
		parts = append(parts, fmt.Sprintf("%d to look at", l.Attention))
	}
	return terminal.OrDash(strings.Join(parts, ", "))
}
