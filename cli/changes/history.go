package changes

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/client"
	"innergate/core/config"
	"innergate/core/files"
	"innergate/core/journal"
)

// History is `innergate preview`: tell what would happen, and change nothing.
func History(of *terminal.Program) *cli.Command {
	p := &commands{of}
	preview := &cli.BoolFlag{Name: "preview", Usage: "tell what would happen, and change nothing"}
	remark := &cli.StringFlag{Name: "remark", Usage: "why; it stands in the history"}
	return &cli.Command{
		Name:  "history",
		Usage: "every version of everything: list, show, compare, restore; changes that are proposed",
		Metadata: terminal.Examples(
			"innergate history list app/crew-rota", "innergate history restore app/crew-rota 3 --preview",
			"innergate history propose app/cargo-ledger ledger.yaml --remark 'new address'",
		),
		Commands: []*cli.Command{
			{
				Name:      "list",
				Usage:     "list revisions, the newest first: of everything, or of one object",
				ArgsUsage: "[OBJECT]",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "search", Usage: "part of a name, an author or a remark"},
					&cli.StringFlag{Name: "from", Usage: "not before this time"},
					&cli.StringFlag{Name: "until", Usage: "not after this time"},
					&cli.IntFlag{Name: "limit", Value: 20, Usage: "rows at most"},
					&cli.StringFlag{Name: "after", Usage: "where the page before ended"},
				},
				Metadata: terminal.Examples(
					"innergate history list",
					"innergate history list app/crew-rota",
					"innergate history list --from 24h",
				),
				Action: p.Flexible(0, 1, p.listHistory),
			},
			{
				Name:      "show",
				Usage:     "show a revision, and how it differs from the newest or from another",
				ArgsUsage: "OBJECT NUMBER",
				Flags: []cli.Flag{
					&cli.IntFlag{Name: "against", Usage: "the other revision"},
					&cli.BoolFlag{Name: "whole", Usage: "print it as it stands in a file"},
				},
				Metadata: terminal.Examples(
					"innergate history show app/crew-rota 2",
					"innergate history show app/crew-rota 2 --whole > crew-rota.yaml",
				),
				Action: p.With("OBJECT NUMBER", p.showRevision),
			},
			{
				Name:      "restore",
				Usage:     "bring an object back to a revision, or, with --at, the whole configuration to a time",
				ArgsUsage: "[OBJECT NUMBER]",
				Flags:     []cli.Flag{&cli.StringFlag{Name: "at", Usage: "the time"}, preview, remark},
				Metadata:  terminal.Examples("innergate history restore app/crew-rota 3", "innergate history restore --at 2h --preview"),
				Action:    p.Flexible(0, 2, p.restore),
			},
			{
				Name:        "propose",
				Usage:       "propose a change of an application or provider, from a file that holds it",
				ArgsUsage:   "OBJECT FILE",
				Description: "The file is a configuration file; the object is looked for in it. Nothing acts on it until it is applied.",
				Flags:       []cli.Flag{remark},
				Metadata:    terminal.Examples("innergate history propose app/cargo-ledger ledger.yaml --remark 'new address'"),
				Action:      p.With("OBJECT FILE", p.propose),
			},
			{
				Name:     "proposals",
				Usage:    "list what is proposed",
				Flags:    []cli.Flag{&cli.BoolFlag{Name: "all", Usage: "also what was decided"}},
				Metadata: terminal.Examples("innergate history proposals"),
				Action:   p.With("", p.proposals),
			},
			{
				Name:      "proposal",
				Usage:     "show a proposal: what it changes, what people would feel, what was changed meanwhile",
				ArgsUsage: "ID",
				Metadata:  terminal.Examples("innergate history proposal 01KAR6…"),
				Action: p.With("ID", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					v, err := cl.Proposal(ctx, args[0])
					if err != nil {
						return err
					}
					return p.Show(c, v, func() { p.proposal(v) })
				}),
			},
			{
				Name:      "approve",
				Usage:     "approve what somebody else proposed",
				ArgsUsage: "ID",
				Metadata:  terminal.Examples("innergate history approve 01KAR6…"),
				Action: p.With("ID", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					v, err := cl.ApproveProposal(ctx, args[0])
					if err != nil {
						return err
					}
					return p.Show(c, v, func() { p.proposal(v) })
				}),
			},
			{
				Name:      "apply",
				Usage:     "make a proposed change, now or in a window",
				ArgsUsage: "ID",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "from", Usage: "the beginning of the window"},
					&cli.StringFlag{Name: "until", Usage: "its end; an hour later, unless it is named"},
				},
				Metadata: terminal.Examples("innergate history apply 01KAR6…", "innergate history apply 01KAR6… --from '2026-12-01 22:00'"),
				Action: p.With("ID", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					in := api.ApplyProposal{}
					for name, into := range map[string]**time.Time{"from": &in.From, "until": &in.Until} {
						if c.String(name) != "" {
							t, err := terminal.Moment(c.String(name))
							if err != nil {
								return err
							}
							*into = &t
						}
					}
					v, err := cl.ApplyProposal(ctx, args[0], in)
					if err != nil {
						return err
					}
					return p.Show(c, v, func() { p.proposal(v) })
				}),
			},
			{
				Name:      "withdraw",
				Usage:     "end a proposal without making the change",
				ArgsUsage: "ID",
				Flags:     []cli.Flag{&cli.StringFlag{Name: "note", Usage: "why"}},
				Metadata:  terminal.Examples("innergate history withdraw 01KAR6… --note 'not needed any more'"),
				Action: p.With("ID", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					v, err := cl.WithdrawProposal(ctx, args[0], c.String("note"))
					if err != nil {
						return err
					}
					return p.Show(c, v, func() { p.proposal(v) })
				}),
			},
			{
				Name:      "review",
				Usage:     "say whether changes of what serves people need a second person: on or off",
				ArgsUsage: "on|off",
				Metadata:  terminal.Examples("innergate history review on"),
				Action: p.With("ON", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					if args[0] != "on" && args[0] != "off" {
						return terminal.Usage("%q is neither on nor off", args[0])
					}
					r, err := cl.SetReview(ctx, config.Review{Second: args[0] == "on"})
					if err != nil {
						return err
					}
					return p.Show(c, r, func() {
						fmt.Fprintln(
							p.Out,
							map[bool]string{true: "Changes of what serves people need a second person from now on.",
								false: "One person may change what serves people."}[r.Second],
						)
					})
				}),
			},
		},
	}
}

