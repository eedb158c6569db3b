package keyring

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/client"
	"innergate/store"
)

var purposeFlag = &cli.StringFlag{Name: "purpose", Usage: "saml-signing or saml-encryption", Value: "saml-signing"}

var forFlag = &cli.StringFlag{
	Name:  "for",
	Usage: "the one partner that the key is for, as applications/SHORTNAME or providers/SHORTNAME (default: all)",
}

// keyCommand is a command about one key.
func (p *commands) keyCommand(
	name, text string,
	flags []cli.Flag,
	run func(ctx context.Context, c *cli.Command, cl *client.Client, id string) error,
) *cli.Command {
	return &cli.Command{
		Name:      name,
		Usage:     text,
		ArgsUsage: "KEY",
		Flags:     flags,
		Metadata:  terminal.Examples("innergate keys " + name + " 01KAR6…"),
		Action: p.With("KEY", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
			return run(ctx, c, cl, args[0])
		}),
	}
}

func (p *commands) keyStep(name, text, step string) *cli.Command {
	return p.keyCommand(name, text, nil, func(ctx context.Context, c *cli.Command, cl *client.Client, id string) error {
		k, err := cl.StepKey(ctx, id, step)
		if err != nil {
			return err
		}
		return p.Show(c, k, func() { p.key(k) })
	})
}

