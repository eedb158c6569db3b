package service

import (
	"context"
	"fmt"
	"os"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/urfave/cli/v3"

	"innergate/cli/terminal"
	"innergate/demo"
	"innergate/standin"
)

var operationsConfig = fiber.ListenConfig{DisableStartupMessage: true}

// Demo is `innergate demo`: run Inner Gate with a made-up company, its provider and its applications.
func Demo(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name: "demo", Usage: "run Inner Gate with a made-up company, its provider and its applications",
		Description: "Everything runs on loopback and is forgotten afterwards, unless --data names a folder.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "check", Usage: "walk the sign-ins without a browser on free ports, print each step, and exit"},
			&cli.StringFlag{Name: "keep", Usage: "with --check: write every message of the run to this folder"},
			&cli.StringFlag{Name: "data", Usage: "keep the gate's data in this folder"},
			&cli.BoolFlag{Name: "mistakes", Usage: "plant five mistakes, to be found from the console alone"},
			&cli.BoolFlag{
				Name: "fleet",
				Usage: "ten more applications, and people who have accounts at two providers: a company that is about to move from " +
					"one to the other",
			},
			&cli.BoolFlag{
				Name:  "tls",
				Usage: "serve everything by TLS under host names of .example, as in earnest; a browser needs the rule that is printed",
			},
			&cli.StringFlag{
				Name: "size",
				Usage: "fill the gate to this size: full (10,000 applications, 1,000 providers, 1,000,000 people, some 5 GB), tenth or " +
					"hundredth. With --data it is done once",
			},
			&cli.IntFlag{Name: "port", Usage: "the gate's port; the stand-ins take the next ones", Value: 8420},
		},
		Metadata: terminal.Examples(
			"innergate demo", "innergate demo --check --keep messages", "innergate demo --tls",
			"innergate demo --mistakes", "innergate demo --fleet", "innergate demo --size full --data /srv/full",
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return terminal.Usage("%q is too much. See `innergate demo --help`", c.Args().First())
			}
			if c.String("keep") != "" && !c.Bool("check") {
				return terminal.Usage("--keep goes with --check")
			}
			folder := c.String("data")
			if folder == "" {
				var err error
				if folder, err = os.MkdirTemp("", "innergate-demo-"); err != nil {
					return fmt.Errorf("no folder for the demo's data can be made: %w", err)
				}
				defer os.RemoveAll(folder)
			}
			o := demo.Options{Folder: folder, Console: p.Console, Version: p.Version}
			if c.Bool("tls") {
				var err error
				if o.TLS, _, err = demo.SelfSignedTLS(); err != nil {
					return err
				}
			}
			if c.Bool("check") {
				return p.check(ctx, o, c.String("keep"))
			}
			if c.Bool("fleet") && o.TLS != nil {
				return terminal.Usage("--fleet and --tls don't go together: the ten have no host names")
			}
			size, known := demo.Sizes[c.String("size")]
			if !known && c.String("size") != "" {
				return terminal.Usage("%q is no size; full, tenth and hundredth are", c.String("size"))
			}
			return p.runDemo(ctx, o, c.Int("port"), size, c.Bool("mistakes"), c.Bool("fleet"))
		},
	}
}

func (p *commands) runDemo(ctx context.Context, o demo.Options, port int, size demo.Size, mistakes, fleet bool) error {
	log, err := logger(p.Err, "warn", "text")
	if err != nil {
		return err
	}
	for i := range o.Ports {
		o.Ports[i] = port + i
	}
	o.Log = log
	w, err := demo.Start(ctx, o)
	if err != nil {
		return err
	}
	defer w.Close()
	if err := w.Week(ctx); err != nil {
		return err
	}
	if err := w.PushSomebody(ctx); err != nil {
		return err
	}
	if err := w.Rhythm(ctx); err != nil {
		return err
	}
	if size.People > 0 {
		fmt.Fprintln(p.Err, "The store is filled; this takes some minutes for the full size.")
		if err := w.Fill(ctx, size, func(line string) { fmt.Fprintln(p.Err, "  filled:", line) }); err != nil {
			return err
		}
	}
	fmt.Fprintf(p.Out, `
Saltmere Ferries is open. Everything here is made up and runs on this machine only.

  The gate's console        %[1]s/console/
     name and password      %[5]s / %[6]s

  Applications
     Crew Rota (SAML)                  %[3]s/
     Cargo Ledger (OpenID Connect)     %[8]s/
     Dockhand (a command-line tool)    %[9]s/
     Berth Board (behind the gate)     %[13]s/
     Ticket Desk                       %[4]s/
       is not connected yet; its metadata: %[4]s/metadata
  Providers
     Saltmere Staff (SAML)             %[2]s/
     Northquay Stevedores (OpenID)     %[10]s/
     Lantern Pass (OAuth 2.0)          %[11]s/
     Harbour Register                  the gate's own: runa.holt or eskil.brae, password %[12]s
     Harbour Office (LDAP)             wfell, rmoor; hbrook is locked, ilark expired, ntide must change: %[14]s
     Quayside Desk (Kerberos)          sit down at a desk: %[2]s/quayside
  Mail that the gate sends             %[2]s/mailbox

For the command line, in another terminal:

  export INNERGATE_URL=%[1]s INNERGATE_TOKEN=%[7]s
  innergate app list

Stop with Ctrl-C.
`, w.URL, w.StaffURL, w.RotaURL, w.DeskURL, w.Name, w.Password, w.Token, w.LedgerURL, w.DockhandURL, w.NorthquayURL,
		w.LanternURL, w.AgencyPassword(), w.BerthsURL, standin.OfficePassword)
	if o.TLS != nil {
		fmt.Fprint(
			p.Out,
			"\nThe host names are this machine's, and their certificates are made up. Open them with:\n\n"+
				"  chromium --user-data-dir=$(mktemp -d) --ignore-certificate-errors --host-resolver-rules='MAP *.example 127.0.0.1' "+
				w.URL+"/console/\n",
		)
	}
	if fleet {
		clients, err := w.Fleet(ctx)
		if err != nil {
			return err
		}
		fmt.Fprint(
			p.Out,
			"\nTen small applications sign in with Saltmere Staff, and may move to Northquay Stevedores (innergate move new …). Mira "+
				"Voss, Zoë Öberg and Callum Dunn have accounts at both.\n\n",
		)
		for _, c := range clients {
			fmt.Fprintf(p.Out, "  %-14s %s/\n", c.Name, c.Base)
		}
	}
	if mistakes {
		planted, err := w.Plant(ctx)
		if err != nil {
			return err
		}
		fmt.Fprint(p.Out, "\nFive mistakes are planted, one for each of these sign-ins. Find the causes in the console.\n\n")
		for i, m := range planted {
			fmt.Fprintf(p.Out, "  %d. %s\n", i+1, m.Try)
		}
	}
	tick := time.NewTicker(time.Minute)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			if err := w.Gate.Tidy(ctx); err != nil {
				log.Error("tidying up failed", "error", err)
			}
		case <-ctx.Done():
			return nil
		}
	}
}

func (p *commands) check(ctx context.Context, o demo.Options, keep string) error {
	recorder := &standin.Recorder{Folder: keep}
	if keep != "" {
		if err := os.MkdirAll(keep, 0o700); err != nil {
			return fmt.Errorf("the folder %s can't be made: %w", keep, err)
		}
	}
	o.Recorder = recorder
	w, err := demo.Start(ctx, o)
	if err != nil {
		return err
	}
	defer w.Close()
	return demo.Check(ctx, w, recorder, p.Out)
}