func (p *commands) listHistory(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	kind, slug := "", ""
	if len(args) > 0 {
		var err error
		if kind, slug, err = terminal.ObjectNamed(args[0]); err != nil {
			return err
		}
	}
	filters := map[string]string{}
	for _, name := range []string{"from", "until"} {
		if c.String(name) != "" {
			t, err := terminal.Moment(c.String(name))
			if err != nil {
				return err
			}
			filters[name] = t.UTC().Format(time.RFC3339)
		}
	}
	list, err := cl.History(
		ctx,
		kind,
		slug,
		client.Page{Search: c.String("search"), Limit: c.Int("limit"), After: c.String("after"), Filters: filters},
	)
	if err != nil {
		return err
	}
	return p.Show(c, list, func() {
		var rows []table.Row
		for _, r := range list.Items {
			rows = append(rows, table.Row{terminal.LocalTime(r.At), r.Kind + " " + r.Slug, r.Number, r.Author, inShort(r), r.Remark})
		}
		p.Table(table.Row{"When", "What", "No.", "Who", "Changed", "Remark"}, rows, "There is no revision.")
		p.More(list.Next)
	})
}

// inShort names the fields that a revision changed.
func inShort(r api.Revision) string {
	if r.Action != files.Update {
		return map[string]string{files.Create: "made", files.Remove: "deleted"}[r.Action]
	}
	var fields []string
	for _, c := range r.Changes {
		fields = append(fields, c.Field)
	}
	if len(fields) > 3 {
		return strings.Join(fields[:3], ", ") + fmt.Sprintf(" and %d more", len(fields)-3)
	}
	return strings.Join(fields, ", ")
}

func (p *commands) showRevision(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	kind, slug, err := terminal.ObjectNamed(args[0])
	if err != nil {
		return err
	}
	number, err := strconv.Atoi(args[1])
	if err != nil {
		return terminal.Usage("%q is no number of a revision", args[1])
	}
	v, err := cl.Revision(ctx, kind, slug, number, c.Int("against"))
	if err != nil {
		return err
	}
	return p.Show(c, v, func() {
		if c.Bool("whole") {
			fmt.Fprint(p.Out, v.Text)
			return
		}
		fmt.Fprintf(p.Out, "%s %s, revision %d, by %s at %s. %s\n", v.Kind, v.Slug, v.Number, v.Author, terminal.LocalTime(v.At), v.Remark)
		fmt.Fprintln(p.Out, "It changed:")
		p.differences(v.Changes)
		if v.Against != v.Number {
			fmt.Fprintf(p.Out, "From it to revision %d:\n", v.Against)
			p.differences(v.Differences)
		}
	})
}

