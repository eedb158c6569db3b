package watch

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/client"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/xmltree"
	"innergate/gate/fetch"
)

// Metadata is `innergate metadata`: SAML metadata.
func Metadata(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:  "metadata",
		Usage: "SAML metadata",
		Metadata: terminal.Examples(
			"innergate metadata read partner.xml", "innergate metadata refresh provider saltmere-staff",
			"innergate metadata ours > gate.xml",
		),
		Commands: []*cli.Command{
			{
				Name:      "read",
				Usage:     "say what a metadata document holds and what is wrong with it; needs no service",
				ArgsUsage: "SOURCE",
				Description: "SOURCE is a file, an address, or - for standard input: a metadata document in any usual form, a text " +
					"copied from a browser or a mail, or a list of\n" +
					"values. A document of more than 16 MiB is read as a stream. One of which nothing can be used ends with the exit " +
					"code 1.",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "entity", Usage: "the entity ID to show, where there are many; or the one that was cut off"},
					&cli.StringFlag{Name: "certificate", Usage: "file with the certificate whose key must have signed the document"},
				},
				Metadata: terminal.Examples(
					"innergate metadata read partner.xml",
					"curl -s https://id.saltmere.example/metadata | innergate metadata read - -o json",
					"innergate metadata read harbours.xml --certificate harbours.pem",
				),
				Action: p.readMetadata,
			},
			{
				Name:  "ours",
				Usage: "print our metadata: for applications, for one of them, or for one provider",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "app", Usage: "short name of the application"},
					&cli.StringFlag{Name: "provider", Usage: "short name of the provider"},
					&cli.BoolFlag{Name: "signed", Usage: "sign it"},
				},
				Metadata: terminal.Examples(
					"innergate metadata ours --signed > gate.xml",
					"innergate metadata ours --provider saltmere-staff",
				),
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					side, slug := "", c.String("app")
					if slug != "" {
						side = "idp"
					}
					if c.String("provider") != "" {
						side, slug = "sp", c.String("provider")
					}
					doc, err := cl.OurMetadata(ctx, side, slug, c.Bool("signed"))
					if err != nil {
						return err
					}
					_, err = p.Out.Write(append(doc, '\n'))
					return err
				}),
			},
			p.partnerCommand(
				"refresh",
				"look at a partner's metadata address now",
				nil,
				nil,
				func(ctx context.Context, c *cli.Command, cl *client.Client, side, slug string, _ []string) error {
					r, err := cl.Refresh(ctx, side, slug)
					if err != nil {
						return err
					}
					if err := p.Show(c, r, func() { p.refreshed(r) }); err != nil {
						return err
					}
					if r.Outcome == "failed" {
						return fmt.Errorf("the metadata could not be refreshed: %s", r.Error)
					}
					return nil
				},
			),
			p.partnerCommand(
				"history",
				"list the versions of a partner's metadata, the newest first",
				nil,
				nil,
				func(ctx context.Context, c *cli.Command, cl *client.Client, side, slug string, _ []string) error {
					list, err := cl.Documents(ctx, side, slug)
					if err != nil {
						return err
					}
					return p.Show(c, list, func() {
						var rows []table.Row
						for _, d := range list.Items {
							rows = append(
								rows,
								table.Row{
									d.ID,
									terminal.LocalTime(d.Received),
									d.Verdict,
									terminal.OrDash(d.DecidedBy),
									d.Source,
									terminal.OrDash(strings.Join(append(d.Sentences, d.Reason), "\n")),
								},
							)
						}
						p.Table(
							table.Row{"Version", "Received", "Verdict", "By", "From", "What it changed"},
							rows,
							"No metadata was taken yet.",
						)
					})
				},
			),
			p.partnerCommand(
				"diff",
				"show what a version would change; by default the one that waits",
				[]cli.Flag{&cli.StringFlag{Name: "version", Usage: "the version, as listed by history"}},
				nil,
				func(ctx context.Context, c *cli.Command, cl *client.Client, side, slug string, _ []string) error {
					id, err := p.version(ctx, c, cl, side, slug)
					if err != nil {
						return err
					}
					r, err := cl.DocumentChanges(ctx, side, slug, id)
					if err != nil {
						return err
					}
					return p.Show(c, r.Changes, func() { p.changes(r.Changes) })
				},
			),
			p.partnerCommand(
				"use",
				"apply the version that waits, or restore an older one",
				[]cli.Flag{&cli.StringFlag{Name: "version", Usage: "the version, as listed by history"}},
				nil,
				func(ctx context.Context, c *cli.Command, cl *client.Client, side, slug string, _ []string) error {
					id, err := p.version(ctx, c, cl, side, slug)
					if err != nil {
						return err
					}
					r, err := cl.UseDocument(ctx, side, slug, id)
					if err != nil {
						return err
					}
					return p.Show(c, r, func() { p.refreshed(r) })
				},
			),
			p.partnerCommand(
				"dismiss",
				"decide against the version that waits",
				[]cli.Flag{&cli.StringFlag{Name: "version", Usage: "the version, as listed by history"}},
				nil,
				func(ctx context.Context, c *cli.Command, cl *client.Client, side, slug string, _ []string) error {
					id, err := p.version(ctx, c, cl, side, slug)
					if err != nil {
						return err
					}
					if err := cl.DismissDocument(ctx, side, slug, id); err != nil {
						return err
					}
					fmt.Fprintln(p.Out, "Dismissed; the same content is not brought up again.")
					return nil
				},
			),
		},
	}
}

