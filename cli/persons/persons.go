package persons

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/client"
	"innergate/core/claims"
	"innergate/core/config"
)

// People is `innergate type`: only this person type.
func People(of *terminal.Program) *cli.Command {
	p := &commands{of}
	filters := append(
		slices.Clone(terminal.PageFlags), &cli.StringFlag{Name: "type", Usage: "only this person type"},
		&cli.StringFlag{Name: "group", Usage: "only people in this group"},
		&cli.StringFlag{Name: "provider", Usage: "only people linked to this provider"},
		&cli.StringFlag{Name: "active", Usage: "yes or no"},
	)
	change := []cli.Flag{
		&cli.StringSliceFlag{
			Name:  "set",
			Usage: "an attribute, as name=value; repeated for several, or for several values of one; name= takes it away",
		},
		&cli.StringFlag{Name: "type", Usage: "the person type"},
		&cli.StringFlag{Name: "groups", Usage: "the groups given by hand, parted by commas; empty for none"},
		&cli.StringFlag{Name: "login", Usage: "the name in the gate's own directory; empty takes it away with all credentials"},
	}
	return &cli.Command{
		Name:     "person",
		Usage:    "people: profiles, groups, links, import and export",
		Metadata: terminal.Examples("innergate person list --search voss"),
		Commands: []*cli.Command{
			{
				Name:     "list",
				Usage:    "list people",
				Flags:    filters,
				Metadata: terminal.Examples("innergate person list --search voss", "innergate person list --group crew -o json"),
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					list, err := cl.People(
						ctx,
						client.Page{
							Search: c.String("search"),
							Limit:  c.Int("limit"),
							After:  c.String("after"),
							Filters: map[string]string{
								"type":     c.String("type"),
								"group":    c.String("group"),
								"provider": c.String("provider"),
								"active":   c.String("active"),
							},
						},
					)
					if err != nil {
						return err
					}
					return p.Show(c, list, func() {
						var rows []table.Row
						for _, x := range list.Items {
							rows = append(
								rows,
								table.Row{
									x.ID,
									x.Name,
									terminal.OrDash(x.Email),
									terminal.OrDash(x.Username),
									x.Type,
									yesNo(x.Active),
									terminal.Ago(x.LastSeen),
								},
							)
						}
						p.Table(
							table.Row{"ID", "Name", "Mail", "User name", "Type", "Active", "Last sign-in"},
							rows,
							"Nobody is known yet, or nobody fits. People come with their first sign-in, or by `innergate person import`.",
						)
						if list.Cut {
							fmt.Fprintln(p.Out, "More begin so than are looked through. A longer text finds the others.")
						}
						p.More(list.Next)
					})
				}),
			},
			{
				Name:      "show",
				Usage:     "show a person with groups, links and accounts",
				ArgsUsage: "PERSON",
				Metadata:  terminal.Examples("innergate person show mira.voss@saltmere.example"),
				Action: p.With("PERSON", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					id, err := terminal.PersonID(ctx, cl, args[0])
					if err != nil {
						return err
					}
					x, err := cl.Person(ctx, id)
					if err != nil {
						return err
					}
					return p.Show(c, x, func() { p.person(x) })
				}),
			},
			{
				Name:  "add",
				Usage: "add a person",
				Flags: change,
				Metadata: terminal.Examples(
					"innergate person add --set name=\"Gwen Fell\" --set email=gwen.fell@saltmere.example --type staff --groups " +
						"crew,bridge",
				),
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					in := api.SavePerson{Profile: claims.Bag{}}
					if err := changes(c, &in); err != nil {
						return err
					}
					x, err := cl.AddPerson(ctx, in)
					if err != nil {
						return err
					}
					return p.Show(c, x, func() { fmt.Fprintf(p.Out, "%s is known as %s.\n", x.Name, x.ID) })
				}),
			},
			{
				Name:      "change",
				Usage:     "change a person; what is set here counts as entered by hand",
				ArgsUsage: "PERSON",
				Flags: append(
					change, &cli.BoolFlag{Name: "deactivate", Usage: "end all sign-ins and let the person in nowhere"},
					&cli.BoolFlag{Name: "activate", Usage: "let the person in again"},
				),
				Metadata: terminal.Examples(
					"innergate person change mvoss --set title=Purser",
					"innergate person change mvoss --deactivate",
				),
				Action: p.With("PERSON", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					id, err := terminal.PersonID(ctx, cl, args[0])
					if err != nil {
						return err
					}
					held, err := cl.Person(ctx, id)
					if err != nil {
						return err
					}
					in := api.SavePerson{Profile: held.Profile}
					if err := changes(c, &in); err != nil {
						return err
					}
					if on, off := c.Bool("activate"), c.Bool("deactivate"); on && off {
						return terminal.Usage("--activate and --deactivate exclude one another")
					} else if on || off {
						in.Active = &on
					}
					x, err := cl.PutPerson(ctx, id, in)
					if err != nil {
						return err
					}
					return p.Show(c, x, func() { p.person(x) })
				}),
			},
			{
				Name:      "password-link",
				Usage:     "make a link with which the person sets a password, once; it is printed once",
				ArgsUsage: "PERSON",
				Metadata:  terminal.Examples("innergate person password-link runa.holt"),
				Action: p.With("PERSON", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					id, err := terminal.PersonID(ctx, cl, args[0])
					if err != nil {
						return err
					}
					made, err := cl.PasswordLink(ctx, id)
					if err != nil {
						return err
					}
					return p.Show(
						c,
						made,
						func() { fmt.Fprintf(p.Out, "%s\ngood until %s\n", made.Link, terminal.LocalTime(made.Expires)) },
					)
				}),
			},
			{
				Name:      "link",
				Usage:     "link a person to the identifier that a provider vouched for in a sign-in: one that found nobody",
				ArgsUsage: "PERSON REFERENCE",
				Metadata:  terminal.Examples("innergate person link iris.vale 7K3M-Q9TD"),
				Action: p.With("PERSON REFERENCE", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					id, err := terminal.PersonID(ctx, cl, args[0])
					if err != nil {
						return err
					}
					x, err := cl.LinkPerson(ctx, id, args[1])
					if err != nil {
						return err
					}
					return p.Show(c, x, func() { p.person(x) })
				}),
			},
			{
				Name:      "unlink",
				Usage:     "take a link to a provider away; the subject is then a stranger again",
				ArgsUsage: "PERSON LINK",
				Metadata:  terminal.Examples("innergate person unlink mvoss 01M5S8K3"),
				Action: p.With("PERSON LINK", func(ctx context.Context, _ *cli.Command, cl *client.Client, args []string) error {
					id, err := terminal.PersonID(ctx, cl, args[0])
					if err != nil {
						return err
					}
					if err := cl.Unlink(ctx, id, args[1]); err != nil {
						return err
					}
					fmt.Fprintln(p.Out, "The link is gone.")
					return nil
				}),
			},
			{
				Name:      "remove",
				Usage:     "delete a person with links, memberships and assignments",
				ArgsUsage: "PERSON",
				Metadata:  terminal.Examples("innergate person remove 01M5S8K3V9QJ4R6T8W0Y2Z4B6D"),
				Action: p.With("PERSON", func(ctx context.Context, _ *cli.Command, cl *client.Client, args []string) error {
					id, err := terminal.PersonID(ctx, cl, args[0])
					if err != nil {
						return err
					}
					if err := cl.DeletePerson(ctx, id); err != nil {
						return err
					}
					fmt.Fprintf(p.Out, "%s is deleted.\n", args[0])
					return nil
				}),
			},
			{
				Name:      "import",
				Usage:     "add and change people from a file; all lines are checked before the first is written",
				ArgsUsage: "FILE",
				Description: "A CSV file has a heading: id, type, active, login, \"groups at the gate\", password_hash and names of " +
					"attributes; several values of a cell are parted by |.\n" +
					"JSON lines have the form {\"type\":\"staff\",\"groups\":[\"crew\"],\"profile\":{\"name\":[\"Mira Voss\"]}}. An " +
					"empty cell changes nothing. Stopped, the\nsame command goes on where it was.",
				Flags: []cli.Flag{
					&cli.StringFlag{
						Name:  "by",
						Usage: "what people are known by: external_id, email, preferred_username or id",
						Value: "external_id",
					},
					&cli.StringFlag{Name: "form", Usage: "csv or jsonl (default: by the file's name)"},
					&cli.BoolFlag{Name: "preview", Usage: "check and tell, and write nothing"},
					&cli.BoolFlag{Name: "skip-bad", Usage: "write the good lines although others are bad"},
				},
				Metadata: terminal.Examples(
					"innergate person import crew.csv --by preferred_username --preview",
					"innergate person import people.jsonl",
				),
				Action: p.With("FILE", p.importPeople),
			},
			{
				Name:     "export",
				Usage:    "write all people to standard output",
				Flags:    []cli.Flag{&cli.StringFlag{Name: "form", Usage: "csv or jsonl", Value: "csv"}},
				Metadata: terminal.Examples("innergate person export > people.csv"),
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					out, err := cl.ExportPeople(ctx, c.String("form"))
					if err != nil {
						return err
					}
					_, err = p.Out.Write(out)
					return err
				}),
			},
		},
	}
}