func (p *commands) restore(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	in := api.Restore{Preview: c.Bool("preview"), Remark: c.String("remark")}
	switch at := c.String("at"); {
	case at != "" && len(args) == 0:
		t, err := terminal.Moment(at)
		if err != nil {
			return err
		}
		in.At = &t
	case at == "" && len(args) == 2:
		var err error
		if in.Kind, in.Slug, err = terminal.ObjectNamed(args[0]); err != nil {
			return err
		}
		if in.Number, err = strconv.Atoi(args[1]); err != nil || in.Number < 1 {
			return terminal.Usage("%q is no number of a revision", args[1])
		}
	default:
		return terminal.Usage("name an object and a revision, or a time with --at. See `innergate history restore --help`")
	}
	r, err := cl.Restore(ctx, in)
	if err != nil {
		return err
	}
	return p.Show(c, r, func() { p.configResult(r, in.Preview) })
}

func (p *commands) propose(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
	kind, slug, err := terminal.ObjectNamed(args[0])
	if err != nil {
		return err
	}
	texts, err := p.configTexts(args[1:])
	if err != nil {
		return err
	}
	set := files.Read(texts)
	if len(set.Problems) > 0 {
		return set.Problems
	}
	in := api.NewProposal{Kind: kind, Slug: slug, Remark: c.String("remark")}
	for i := range set.Objects {
		o := &set.Objects[i]
		if o.Kind != kind || o.Slug != slug {
			continue
		}
		if kind == files.Application {
			a, err := files.Value[config.Application](o)
			if err != nil {
				return err
			}
			in.Application = &a
		}
		if kind == files.Provider {
			v, err := files.Value[config.Provider](o)
			if err != nil {
				return err
			}
			in.Provider = &v
		}
	}
	if in.Application == nil && in.Provider == nil {
		return fmt.Errorf("%s holds no %s %s", args[1], kind, slug)
	}
	v, err := cl.Propose(ctx, in)
	if err != nil {
		return err
	}
	return p.Show(c, v, func() {
		p.proposal(v)
		fmt.Fprintf(p.Err, "Nothing acts on it yet. `innergate rehearse %s --proposal %s` tries it.\n", slug, v.ID)
	})
}

func (p *commands) proposals(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
	state := "waiting"
	if c.Bool("all") {
		state = ""
	}
	list, err := cl.Proposals(ctx, client.Page{Filters: map[string]string{"state": state}})
	if err != nil {
		return err
	}
	return p.Show(c, list, func() {
		var rows []table.Row
		for _, v := range list.Items {
			rows = append(rows, table.Row{v.ID, v.Kind + " " + v.Slug, proposalState(&v), v.By, terminal.Ago(&v.Created), v.Remark})
		}
		p.Table(table.Row{"ID", "Of", "State", "Who", "When", "Remark"}, rows, "Nothing is proposed.")
		p.More(list.Next)
	})
}

func proposalState(v *api.Proposal) string {
	out := v.State
	if v.From != nil && v.State == "approved" {
		out = "planned for " + terminal.LocalTime(*v.From)
	}
	return out
}

func (p *commands) proposal(v *api.Proposal) {
	fmt.Fprintf(p.Out, "%s: %s %s, %s. Proposed by %s %s.\n", v.ID, v.Kind, v.Slug, proposalState(v), v.By, terminal.Ago(&v.Created))
	for _, line := range []string{v.Remark, v.Note} {
		if line != "" {
			fmt.Fprintln(p.Out, line)
		}
	}
	if v.ApprovedBy != "" {
		fmt.Fprintf(p.Out, "Approved by %s.\n", v.ApprovedBy)
	}
	p.differences(v.Changes)
	if v.Secret {
		fmt.Fprintln(
			p.Out,
			"A client secret came with it, sealed; it counts from when the change is made, in place of the one that counts now.",
		)
	}
	for _, e := range v.Effects {
		fmt.Fprintln(p.Out, e)
	}
	if v.Broken != "" {
		fmt.Fprintln(p.Out, "It can't be made as things are now: "+v.Broken)
	}
	p.meanwhile(v.Meanwhile)
}

func (p *commands) meanwhile(m *api.Meanwhile) {
	if m == nil {
		return
	}
	fmt.Fprintf(p.Out, "Meanwhile %s changed (revision %d):\n", m.By, m.Number)
	p.differences(m.Theirs)
	if len(m.Both) > 0 {
		fmt.Fprintln(p.Out, "Both changed "+strings.Join(m.Both, ", ")+".")
	}
}