// Keys is `innergate keys`: the gate's own keys, and the certificates that it trusts.
func Keys(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:  "keys",
		Usage: "the gate's own keys, and the certificates that it trusts",
		Description: "A key is replaced in steps, each of which can be taken back until the old one is retired:\n" +
			"make (or import), publish, see who has it (rollover), switch, retire.",
		Metadata: terminal.Examples("innergate keys list", "innergate keys make --kind rsa-3072", "innergate keys rollover"),
		Commands: []*cli.Command{
			{
				Name:     "list",
				Usage:    "list keys with their certificates",
				Metadata: terminal.Examples("innergate keys list -o json"),
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					list, err := cl.Keys(ctx)
					if err != nil {
						return err
					}
					return p.Show(c, list, func() {
						var rows []table.Row
						for _, k := range list.Items {
							owner := "all"
							if k.For != nil {
								owner = k.For.Name
							}
							rows = append(
								rows,
								table.Row{k.ID, k.Purpose, keyState(&k), owner, k.Kind, terminal.Ending(k.NotAfter, time.Now()), k.SHA256},
							)
						}
						p.Table(
							table.Row{"Key", "Purpose", "State", "For", "Kind", "Ends", "SHA-256 fingerprint"},
							rows,
							"There are no keys.",
						)
					})
				}),
			},
			{
				Name:  "make",
				Usage: "make the next key for a purpose; nobody learns of it until it is published",
				Flags: []cli.Flag{
					purposeFlag,
					forFlag,
					&cli.StringFlag{Name: "kind", Usage: "rsa-2048, rsa-3072, rsa-4096, p-256 or p-384", Value: "rsa-2048"},
					&cli.StringFlag{Name: "common-name", Usage: "the certificate's name (default: host and purpose)"},
					&cli.IntFlag{Name: "days", Usage: "how long the certificate is good", Value: 1825},
				},
				Metadata: terminal.Examples(
					"innergate keys make --kind p-256", "innergate keys make --for applications/ticket-desk",
				),
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					k, err := cl.MakeKey(
						ctx,
						api.NewKey{
							Purpose:    c.String("purpose"),
							Kind:       c.String("kind"),
							For:        c.String("for"),
							CommonName: c.String("common-name"),
							Days:       c.Int("days"),
						},
					)
					if err != nil {
						return err
					}
					return p.Show(c, k, func() { p.key(k) })
				}),
			},
			{
				Name:        "import",
				Usage:       "take a key that was made elsewhere as the next one: PEM, or PKCS #12",
				ArgsUsage:   "FILE",
				Description: "The password of a PKCS #12 file is asked for, or read from INNERGATE_KEY_PASSWORD; it is never an argument.",
				Flags:       []cli.Flag{purposeFlag, forFlag},
				Metadata:    terminal.Examples("innergate keys import gate.p12"),
				Action:      p.importKey,
			},
			p.keyCommand(
				"request",
				"print a certificate signing request",
				[]cli.Flag{&cli.StringFlag{Name: "common-name", Usage: "the name to ask for (default: the gate's host)"}},
				func(ctx context.Context, c *cli.Command, cl *client.Client, id string) error {
					text, err := cl.KeyRequest(ctx, id, c.String("common-name"))
					if err != nil {
						return err
					}
					_, err = p.Out.Write(text)
					return err
				},
			),
			{
				Name:      "certify",
				Usage:     "give a key that is not published yet the certificate that an authority made for it",
				ArgsUsage: "KEY FILE",
				Metadata:  terminal.Examples("innergate keys certify 01KAR6… chain.pem"),
				Action: func(ctx context.Context, c *cli.Command) error {
					args, err := terminal.Arguments(c, "KEY", "FILE")
					if err != nil {
						return err
					}
					text, err := p.Input(args[1], 1<<20)
					if err != nil {
						return err
					}
					cl, err := p.Client(c)
					if err != nil {
						return err
					}
					k, err := cl.CertifyKey(ctx, args[0], string(text))
					if err != nil {
						return err
					}
					return p.Show(c, k, func() { p.key(k) })
				},
			},
			p.keyCommand(
				"certificate",
				"print a key's certificate",
				[]cli.Flag{&cli.StringFlag{Name: "form", Usage: "pem, der, base64 or chain", Value: "pem"}},
				func(ctx context.Context, c *cli.Command, cl *client.Client, id string) error {
					text, err := cl.KeyCertificate(ctx, id, c.String("form"))
					if err != nil {
						return err
					}
					_, err = p.Out.Write(text)
					return err
				},
			),
			p.keyStep("publish", "put the next key into our metadata, beside the active one", "publish"),
			{
				Name:     "rollover",
				Usage:    "show how far the replacement of a key is, and who has the next certificate",
				Flags:    []cli.Flag{purposeFlag, forFlag},
				Metadata: terminal.Examples("innergate keys rollover", "innergate keys rollover --purpose saml-encryption"),
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					r, err := cl.Rollover(ctx, c.String("purpose"), c.String("for"))
					if err != nil {
						return err
					}
					return p.Show(c, r, func() { p.rollover(r) })
				}),
			},
			{
				Name:      "confirm",
				Usage:     "note that a partner has a key's certificate",
				ArgsUsage: "KEY app|provider SHORTNAME",
				Flags:     []cli.Flag{&cli.BoolFlag{Name: "not", Usage: "take such a note back"}},
				Metadata:  terminal.Examples("innergate keys confirm 01KAR6… app crew-rota"),
				Action: func(ctx context.Context, c *cli.Command) error {
					args, err := terminal.Arguments(c, "KEY", "SIDE", "SHORTNAME")
					if err != nil {
						return err
					}
					side, ok := map[string]string{"app": "applications", "provider": "providers"}[args[1]]
					if !ok {
						return terminal.Usage("%q is no side; app and provider are", args[1])
					}
					cl, err := p.Client(c)
					if err != nil {
						return err
					}
					if err := cl.ConfirmHolder(ctx, args[0], side, args[2], !c.Bool("not")); err != nil {
						return err
					}
					fmt.Fprintln(p.Out, "Noted.")
					return nil
				},
			},
			p.keyCommand(
				"switch",
				"make the published next key the active one, at once or at a time",
				[]cli.Flag{
					&cli.StringFlag{Name: "at", Usage: "the time, such as 2026-12-01T02:00:00+01:00 (default: now)"},
					&cli.BoolFlag{Name: "anyway", Usage: "though partners are not known to have the next certificate"},
				},
				func(ctx context.Context, c *cli.Command, cl *client.Client, id string) error {
					var at *time.Time
					if text := c.String("at"); text != "" {
						t, err := time.Parse(time.RFC3339, text)
						if err != nil {
							return terminal.Usage("%q is no time; write it as 2026-12-01T02:00:00+01:00", text)
						}
						at = &t
					}
					k, err := cl.SwitchKey(ctx, id, api.SwitchKey{At: at, Anyway: c.Bool("anyway")})
					if err != nil {
						return err
					}
					return p.Show(c, k, func() {
						p.key(k)
						fmt.Fprintf(p.Out, "\nTo take the switch back: innergate keys undo %s\n", k.ID)
					})
				},
			),
			p.keyStep("undo", "take back a key's last step: a planned switch, a switch, or a publication", "undo"),
			p.keyStep("retire", "take a retiring key out of use; this can't be taken back", "retire"),
			p.keyCommand(
				"discard",
				"delete a next key that nobody has learnt of",
				nil,
				func(ctx context.Context, c *cli.Command, cl *client.Client, id string) error {
					if err := cl.DiscardKey(ctx, id); err != nil {
						return err
					}
					fmt.Fprintln(p.Out, "The key is deleted.")
					return nil
				},
			),
			{
				Name:  "trusted",
				Usage: "list the certificates of partners, those that end first in front",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "search", Usage: "part of a fingerprint, subject or name"},
					&cli.IntFlag{Name: "limit", Usage: "rows at most", Value: 50},
					&cli.StringFlag{Name: "after", Usage: "where the page before ended"},
				},
				Metadata: terminal.Examples("innergate keys trusted --search saltmere"),
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					list, err := cl.Certificates(
						ctx,
						client.Page{Search: c.String("search"), Limit: c.Int("limit"), After: c.String("after")},
					)
					if err != nil {
						return err
					}
					return p.Show(c, list, func() {
						var rows []table.Row
						for _, t := range list.Items {
							use := t.Use
							if use == "" {
								use = "any use"
							}
							rows = append(
								rows,
								table.Row{
									terminal.Ending(t.NotAfter, time.Now()),
									t.Owner.Name,
									use,
									t.Key,
									terminal.Ago(t.LastUsed),
									t.SHA256,
								},
							)
						}
						p.Table(
							table.Row{"Ends", "Partner", "For", "Kind", "Last used", "SHA-256 fingerprint"},
							rows,
							"No certificate of a partner is held.",
						)
						p.More(list.Next)
					})
				}),
			},
		},
	}
}