// changes takes what is to be changed from the flags.
func changes(c *cli.Command, in *api.SavePerson) error {
	seen := map[string]bool{}
	for _, s := range c.StringSlice("set") {
		name, value, ok := strings.Cut(s, "=")
		if !ok || name == "" {
			return terminal.Usage("%q sets nothing; write it as name=value", s)
		}
		if !seen[name] {
			delete(in.Profile, name)
		}
		if seen[name] = true; value != "" {
			in.Profile[name] = append(in.Profile[name], value)
		}
	}
	in.Type = c.String("type")
	if c.IsSet("groups") {
		groups := append([]string{}, terminal.Commas(c.String("groups"))...)
		in.Groups = &groups
	}
	if c.IsSet("login") {
		login := c.String("login")
		in.Login = &login
	}
	return nil
}

func (p *commands) person(x *api.Person) {
	fmt.Fprintf(p.Out, "%s (%s)\n\n", x.Name, x.ID)
	rows := []table.Row{{"type", x.Type, ""}, {"active", yesNo(x.Active), ""}}
	if x.Login != "" {
		rows = append(rows, table.Row{"signs in here as", x.Login, ""})
	}
	for _, n := range x.Profile.Names() {
		rows = append(rows, table.Row{n, terminal.Listed(x.Profile[n]), x.Sources[n]})
	}
	p.Table(table.Row{"Attribute", "Value", "From"}, rows, "")
	fmt.Fprintln(p.Out)
	rows = nil
	for _, g := range x.Groups {
		rows = append(rows, table.Row{g.Slug, g.Name, strings.Join(g.By, ", ")})
	}
	p.Table(table.Row{"Group", "Name", "Given by"}, rows, "In no group.")
	fmt.Fprintln(p.Out)
	rows = nil
	for _, l := range x.Links {
		rows = append(rows, table.Row{l.ID, l.Provider, l.Subject, terminal.LocalTime(l.FirstUsed), terminal.Ago(&l.LastUsed)})
	}
	p.Table(table.Row{"Link", "Provider", "Known there as", "First used", "Last used"}, rows, "Linked to no provider.")
	fmt.Fprintln(p.Out)
	rows = nil
	for _, a := range x.Accounts {
		rows = append(rows, table.Row{a.Application, a.Subject, terminal.LocalTime(a.FirstAt), terminal.Ago(&a.LastAt)})
	}
	p.Table(table.Row{"Application", "Knows them as", "Since", "Last sign-in"}, rows, "Has signed in to no application.")
}