// Journal is `innergate journal`: who changed what: list, export, verify.
func Journal(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:     "journal",
		Usage:    "who changed what: list, export, verify",
		Metadata: terminal.Examples("innergate journal list", "innergate journal verify"),
		Commands: []*cli.Command{
			{
				Name:  "list",
				Usage: "list lines, the newest first",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "search", Usage: "part of who, what or which"},
					&cli.IntFlag{Name: "limit", Value: 20, Usage: "rows at most"},
					&cli.StringFlag{Name: "after", Usage: "where the page before ended"},
				},
				Metadata: terminal.Examples("innergate journal list --search rota"),
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					list, err := cl.Journal(ctx, client.Page{Search: c.String("search"), Limit: c.Int("limit"), After: c.String("after")})
					if err != nil {
						return err
					}
					return p.Show(c, list, func() {
						var rows []table.Row
						for _, e := range list.Items {
							rows = append(rows, table.Row{
								e.Number,
								terminal.LocalTime(e.At),
								e.Who,
								e.From,
								e.Action + " " + e.Kind,
								e.Object,
							})
						}
						p.Table(table.Row{"No.", "When", "Who", "From", "What", "Which"}, rows, "The journal has no such line.")
						p.More(list.Next)
					})
				}),
			},
			{
				Name:     "export",
				Usage:    "print the whole journal, a JSON object in each line",
				Metadata: terminal.Examples("innergate journal export > journal.jsonl"),
				Action: p.With("", func(ctx context.Context, _ *cli.Command, cl *client.Client, _ []string) error {
					for from := int64(0); ; {
						part, err := cl.ExportJournal(ctx, from)
						if err != nil || len(part) == 0 {
							return err
						}
						if _, err := p.Out.Write(part); err != nil {
							return err
						}
						lines := bytes.Split(bytes.TrimSpace(part), []byte("\n"))
						var last journal.Line
						if err := json.Unmarshal(lines[len(lines)-1], &last); err != nil {
							return err
						}
						from = last.Number + 1
					}
				}),
			},
			{
				Name:      "verify",
				Usage:     "walk the journal's chain of hashes; of an exported file that needs no service",
				ArgsUsage: "[FILE]",
				Description: "Exits with 1 where a line was changed, taken out or put in. Keep the last hash elsewhere; with --has it " +
					"must be among the lines, so that nobody can have cut the end off.",
				Flags:    []cli.Flag{&cli.StringFlag{Name: "has", Usage: "a hash that must be among the lines"}},
				Metadata: terminal.Examples("innergate journal verify", "innergate journal verify journal.jsonl"),
				Action: func(ctx context.Context, c *cli.Command) error {
					var v *api.JournalVerdict
					var err error
					if c.Args().Len() > 1 {
						return terminal.Usage("%q is too much. See `%s --help`", c.Args().Get(1), c.FullName())
					}
					if c.Args().Len() == 1 {
						v, err = p.verifyFile(c.Args().First(), c.String("has"))
					} else {
						var cl *client.Client
						if cl, err = p.Client(c); err == nil {
							v, err = cl.VerifyJournal(ctx, c.String("has"))
						}
					}
					if err != nil {
						return err
					}
					if err := p.Show(c, v, func() {
						fmt.Fprintf(p.Out, "%d lines fit one after the other.\nThe last hash is %s\n", v.Lines, terminal.OrDash(v.Last))
					}); err != nil {
						return err
					}
					if !v.Whole {
						return fmt.Errorf("the journal is not whole: %s", v.Broken)
					}
					return nil
				},
			},
		},
	}
}

// verifyFile walks along an exported journal.
func (p *commands) verifyFile(name, has string) (*api.JournalVerdict, error) {
	in := p.In
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return nil, terminal.NoSuchFile(name)
		}
		defer f.Close()
		in = f
	}
	var chain journal.Chain
	v := &api.JournalVerdict{}
	scan := bufio.NewScanner(in)
	scan.Buffer(make([]byte, 64<<10), 16<<20)
	for n := 1; scan.Scan() && v.Broken == ""; n++ {
		if len(bytes.TrimSpace(scan.Bytes())) == 0 {
			continue
		}
		var l journal.Line
		if err := json.Unmarshal(scan.Bytes(), &l); err != nil {
			return nil, fmt.Errorf("line %d of %s is no line of a journal: %w", n, name, err)
		}
		if err := chain.Add(&l); err != nil {
			v.Broken = err.Error() + "."
		}
		if l.Hash == has {
			has = ""
		}
	}
	if err := scan.Err(); err != nil {
		return nil, fmt.Errorf("%s can't be read: %w", name, err)
	}
	if has != "" && v.Broken == "" {
		v.Broken = "the line with the hash " + has + " is not among them."
	}
	v.Whole, v.Lines, v.Last = v.Broken == "", chain.Lines, chain.Last
	return v, nil
}