func keyState(k *api.Key) string {
	switch {
	case k.State == "next" && k.SwitchAt != nil:
		return "next, active from " + terminal.LocalTime(*k.SwitchAt)
	case k.State == "next" && k.Published != nil:
		return "next, published"
	case k.State == "next":
		return "next, not published"
	}
	return k.State
}

func (p *commands) key(k *api.Key) {
	p.Table(
		table.Row{"", ""},
		[]table.Row{
			{"key", k.ID},
			{"purpose", k.Purpose},
			{"state", keyState(k)},
			{"kind", k.Kind},
			{"subject", k.Subject},
			{"issuer", k.Issuer},
			{"ends", terminal.Ending(k.NotAfter, time.Now())},
			{"SHA-256", k.SHA256},
		},
		"",
	)
}

func (p *commands) rollover(r *api.Rollover) {
	for _, x := range []struct {
		word string
		key  *api.Key
	}{{"active", r.Active}, {"next", r.Next}} {
		if x.key != nil {
			fmt.Fprintf(
				p.Out,
				"%-9s %s  %s  ends %s\n",
				x.word,
				x.key.ID,
				x.key.SHA256[:23]+"…",
				terminal.Ending(x.key.NotAfter, time.Now()),
			)
		}
	}
	for _, k := range r.Retiring {
		fmt.Fprintf(p.Out, "%-9s %s  %s\n", "retiring", k.ID, k.SHA256[:23]+"…")
	}
	fmt.Fprintf(p.Out, "\n%s\n", map[string]string{
		"make":    "Next step: `innergate keys make`.",
		"publish": "Next step: `innergate keys publish`, so that partners can get the certificate.",
		"wait":    fmt.Sprintf("%d of %d partners have the next certificate. When all have: `innergate keys switch`.", r.Have, r.Count),
		"scheduled": fmt.Sprintf("The switch is planned; %d of %d partners have the next certificate. `innergate keys undo` takes it "+
			"back.", r.Have, r.Count),
		"keep": "The new key is active; the old one is kept for those who have not changed over. `innergate keys undo` goes back, " +
			"`innergate keys retire` ends it.",
	}[r.Step])
	var rows []table.Row
	for _, x := range r.Partners {
		mark, how := "✕", "not yet"
		if x.Has {
			mark, how = "✓", x.How+" by "+x.By+", "+terminal.Ago(x.At)
		}
		rows = append(rows, table.Row{mark, x.Name, x.Kind, how})
	}
	if len(rows) > 0 {
		fmt.Fprintln(p.Out)
		p.Table(table.Row{"", "Partner", "Side", "Has it"}, rows, "")
	}
}