// partnerCommand is a command about one partner.
func (p *commands) partnerCommand(
	name, text string,
	flags []cli.Flag,
	more []string,
	run func(ctx context.Context, c *cli.Command, cl *client.Client, side, slug string, rest []string) error,
) *cli.Command {
	return &cli.Command{
		Name:      name,
		Usage:     text,
		ArgsUsage: strings.Join(append([]string{"app|provider", "SHORTNAME"}, more...), " "),
		Flags:     flags,
		Metadata:  terminal.Examples(strings.TrimSpace("innergate metadata " + name + " provider saltmere-staff")),
		Action: func(ctx context.Context, c *cli.Command) error {
			side, slug, rest, err := terminal.PartnerArguments(c, more...)
			if err != nil {
				return err
			}
			cl, err := p.Client(c)
			if err != nil {
				return err
			}
			return run(ctx, c, cl, side, slug, rest)
		},
	}
}

// version is the one that was named, or the one that waits.
func (p *commands) version(ctx context.Context, c *cli.Command, cl *client.Client, side, slug string) (string, error) {
	if id := c.String("version"); id != "" {
		return id, nil
	}
	list, err := cl.Documents(ctx, side, slug)
	if err != nil {
		return "", err
	}
	for _, d := range list.Items {
		if d.Verdict == "waiting" {
			return d.ID, nil
		}
	}
	return "", fmt.Errorf("no version waits for a decision; name one with --version, as `innergate metadata history` lists them")
}

func (p *commands) refreshed(r *api.Refreshed) {
	fmt.Fprintln(
		p.Out,
		map[string]string{"unchanged": "Nothing changed.", "applied": "Applied:",
			"waiting": "This waits for a decision (`innergate metadata use` or `dismiss`):",
			"partly":  "Certificates were applied; the rest waits for a decision:",
			"failed":  "The last good copy goes on being used."}[r.Outcome],
	)
	for _, s := range r.Sentences {
		fmt.Fprintf(p.Out, "  %s\n", s)
	}
}

func (p *commands) changes(list []api.Change) {
	var rows []table.Row
	for _, x := range list {
		rows = append(rows, table.Row{x.Field, terminal.OrDash(x.Before), terminal.OrDash(x.After)})
	}
	p.Table(table.Row{"Field", "Before", "After"}, rows, "Nothing changes: all this is held already.")
}

func (p *commands) readMetadata(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Arguments(c, "SOURCE")
	if err != nil {
		return err
	}
	var text []byte
	if strings.HasPrefix(args[0], "https://") || strings.HasPrefix(args[0], "http://") {
		// The one who types the address chose it, on a machine of their own.
		text, err = (&fetch.Fetcher{AllowPrivate: true}).Get(ctx, args[0])
	} else if info, statErr := os.Stat(args[0]); statErr == nil && info.Size() > saml.MaxMetadata {
		return p.readAggregate(c, args[0], info.Size())
	} else {
		text, err = p.Input(args[0], saml.MaxMetadata+1)
	}
	if err != nil {
		return err
	}
	doc := saml.Read(text, saml.ReadOptions{Now: time.Now(), EntityID: c.String("entity")})
	if file := c.String("certificate"); file != "" {
		if err := p.verifyMetadata(text, file); err != nil {
			return err
		}
	}
	if id := c.String("entity"); id != "" && len(doc.Entities) > 1 {
		doc.Entities = slices.DeleteFunc(doc.Entities, func(e saml.Entity) bool { return e.EntityID != id })
	}
	if err := p.Show(c, doc, func() { p.showMetadata(doc) }); err != nil {
		return err
	}
	if !doc.Usable() {
		return fmt.Errorf("nothing in %s can be used", args[0])
	}
	return nil
}

func (p *commands) verifyMetadata(text []byte, file string) error {
	cert, err := p.Pinned(file)
	if err != nil {
		return err
	}
	if err := saml.VerifyMetadata(text, []*saml.Certificate{cert}); err != nil {
		return fmt.Errorf("the document is not signed by the certificate in %s: %w", file, err)
	}
	fmt.Fprintln(p.Err, "The signature holds.")
	return nil
}

// aggregateSummary is what is told of a large document.
type aggregateSummary struct {
	Name       string         `json:"name"`
	Entities   int            `json:"entities"`
	IDPs       int            `json:"identityProviders"`
	SPs        int            `json:"serviceProviders"`
	ValidUntil *time.Time     `json:"validUntil"`
	Problems   map[string]int `json:"problems"` // by code
}

