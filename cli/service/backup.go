package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/backup"
	"innergate/cli/terminal"
	"innergate/client"
	"innergate/nodes"
	"innergate/store"
)

func dataFlag() cli.Flag {
	return &cli.StringFlag{Name: "data", Usage: "folder of the database", Value: "data", Sources: cli.EnvVars("INNERGATE_DATA")}
}

func identityFlag() cli.Flag {
	return &cli.StringFlag{Name: "identity", Usage: "file with the key of age that opens an encrypted copy"}
}

// Backup is `innergate backup`: copy the gate's records, and look at copies.
func Backup(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:      "backup",
		Usage:     "copy the gate's records to a file, while the service runs",
		ArgsUsage: "FILE",
		Description: "The copy is the database as it was at one moment. Its secrets stay sealed: it is of use only together with the " +
			"master key, which is\nkept apart from it, and never in it. The service makes copies by itself with --backup-folder.",
		Flags: []cli.Flag{
			dataFlag(),
			&cli.StringSliceFlag{Name: "recipient", Usage: "a public key of age (age1…) to which the copy is encrypted; may be given " +
				"again"},
			&cli.BoolFlag{Name: "from-service", Usage: "fetch the copy from the service, wherever it runs, as an " +
				"owner; what a node's folder " +
				"needs always"},
			&cli.StringFlag{Name: "traces", Usage: "another file, to which the traces of sign-ins are copied as well"},
		},
		Metadata: terminal.Examples("innergate backup /backups/gate.db --data /var/lib/innergate", "innergate backup verify "+
			"/backups/gate.db"),
		Action: p.makeBackup,
		Commands: []*cli.Command{{
			Name:     "list",
			Usage:    "list the copies that the service has made by itself",
			Metadata: terminal.Examples("innergate backup list"),
			Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
				list, err := cl.Copies(ctx)
				if err != nil {
					return err
				}
				return p.Show(c, list, func() { p.copies(list) })
			}),
		}, {
			Name:     "now",
			Usage:    "have the service make one more beside those, now",
			Metadata: terminal.Examples("innergate backup now"),
			Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
				made, err := cl.MakeCopy(ctx)
				if err != nil {
					return err
				}
				return p.Show(c, made, func() { fmt.Fprintf(p.Out, "%s, %.1f MiB\n", made.Name, float64(made.Octets)/(1<<20)) })
			}),
		}, {
			Name:      "verify",
			Usage:     "read a whole copy, and say what is in it",
			ArgsUsage: "FILE",
			Flags:     []cli.Flag{identityFlag()},
			Metadata:  terminal.Examples("innergate backup verify /backups/gate.db.age --identity key.txt"),
			Action:    p.verifyBackup,
		}, {
			Name:  "drop-old",
			Usage: "delete the copies that upgrades made of the records as they were before",
			Description: "Before an upgrade changes the form of the records, the service copies them beside the " +
				"database. Drop the copies " +
				"when the new version has\nproven itself: they are the way back to the one before.",
			Flags:    []cli.Flag{dataFlag(), &cli.BoolFlag{Name: "yes", Usage: "delete them; without it they are listed"}},
			Metadata: terminal.Examples("innergate backup drop-old --data /var/lib/innergate", "innergate backup drop-old --yes"),
			Action:   p.dropOld,
		}},
	}
}

func (p *commands) makeBackup(ctx context.Context, c *cli.Command) error {
	if !c.Args().Present() {
		return terminal.Usage("name the file to which the copy is written. See `innergate backup --help`")
	}
	to, err := backup.Recipients(c.StringSlice("recipient"))
	if err != nil {
		return err
	}
	if c.Bool("from-service") || nodes.IsNode(c.String("data")) {
		return p.fetchBackup(ctx, c)
	}
	begin := time.Now()
	said := begin
	seen, err := backup.Make(ctx, c.String("data"), c.Args().First(), to, func(done, all int) {
		if all > 0 && time.Since(said) > 2*time.Second {
			said = time.Now()
			fmt.Fprintf(p.Err, "%d %% is copied\n", 100*int64(done)/int64(all))
		}
	})
	if err != nil {
		return err
	}
	fmt.Fprintf(p.Out, "%s was written in %.1f s.\n", c.Args().First(), time.Since(begin).Seconds())
	p.tell(seen)
	other := c.String("traces")
	if other == "" {
		return nil
	}
	if seen, err = backup.MakeOfTraces(ctx, c.String("data"), other, to, nil); err != nil {
		return err
	}
	fmt.Fprintf(p.Out, "%s was written.\n", other)
	p.tell(seen)
	return nil
}

// copies prints what the service copies by itself.
func (p *commands) copies(list *api.Copies) {
	if list.Folder == "" {
		fmt.Fprintln(p.Out, "The service makes no copies by itself. Start it with --backup-folder.")
		return
	}
	var rows []table.Row
	for _, one := range list.Items {
		rows = append(rows, table.Row{one.Name, terminal.LocalTime(one.Made), fmt.Sprintf("%.1f MiB", float64(one.Octets)/(1<<20))})
	}
	p.Table(table.Row{"Copy", "Made", "Size"}, rows, "None was made yet.")
	fmt.Fprintf(p.Out, "In %s, every %d hours, the newest %d are kept.\n", list.Folder, list.Hours, list.Keep)
}