func (p *commands) importKey(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Arguments(c, "FILE")
	if err != nil {
		return err
	}
	data, err := p.Input(args[0], 1<<20)
	if err != nil {
		return err
	}
	cl, err := p.Client(c)
	if err != nil {
		return err
	}
	in := api.ImportKey{
		Purpose:  c.String("purpose"),
		For:      c.String("for"),
		Data:     string(data),
		Password: os.Getenv("INNERGATE_KEY_PASSWORD"),
	}
	if !strings.Contains(in.Data, "-----BEGIN") {
		in.Data = base64.StdEncoding.EncodeToString(data)
		if in.Password == "" && p.Interactive() {
			if in.Password, err = p.Secret("Password of the file: "); err != nil {
				return err
			}
		}
	}
	k, err := cl.ImportKey(ctx, in)
	if err != nil {
		return err
	}
	return p.Show(c, k, func() { p.key(k) })
}

// MasterKey rotates the key under which all secrets lie.
func MasterKey(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:     "master-key",
		Usage:    "the key under which all secrets are sealed",
		Metadata: terminal.Examples("innergate master-key rotate --data /var/lib/innergate"),
		Commands: []*cli.Command{
			{
				Name:  "rotate",
				Usage: "seal every secret anew under a new master key; the service must be stopped",
				Description: "The new key is written beside the old one first, then every secret is sealed anew, then the old one is " +
					"taken away: a run that is cut short can be\nrun again. Identifiers of people at applications stay as they are.",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "data", Usage: "folder of the database", Value: "data"},
					&cli.StringFlag{Name: "master-key-file", Usage: "file with the master key (default: master.key in the data folder)"},
				},
				Metadata: terminal.Examples("innergate master-key rotate --data /var/lib/innergate"),
				Action:   p.rotateMasterKey,
			},
		},
	}
}

func (p *commands) rotateMasterKey(ctx context.Context, c *cli.Command) error {
	if os.Getenv("INNERGATE_MASTER_KEY") != "" {
		return errors.New(
			"the master key comes from INNERGATE_MASTER_KEY; to rotate it, start the service once with the new and the old key, " +
				"separated by a comma, or keep it in a file",
		)
	}
	folder := c.String("data")
	if _, err := os.Stat(filepath.Join(folder, store.FileName)); err != nil {
		return fmt.Errorf("there is no database in %s", folder)
	}
	release, err := store.Hold(folder, true)
	if err != nil {
		return err
	}
	defer release()
	file := c.String("master-key-file")
	if file == "" {
		file = filepath.Join(folder, "master.key")
	}
	held, err := store.MasterKeys("", file, false)
	if err != nil {
		return err
	}
	// Two keys are the sign of a run that was cut short: the first one is the new one already.
	if len(held) == 1 {
		held = append([][]byte{store.NewMasterKey()}, held...)
		if err := store.WriteMasterKeys(file, held); err != nil {
			return err
		}
	}
	sealer, err := store.NewSealer(held[0], held[1:]...)
	if err != nil {
		return err
	}
	s, err := store.Open(folder, sealer)
	if err != nil {
		return err
	}
	defer s.Close()
	n, err := s.Reseal(ctx)
	if err != nil {
		return err
	}
	if err := store.WriteMasterKeys(file, held[:1]); err != nil {
		return err
	}
	fmt.Fprintf(p.Out, "%d secrets were sealed anew. Back up %s; older backups of the database need the old key.\n"+
		"Secrets that stand sealed in configuration files can't be opened any more: export them again, or seal them again.\n", n, file)
	return nil
}