func yesNo(v bool) string {
	if v {
		return "yes"
	}
	return "no"
}

const importPart = 1 << 20

// counted is how many people a group has, as far as they are counted.
func counted(g api.Group) string {
	if g.More {
		return fmt.Sprintf("%d or more", g.People)
	}
	return strconv.Itoa(g.People)
}

// importPeople sends the file in parts, has it checked and, if all is well, written. Each of the three can be stopped
// and taken up again.
func (p *commands) importPeople(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	f, err := os.Open(args[0])
	if err != nil {
		return fmt.Errorf("the file %s can't be read: %w", args[0], err)
	}
	defer f.Close()
	form := c.String("form")
	if form == "" {
		if form = "csv"; strings.HasSuffix(args[0], ".jsonl") || strings.HasSuffix(args[0], ".ndjson") {
			form = "jsonl"
		}
	}
	h := sha256.New()
	size, err := io.Copy(h, f)
	if err != nil {
		return err
	}
	job, err := cl.NewImport(
		ctx,
		api.NewImport{Form: form, By: c.String("by"), SkipBad: c.Bool("skip-bad"), SHA256: hex.EncodeToString(h.Sum(nil))},
	)
	if err != nil {
		return err
	}
	part := make([]byte, importPart)
	for job.State == "open" && job.Size < size {
		n, err := f.ReadAt(part, job.Size)
		if err != nil && err != io.EOF {
			return err
		}
		if job, err = cl.SendImport(ctx, job.ID, job.Size, part[:n]); err != nil {
			return err
		}
		p.progress("sending", int(100*job.Size/size))
	}
	if !job.Writing || job.State != "stopped" {
		if job, err = cl.CheckImport(ctx, job.ID); err == nil {
			job, err = p.untilDone(ctx, cl, job.ID, "checking")
		}
		if err != nil {
			return err
		}
		p.imported(job, "would be created", "would be changed")
		switch {
		case job.State == "stopped":
			return fmt.Errorf("the import stopped: %s", job.Note)
		case c.Bool("preview"):
			return cl.CancelImport(ctx, job.ID)
		case job.Bad > 0 && !c.Bool("skip-bad"):
			_ = cl.CancelImport(ctx, job.ID) // it is begun anew with the corrected file
			return fmt.Errorf("%d lines are bad, so nothing was written. Correct them, or give --skip-bad", job.Bad)
		}
	}
	if job, err = cl.WriteImport(ctx, job.ID); err == nil {
		job, err = p.untilDone(ctx, cl, job.ID, "writing")
	}
	if err != nil {
		return err
	}
	p.imported(job, "created", "changed")
	if job.State == "stopped" {
		return fmt.Errorf("the import stopped: %s", job.Note)
	}
	return nil
}