// readAggregate reads a large document as a stream.
func (p *commands) readAggregate(c *cli.Command, file string, size int64) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	if cert := c.String("certificate"); cert != "" {
		pinned, err := p.Pinned(cert)
		if err != nil {
			return err
		}
		b := p.Bar("verifying", size)
		err = saml.VerifyStream(&told{r: f, b: b, all: size}, []*saml.Certificate{pinned})
		b.Done(err)
		if err != nil {
			return fmt.Errorf("the document is not signed by the certificate in %s: %w", cert, err)
		}
		fmt.Fprintln(p.Err, "The signature holds.")
		if _, err := f.Seek(0, io.SeekStart); err != nil {
			return err
		}
	}
	s := &aggregateSummary{Problems: map[string]int{}}
	var wanted *saml.Document
	found := errors.New("found")
	b := p.Bar("reading", size)
	a, err := saml.StreamMetadata(
		&told{r: f, b: b, all: size},
		saml.ReadOptions{Now: time.Now()},
		func(d *saml.Document, _ *xmltree.Element) error {
			for _, x := range d.Problems {
				s.Problems[x.Code]++
			}
			for _, e := range d.Entities {
				if e.Role(saml.RoleIDP) != nil {
					s.IDPs++
				}
				if e.Role(saml.RoleSP) != nil {
					s.SPs++
				}
				if e.EntityID == c.String("entity") {
					wanted = d
					return found
				}
			}
			return nil
		},
	)
	if errors.Is(err, found) {
		err = nil
	}
	b.Done(err)
	switch {
	case err != nil:
		return fmt.Errorf("%s can't be read to its end: %w", file, err)
	case wanted != nil:
		return p.Show(c, wanted, func() { p.showMetadata(wanted) })
	case c.String("entity") != "":
		return fmt.Errorf("%s holds no entity %s", file, c.String("entity"))
	}
	s.Name, s.Entities, s.ValidUntil = a.Name, a.Entities, a.ValidUntil
	return p.Show(c, s, func() {
		fmt.Fprintf(
			p.Out,
			"%s\n  %d entities: %d identity providers, %d service providers\n",
			terminal.OrDash(s.Name),
			s.Entities,
			s.IDPs,
			s.SPs,
		)
		if s.ValidUntil != nil {
			fmt.Fprintf(p.Out, "  valid until %s\n", terminal.Ending(*s.ValidUntil, time.Now()))
		}
		for code, n := range s.Problems {
			fmt.Fprintf(p.Out, "! %s  %d times\n", code, n)
		}
		fmt.Fprintln(p.Out, "Show one with --entity, or add the document as a source: `innergate source add`.")
	})
}

// told is a reader that tells a bar how far it is.
type told struct {
	r         io.Reader
	b         *terminal.Bar
	have, all int64
}

func (t *told) Read(p []byte) (int, error) {
	n, err := t.r.Read(p)
	t.have += int64(n)
	t.b.Set(t.have, t.all)
	return n, err
}

func (p *commands) showMetadata(doc *saml.Document) {
	words := map[saml.RoleKind]string{saml.RoleIDP: "identity provider (IdP)", saml.RoleSP: "service provider (SP)"}
	for i, e := range doc.Entities {
		if i == 20 {
			fmt.Fprintf(p.Out, "… and %d more; show one with --entity.\n\n", len(doc.Entities)-i)
			break
		}
		fmt.Fprintf(p.Out, "%s\n  %s\n", terminal.OrDash(e.EntityID), terminal.OrDash(e.DisplayName))
		if e.ValidUntil != nil {
			fmt.Fprintf(p.Out, "  valid until %s\n", terminal.Ending(*e.ValidUntil, time.Now()))
		}
		for _, r := range e.Roles {
			fmt.Fprintf(p.Out, "\n  %s\n", words[r.Kind])
			for _, x := range r.Endpoints {
				fmt.Fprintf(p.Out, "    %-26s %-13s %s\n", x.Service, saml.BindingName(x.Binding), x.Location)
			}
			for _, k := range r.Keys {
				d := keys.Describe(k.Certificate)
				use := k.Use
				if use == "" {
					use = "any use"
				}
				fmt.Fprintf(
					p.Out, "    certificate for %-10s %s, %s, ends %s\n      %s\n", use, d.Subject, d.Key,
					terminal.Ending(d.NotAfter, time.Now()), d.SHA256,
				)
			}
			for _, f := range r.NameIDFormats {
				fmt.Fprintf(p.Out, "    NameID format %s\n", f)
			}
			for _, a := range r.RequestedAttributes {
				fmt.Fprintf(p.Out, "    wants %s %s\n", a.Name, a.FriendlyName)
			}
		}
		fmt.Fprintln(p.Out)
	}
	for _, x := range doc.Problems {
		fmt.Fprintf(p.Out, "! %s  %s\n", x.Code, x.Message)
	}
	if len(doc.Problems) == 0 {
		fmt.Fprintln(p.Out, "Nothing is wrong with it.")
	}
}
