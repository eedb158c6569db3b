package service

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"innergate/cli/terminal"
	"innergate/nodes"
	"innergate/store"
)

// SetUp makes the first administrator of a gate whose data folder is at hand.
func SetUp(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:  "set-up",
		Usage: "make the first administrator, on the machine of the gate's data",
		Description: "Works on the data folder itself, whether the service runs or not, and only while there is no administrator. The " +
			"password is asked for in a terminal,\nor read from standard input; it is never an argument.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "name", Usage: "the administrator's name", Required: true},
			&cli.StringFlag{Name: "data", Usage: "folder of the database", Value: "data", Sources: cli.EnvVars("INNERGATE_DATA")},
			&cli.StringFlag{
				Name:    "master-key-file",
				Usage:   "file with the master key (default: master.key in the data folder)",
				Sources: cli.EnvVars("INNERGATE_MASTER_KEY_FILE"),
			},
		},
		Metadata: terminal.Examples("innergate set-up --name Fenna --data /var/lib/innergate"),
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := terminal.Arguments(c); err != nil {
				return err
			}
			folder := c.String("data")
			if nodes.IsNode(folder) {
				return fmt.Errorf("%s is a node's folder: the records are on all nodes. Open the link that the service "+
					"prints when it starts",
					folder)
			}
			if _, err := os.Stat(filepath.Join(folder, store.FileName)); err != nil {
				return fmt.Errorf("there is no database in %s. Name the gate's folder with --data, or start the service once", folder)
			}
			g, done, err := openGate(ctx, c, "http://localhost", p.Version, slog.New(slog.DiscardHandler), nil)
			if err != nil {
				return err
			}
			defer done()
			password, err := p.newPassword()
			if err != nil {
				return err
			}
			if err := g.Console.SetUpHere(ctx, c.String("name"), password); err != nil {
				return err
			}
			fmt.Fprintf(p.Out, "%s is the first administrator, as owner. Sign in at the console, or run: innergate login URL --name %s\n",
				c.String("name"), c.String("name"))
			return nil
		},
	}
}

// newPassword asks for a password, twice where somebody types it.
func (p *commands) newPassword() (string, error) {
	first, err := p.Secret("Password: ")
	if err != nil || !p.Interactive() {
		return first, err
	}
	again, err := p.Secret("The same again: ")
	if err == nil && again != first {
		err = fmt.Errorf("the two passwords differ")
	}
	return first, err
}