// untilDone waits until an import's work is done, and tells how far it is.
func (p *commands) untilDone(ctx context.Context, cl *client.Client, id, what string) (*api.Import, error) {
	for {
		job, err := cl.Import(ctx, id)
		if err != nil || job.State != "running" {
			p.progress(what, 100)
			return job, err
		}
		p.progress(what, job.Percent)
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

func (p *commands) progress(what string, percent int) {
	fmt.Fprintf(p.Err, "\r%s %d %%", what, percent)
	if percent >= 100 {
		fmt.Fprintln(p.Err)
	}
}

func (p *commands) imported(job *api.Import, created, changed string) {
	for _, bad := range job.Problems {
		fmt.Fprintf(p.Out, "line %d: %s\n", bad.Line, bad.Message)
	}
	if job.Bad > len(job.Problems) {
		fmt.Fprintf(p.Out, "and %d more bad lines\n", job.Bad-len(job.Problems))
	}
	fmt.Fprintf(
		p.Out, "%d lines: %d %s, %d %s, %d stay as they are, %d are bad\n", job.Lines, job.Created, created,
		job.Updated, changed, job.Unchanged, job.Bad,
	)
}

// Groups is `innergate group`: groups of people at the gate.
func Groups(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:     "group",
		Usage:    "groups of people at the gate",
		Metadata: terminal.Examples("innergate group list"),
		Commands: []*cli.Command{
			{
				Name:     "list",
				Usage:    "list groups",
				Flags:    terminal.PageFlags,
				Metadata: terminal.Examples("innergate group list"),
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					list, err := cl.Groups(ctx, client.Page{Search: c.String("search"), Limit: c.Int("limit"), After: c.String("after")})
					if err != nil {
						return err
					}
					return p.Show(c, list, func() {
						var rows []table.Row
						for _, g := range list.Items {
							rows = append(rows, table.Row{g.Slug, g.Name, counted(g), terminal.OrDash(g.Description)})
						}
						p.Table(
							table.Row{"Short name", "Name", "People", "Description"},
							rows,
							"There is no group. Groups let rules and assignments name many people at once.",
						)
						p.More(list.Next)
					})
				}),
			},
			{
				Name:      "add",
				Usage:     "add a group",
				ArgsUsage: "NAME",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "short-name", Usage: "its short name (default: made from the name)"},
					&cli.StringFlag{Name: "description", Usage: "what it is for"},
				},
				Metadata: terminal.Examples("innergate group add Crew --description \"Everybody on a boat\""),
				Action: p.With("NAME", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					g, err := cl.AddGroup(
						ctx,
						config.Group{Name: args[0], Slug: c.String("short-name"), Description: c.String("description")},
					)
					if err != nil {
						return err
					}
					return p.Show(c, g, func() { fmt.Fprintf(p.Out, "The group %s is there, as %s.\n", g.Name, g.Slug) })
				}),
			},
			{
				Name:      "remove",
				Usage:     "delete a group that nothing names",
				ArgsUsage: "SHORTNAME",
				Metadata:  terminal.Examples("innergate group remove crew"),
				Action: p.With("SHORTNAME", func(ctx context.Context, _ *cli.Command, cl *client.Client, args []string) error {
					if err := cl.DeleteGroup(ctx, args[0]); err != nil {
						return err
					}
					fmt.Fprintf(p.Out, "%s is deleted.\n", args[0])
					return nil
				}),
			},
		},
	}
}
