package service

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"innergate/backup"
	"innergate/cli/terminal"
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
		},
		Metadata: terminal.Examples("innergate backup /backups/gate.db --data /var/lib/innergate", "innergate backup verify "+
			"/backups/gate.db"),
		Action: p.makeBackup,
		Commands: []*cli.Command{{
			Name:      "verify",
			Usage:     "read a whole copy, and say what is in it",
			ArgsUsage: "FILE",
			Flags:     []cli.Flag{identityFlag()},
			Metadata:  terminal.Examples("innergate backup verify /backups/gate.db.age --identity key.txt"),
			Action:    p.verifyBackup,
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
	fmt.Fprintf(p.Out, "%s, %.1f MiB, form %s. It holds %d applications, %d providers and %d people", kind,
		float64(s.Octets)/(1<<20), s.Form, s.Applications, s.Providers, s.People)
	if !s.Newest.IsZero() {
		fmt.Fprintf(p.Out, "; the newest line of its journal is of %s", s.Newest.UTC().Format("2006-01-02 15:04:05 UTC"))
	}
	fmt.Fprintln(p.Out, ".")
}

// schedule is what the service copies by itself; nothing where no folder is named.
func schedule(c *cli.Command, log *slog.Logger) (*backup.Schedule, error) {
	if c.String("backup-folder") == "" {
		return nil, nil
	}
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
