package cli

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/client"
	"innergate/gate"
	"innergate/guard"
)

// startGuard has the guard serve at an address, and returns what stops it.
func startGuard(g *gate.Gate, at, folder string, o guard.Options) (func(), error) {
	var t *tls.Config
	if folder != "" {
		held := &certificates{folder: folder}
		if err := held.read(); err != nil {
			return nil, err
		}
		t = &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: held.find}
	}
	l, err := net.Listen("tcp", at)
	if err != nil {
		return nil, fmt.Errorf("the guard's address %s can't be listened on: %w. Choose another with --guard-listen", at, rootCause(err))
	}
	d := guard.New(g, o)
	go func() {
		if err := d.Serve(l, t); err != nil {
			o.Log.Error("the guard ended", "error", err)
		}
	}()
	o.Log.Info("the guard is ready", "listen", l.Addr().String(), "tls", t != nil)
	return func() {
		if err := d.Shutdown(20 * time.Second); err != nil {
			o.Log.Error("the guard did not finish every visit in time", "error", err)
		}
	}, nil
}

// certificates are those of a folder, read again every ten seconds at most.
type certificates struct {
	folder string
	mu     sync.Mutex
	looked time.Time
	list   []*tls.Certificate
}

const lookAgain = 10 * time.Second

func (h *certificates) read() error {
	names, err := filepath.Glob(filepath.Join(h.folder, "*.crt"))
	if err != nil {
		return err
	}
	if len(names) == 0 {
		return fmt.Errorf("the folder %s holds no NAME.crt with a NAME.key beside it", h.folder)
	}
	var list []*tls.Certificate
	for _, name := range names {
		pair, err := tls.LoadX509KeyPair(name, strings.TrimSuffix(name, ".crt")+".key")
		if err != nil {
			return fmt.Errorf("the certificate %s can't be used: %w", name, err)
		}
		list = append(list, &pair)
	}
	h.list, h.looked = list, time.Now()
	return nil
}

// find chooses by the name that the browser asks for. A file that can't be read leaves what is held as it is.
func (h *certificates) find(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if time.Since(h.looked) > lookAgain {
		if err := h.read(); err != nil {
			h.looked = time.Now()
		}
	}
	for _, c := range h.list {
		if hello.SupportsCertificate(c) == nil {
			return c, nil
		}
	}
	return nil, fmt.Errorf("no certificate is held for %q", hello.ServerName)
}

func (p *program) guard() *cli.Command {
	return &cli.Command{
		Name:     "guard",
		Usage:    "applications behind the gate: show, try, password, nginx",
		Metadata: examples("innergate guard show berth-board", "innergate guard try berth-board /harbour-master/plan"),
		Commands: []*cli.Command{
			{
				Name:      "show",
				Usage:     "how an application stands behind the gate",
				ArgsUsage: "SHORTNAME",
				Metadata:  examples("innergate guard show berth-board"),
				Action: p.with("SHORTNAME", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					v, err := cl.Guard(ctx, args[0])
					if err != nil {
						return err
					}
					return p.show(c, v, func() {
						p.table(
							table.Row{"", ""},
							[]table.Row{
								{"public address", v.PublicURL},
								{"inner addresses", orDash(strings.Join(v.Upstreams, "\n"))},
								{"passes on", v.Pass},
								{"in", orDash(strings.Join(v.Headers, "\n"))},
							},
							"",
						)
						fmt.Fprintln(p.Out)
						var rows []table.Row
						for _, r := range v.Paths {
							rows = append(
								rows,
								table.Row{
									r.Path,
									orDash(strings.Join(r.Methods, " ")),
									r.Then,
									orDash(strings.Join(r.Groups, ", ") + r.Use),
								},
							)
						}
						p.table(
							table.Row{"Path", "Methods", "Then", "Groups, rule set"},
							rows,
							"There is no path rule: every path is for people who are signed in and may use the application.",
						)
					})
				}),
			},
			{
				Name:      "try",
				Usage:     "which path rule decides, and what that means",
				ArgsUsage: "SHORTNAME PATH",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "method", Value: "GET"},
					&cli.StringFlag{Name: "person", Usage: "for whom, by user name or mail address"},
				},
				Metadata: examples("innergate guard try berth-board /harbour-master/plan --method POST"),
				Action: p.with("SHORTNAME PATH", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					q := api.TryPath{Path: args[1], Method: c.String("method")}
					if who := c.String("person"); who != "" {
						var err error
						if q.Person, err = personID(ctx, cl, who); err != nil {
							return err
						}
					}
					t, err := cl.TryPath(ctx, args[0], q)
					if err != nil {
						return err
					}
					return p.show(c, t, func() {
						fmt.Fprintln(p.Out, t.Words)
						if t.Rule != "" {
							fmt.Fprintf(p.Out, "By the rule %s.\n", t.Rule)
						}
						if t.May != nil {
							fmt.Fprintln(p.Out, map[bool]string{true: "This person may.", false: "This person may not."}[*t.May])
						}
					})
				}),
			},
			{
				Name:      "password",
				Usage:     "store the password for basic credentials, read from standard input; it is never shown again",
				ArgsUsage: "SHORTNAME",
				Metadata:  examples("innergate guard password berth-board < password.txt"),
				Action: p.with("SHORTNAME", func(ctx context.Context, _ *cli.Command, cl *client.Client, args []string) error {
					password, err := p.secret("Password: ")
					if err != nil {
						return err
					}
					if err := cl.SetGuardPassword(ctx, args[0], api.GuardPassword{Password: password}); err != nil {
						return err
					}
					fmt.Fprintln(p.Err, "It is stored, sealed.")
					return nil
				}),
			},
			{
				Name:      "nginx",
				Usage:     "what an nginx in front of the application needs, where it passes requests on itself",
				ArgsUsage: "SHORTNAME",
				Metadata:  examples("innergate guard nginx berth-board > berth-board.conf"),
				Action: p.with("SHORTNAME", func(ctx context.Context, _ *cli.Command, cl *client.Client, args []string) error {
					v, err := cl.Guard(ctx, args[0])
					if err != nil {
						return err
					}
					if v.Nginx == "" {
						return errors.New("what a proxy needs holds a secret, and is told to engineers and owners only")
					}
					fmt.Fprint(p.Out, v.Nginx)
					return nil
				}),
			},
		},
	}
}
