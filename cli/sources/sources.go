package sources

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
	"innergate/core/config"
	"innergate/core/keys"
)

func (p *commands) sourceCommand(
	name, text string,
	flags []cli.Flag,
	more []string,
	example string,
	run func(ctx context.Context, c *cli.Command, cl *client.Client, slug string, rest []string) error,
) *cli.Command {
	return &cli.Command{
		Name:      name,
		Usage:     text,
		ArgsUsage: strings.Join(append([]string{"SHORTNAME"}, more...), " "),
		Flags:     flags,
		Metadata:  terminal.Examples("innergate source " + name + " " + example),
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := terminal.Arguments(c, append([]string{"SHORTNAME"}, more...)...)
			if err != nil {
				return err
			}
			cl, err := p.Client(c)
			if err != nil {
				return err
			}
			return run(ctx, c, cl, args[0], args[1:])
		},
	}
}

// Sources is `innergate source`: sources of metadata of many partners.
func Sources(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:  "source",
		Usage: "sources of metadata of many partners",
		Metadata: terminal.Examples(
			"innergate source add --name Harbours --url https://md.harbours.example/all.xml --certificate harbours.pem",
			"innergate source entities harbours --search ferry",
		),
		Commands: []*cli.Command{
			{
				Name:     "list",
				Usage:    "list sources",
				Metadata: terminal.Examples("innergate source list"),
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					list, err := cl.Sources(ctx)
					if err != nil {
						return err
					}
					return p.Show(c, list, func() {
						var rows []table.Row
						for _, s := range list.Items {
							rows = append(rows, table.Row{
								s.Slug,
								s.Name,
								s.Kind,
								s.Entities,
								terminal.Ago(s.Checked),
								terminal.OrDash(s.Error),
							})
						}
						p.Table(
							table.Row{"Short name", "Name", "Kind", "Entities", "Read", "What is wrong"},
							rows,
							"There is no source. `innergate source add` adds one.",
						)
					})
				}),
			},
			{Name: "add", Usage: "add an aggregate, a metadata query service, or a file", Flags: []cli.Flag{
				&cli.StringFlag{
					Name:     "name",
					Usage:    "its name",
					Required: true,
				}, &cli.StringFlag{Name: "short-name", Usage: "its short name (default: made from the name)"},
				&cli.StringFlag{Name: "url", Usage: "the aggregate's address"},
				&cli.StringFlag{
					Name:  "query",
					Usage: "the query service's address, to which entities/… is added",
				}, &cli.StringFlag{Name: "file", Usage: "a file of many entities, which is uploaded"},
				&cli.StringFlag{
					Name:  "certificate",
					Usage: "file with the certificate of whoever signs the metadata",
				}, &cli.IntFlag{Name: "every", Usage: "minutes between readings (default: what the metadata says)"},
			}, Metadata: terminal.Examples("innergate source add --name Harbours --url https://md.harbours.example/all.xml --certificate "+
				"harbours.pem", "innergate source add --name \"Old list\" --file all.xml"), Action: p.addSource},
			p.sourceCommand(
				"refresh",
				"read a source now, and show how far it is",
				nil,
				nil,
				"harbours",
				func(ctx context.Context, c *cli.Command, cl *client.Client, slug string, _ []string) error {
					return p.followSource(ctx, c, cl, slug)
				},
			),
			p.sourceCommand(
				"cancel",
				"stop a reading that is under way; what was held before stays",
				nil,
				nil,
				"harbours",
				func(ctx context.Context, _ *cli.Command, cl *client.Client, slug string, _ []string) error {
					if err := cl.CancelSource(ctx, slug); err != nil {
						return err
					}
					fmt.Fprintln(p.Out, "Cancelled.")
					return nil
				},
			),
			p.sourceCommand(
				"entities",
				"list a source's entities",
				[]cli.Flag{
					&cli.StringFlag{Name: "search", Usage: "part of a name or entity ID"},
					&cli.StringFlag{Name: "role", Usage: "idp or sp"},
					&cli.IntFlag{Name: "limit", Usage: "rows at most", Value: 50},
					&cli.StringFlag{Name: "after", Usage: "where the page before ended"},
				},
				nil,
				"harbours --search ferry",
				func(ctx context.Context, c *cli.Command, cl *client.Client, slug string, _ []string) error {
					list, err := cl.SourceEntities(
						ctx,
						slug,
						client.Page{
							Search:  c.String("search"),
							Limit:   c.Int("limit"),
							After:   c.String("after"),
							Filters: map[string]string{"role": c.String("role")},
						},
					)
					if err != nil {
						return err
					}
					return p.Show(c, list, func() {
						var rows []table.Row
						for _, e := range list.Items {
							held := ""
							if e.Held != nil {
								held = e.Held.Kind + " " + e.Held.Slug
							}
							rows = append(rows, table.Row{
								e.DisplayName,
								e.EntityID,
								strings.Join(e.Roles, ", "),
								e.Problems,
								terminal.OrDash(held),
							})
						}
						p.Table(table.Row{"Name", "Entity ID", "Roles", "Problems", "Held as"}, rows, "No entity fits.")
						p.More(list.Next)
					})
				},
			),
			p.sourceCommand(
				"look-up",
				"ask a metadata query service for one entity",
				nil,
				[]string{"ENTITYID"},
				"harbours https://port.harbours.example/saml",
				func(ctx context.Context, c *cli.Command, cl *client.Client, slug string, rest []string) error {
					e, err := cl.LookUp(ctx, slug, rest[0])
					if err != nil {
						return err
					}
					return p.Show(c, e, func() {
						fmt.Fprintf(p.Out, "%s\n  %s, %s\n", e.DisplayName, e.EntityID, strings.Join(e.Roles, " and "))
					})
				},
			),
			{
				Name:      "adopt",
				Usage:     "make drafts of entities of a source",
				ArgsUsage: "SHORTNAME app|provider ENTITYID…",
				Metadata:  terminal.Examples("innergate source adopt harbours app https://port.harbours.example/saml"),
				Action:    p.adopt,
			},
			p.sourceCommand(
				"remove",
				"delete a source from which no partner takes its metadata",
				nil,
				nil,
				"harbours",
				func(ctx context.Context, _ *cli.Command, cl *client.Client, slug string, _ []string) error {
					if err := cl.Delete(ctx, "sources", slug); err != nil {
						return err
					}
					fmt.Fprintf(p.Out, "%s is deleted.\n", slug)
					return nil
				},
			),
		},
	}
}