// fetchBackup fetches a copy from the service, and looks at it where it is in clear.
func (p *commands) fetchBackup(ctx context.Context, c *cli.Command) error {
	to := c.Args().First()
	if c.String("traces") != "" {
		return terminal.Usage("the service sends no traces; copy each machine's own traces.db on it with --traces")
	}
	cl, err := p.Client(c)
	if err != nil {
		return err
	}
	f, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("the copy can't be written: %w", err)
	}
	defer f.Close()
	err = cl.FetchCopy(ctx, api.FetchCopy{Recipients: c.StringSlice("recipient")}, f)
	if err == nil {
		err = f.Sync()
	}
	var seen *backup.Seen
	if err == nil && len(c.StringSlice("recipient")) == 0 {
		seen, err = backup.Verify(ctx, to, nil)
	}
	if err != nil {
		return errors.Join(err, os.Remove(to))
	}
	fmt.Fprintf(p.Out, "%s was written.\n", to)
	if seen != nil {
		p.tell(seen)
	}
	return nil
}

func (p *commands) verifyBackup(ctx context.Context, c *cli.Command) error {
	if !c.Args().Present() {
		return terminal.Usage("name the copy. See `innergate backup verify --help`")
	}
	keys, err := backup.Identities(c.String("identity"))
	if err != nil {
		return err
	}
	seen, err := backup.Verify(ctx, c.Args().First(), keys)
	if err != nil {
		return err
	}
	p.tell(seen)
	return nil
}

// dropOld lists the copies from before upgrades, and deletes them where that is said.
func (p *commands) dropOld(_ context.Context, c *cli.Command) error {
	copies, err := store.CopiesOf(c.String("data"))
	if err != nil {
		return err
	}
	if len(copies) == 0 {
		fmt.Fprintln(p.Out, "There is none.")
		return nil
	}
	for _, one := range copies {
		if c.Bool("yes") {
			if err := os.Remove(one.Path); err != nil {
				return fmt.Errorf("%s can't be deleted: %w", one.Path, err)
			}
		}
		fmt.Fprintf(p.Out, "%s, %.1f MiB, made %s\n", one.Path, float64(one.Octets)/(1<<20), one.Made.UTC().Format("2006-01-02 15:04"))
	}
	if c.Bool("yes") {
		fmt.Fprintln(p.Out, "Deleted.")
	} else {
		fmt.Fprintln(p.Out, "Give --yes to delete them.")
	}
	return nil
}

// Restore is `innergate restore`: bring a copy back.
func Restore(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:      "restore",
		Usage:     "bring a copy of the gate's records back, on this machine or another one",
		ArgsUsage: "FILE",
		Description: "The data folder must hold no database: nothing is written over. The master key is not part of a copy; put it " +
			"beside " +
			"" +
			"the database as\nmaster.key, or give it as before. The service must not run.",
		Flags:    []cli.Flag{dataFlag(), identityFlag()},
		Metadata: terminal.Examples("innergate restore /backups/gate.db --data /var/lib/innergate"),
		Action: func(ctx context.Context, c *cli.Command) error {
			if !c.Args().Present() {
				return terminal.Usage("name the copy. See `innergate restore --help`")
			}
			keys, err := backup.Identities(c.String("identity"))
			if err != nil {
				return err
			}
			seen, err := backup.Restore(ctx, c.Args().First(), c.String("data"), keys)
			if err != nil {
				return err
			}
			p.tell(seen)
			fmt.Fprintf(p.Out, "It stands in %s. Put the master key there as master.key unless it is given otherwise, and start the "+
				"service.\n",
				c.String("data"))
			return nil
		},
	}
}

// tell says what a copy holds.
func (p *commands) tell(s *backup.Seen) {
	kind := "Not encrypted"
	if s.Encrypted {
		kind = "Encrypted"
	}
	fmt.Fprintf(p.Out, "%s, %.1f MiB, form %s. It holds ", kind, float64(s.Octets)/(1<<20), s.Form)
	if s.OfTraces {
		fmt.Fprintf(p.Out, "%d traces of sign-ins, the newest of %s.\n", s.Traces, s.Newest.UTC().Format("2006-01-02 15:04:05 UTC"))
		return
	}
	fmt.Fprintf(p.Out, "%d applications, %d providers and %d people", s.Applications, s.Providers, s.People)
	if !s.Newest.IsZero() {
		fmt.Fprintf(p.Out, "; the newest line of its journal is of %s", s.Newest.UTC().Format("2006-01-02 15:04:05 UTC"))
	}
	fmt.Fprintln(p.Out, ".")
}

// schedule is what the service copies by itself, and when it is asked to; by itself nothing where no folder is named.
func schedule(c *cli.Command, log *slog.Logger) (*backup.Schedule, error) {
	if c.Int("backup-hours") < 1 || c.Int("backup-keep") < 1 {
		return nil, terminal.Usage("--backup-hours and --backup-keep are 1 or more")
	}
	var list []string
	for one := range strings.SplitSeq(c.String("backup-recipients"), ",") {
		if one = strings.TrimSpace(one); one != "" {
			list = append(list, one)
		}
	}
	to, err := backup.Recipients(list)
	if err != nil {
		return nil, err
	}
	return &backup.Schedule{
		Data:       c.String("data"),
		Folder:     c.String("backup-folder"),
		Every:      time.Duration(c.Int("backup-hours")) * time.Hour,
		Keep:       c.Int("backup-keep"),
		Recipients: to,
		Log:        log,
		Now:        time.Now,
	}, nil
}