func (p *commands) addSource(ctx context.Context, c *cli.Command) error {
	if _, err := terminal.Arguments(c); err != nil {
		return err
	}
	s := config.Source{Name: c.String("name"), Slug: c.String("short-name"), EveryMinutes: c.Int("every")}
	given := 0
	for kind, value := range map[string]string{config.SourceAggregate: c.String("url"), config.SourceQuery: c.String("query"),
		config.SourceFile: c.String("file")} {
		if value != "" {
			given++
			if s.Kind = kind; kind != config.SourceFile {
				s.URL = value
			}
		}
	}
	if given != 1 {
		return terminal.Usage("one of --url, --query and --file is needed. See `innergate source add --help`")
	}
	if file := c.String("certificate"); file != "" {
		cert, err := p.Pinned(file)
		if err != nil {
			return fmt.Errorf("the certificate in %s can't be read: %w", file, err)
		}
		s.Certificate = string(keys.EncodeCertificate(cert.Raw))
	}
	cl, err := p.Client(c)
	if err != nil {
		return err
	}
	var upload *os.File
	if s.Kind == config.SourceFile {
		if upload, err = os.Open(c.String("file")); err != nil {
			return fmt.Errorf("the file %s can't be read: %w", c.String("file"), err)
		}
		defer upload.Close()
	}
	made, err := cl.AddSource(ctx, s)
	if err != nil {
		return err
	}
	if upload != nil {
		size := int64(0)
		if info, err := upload.Stat(); err == nil {
			size = info.Size()
		}
		b := p.Bar("uploading", size)
		err := cl.UploadSource(ctx, made.Slug, upload, func(have int64) { b.Set(have, size) })
		b.Done(err)
		if err != nil {
			return err
		}
	}
	if s.Kind == config.SourceQuery {
		return p.Show(c, made, func() { p.source(made) })
	}
	return p.followSource(ctx, c, cl, made.Slug)
}

// followSource begins a reading and waits until it has ended.
func (p *commands) followSource(ctx context.Context, c *cli.Command, cl *client.Client, slug string) error {
	s, err := cl.RefreshSource(ctx, slug)
	if err != nil {
		return err
	}
	var b *terminal.Bar
	stage := ""
	for s.Job != nil {
		if s.Job.Stage != stage {
			if b != nil {
				b.Done(nil)
			}
			stage = s.Job.Stage
			b = p.Bar(stage, s.Job.All)
		}
		b.Set(s.Job.Have, s.Job.All)
		select {
		case <-time.After(200 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
		if s, err = cl.Source(ctx, slug); err != nil {
			return err
		}
	}
	if b != nil {
		b.Done(nil)
	}
	if err := p.Show(c, s, func() { p.source(s) }); err != nil {
		return err
	}
	if s.Error != "" {
		return fmt.Errorf("the source was not read: %s", s.Error)
	}
	return nil
}

func (p *commands) source(s *api.Source) {
	until := "–"
	if s.ValidUntil != nil {
		until = terminal.Ending(*s.ValidUntil, time.Now())
	}
	p.Table(
		table.Row{"", ""},
		[]table.Row{
			{"short name", s.Slug},
			{"kind", s.Kind},
			{"address", terminal.OrDash(s.URL)},
			{"calls itself", terminal.OrDash(s.PublishedName)},
			{"entities", s.Entities},
			{"read", terminal.Ago(s.Checked)},
			{"valid until", until},
			{"signed by", terminal.OrDash(s.Pinned)},
		},
		"",
	)
}

func (p *commands) adopt(ctx context.Context, c *cli.Command) error {
	args := c.Args().Slice()
	if len(args) < 3 {
		return terminal.Usage("SHORTNAME, app or provider, and an ENTITYID are needed. See `%s --help`", c.FullName())
	}
	as, ok := map[string]string{"app": "application", "provider": "provider"}[args[1]]
	if !ok {
		return terminal.Usage("%q is no side; app and provider are", args[1])
	}
	cl, err := p.Client(c)
	if err != nil {
		return err
	}
	list, err := cl.Adopt(ctx, args[0], api.Adopt{EntityIDs: args[2:], As: as})
	if err != nil {
		return err
	}
	refused := 0
	for _, a := range list.Items {
		if a.Outcome == "refused" {
			refused++
		}
	}
	if err := p.Show(c, list, func() {
		var rows []table.Row
		for _, a := range list.Items {
			rows = append(rows, table.Row{a.Outcome, a.EntityID, terminal.OrDash(a.Slug), a.Reason})
		}
		p.Table(table.Row{"Outcome", "Entity ID", "Short name", "Why"}, rows, "")
	}); err != nil {
		return err
	}
	if refused > 0 {
		return fmt.Errorf("%d of %d entities could not be taken", refused, len(list.Items))
	}
	return nil
}
