package nodes

import (
	"context"
	"crypto/hmac"
	"crypto/x509"
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
	"innergate/nodes"
	"innergate/store"
)

type commands struct{ *terminal.Program }

// Nodes is `innergate node`: the nodes that keep the records together.
func Nodes(of *terminal.Program) *cli.Command {
	p := &commands{of}
	data := &cli.StringFlag{Name: "data", Usage: "folder of the node", Value: "data", Sources: cli.EnvVars("INNERGATE_DATA")}
	address := &cli.StringFlag{Name: "address", Usage: "host and port at which the other nodes reach this one", Required: true}
	errands := &cli.StringFlag{Name: "errands", Usage: "host and port at which the other nodes ask this one for its traces (default: the " +
		"next port)"}
	return &cli.Command{
		Name:  "node",
		Usage: "the nodes that keep the records together: begin, invite, join, list, relieve, leave, remove",
		Description: "Some nodes, three as a rule, keep the records together: any one may be lost at any moment. Begin with one, have it " +
			"invite the others,\nand start `innergate serve` on each. It needs the build that `make build-nodes` makes.",
		Metadata: terminal.Examples("innergate node begin --address 10.0.0.1:8424 --data /var/lib/innergate", "innergate node list"),
		Commands: []*cli.Command{
			{
				Name: "begin", Usage: "make a machine the first node; records that it has kept alone go along at the next start",
				Metadata: terminal.Examples("innergate node begin --address 10.0.0.1:8424 --data /var/lib/innergate"),
				Flags:    []cli.Flag{data, address, errands},
				Action: func(_ context.Context, c *cli.Command) error {
					release, err := store.Hold(c.String("data"), true)
					if err != nil {
						return err
					}
					defer release()
					if err := nodes.Begin(c.String("data"), nodes.Setup{Address: c.String("address"), Errands: c.String("errands")},
						time.Now()); err != nil {
						return err
					}
					fmt.Fprintln(p.Out, "This is the first node. Start the service, and have it invite the others: innergate node invite")
					return nil
				},
			},
			{
				Name: "invite", Usage: "print a key with which one machine becomes a node, within an hour",
				Metadata: terminal.Examples("innergate node invite"),
				Action: p.With("", func(ctx context.Context, _ *cli.Command, cl *client.Client, _ []string) error {
					k, err := cl.InviteNode(ctx)
					if err != nil {
						return err
					}
					fmt.Fprintf(p.Err, "Good once, until %s. On the new machine, which asks for it: innergate node join --address "+
						"HOST:PORT --data FOLDER\n",
						k.Expires.Local().Format("15:04"))
					fmt.Fprintln(p.Out, k.Key)
					return nil
				}),
			},
			{
				Name: "join", Usage: "make this machine a node, with a key that another one has printed",
				Description: "The key is read from standard input, or asked for in a terminal; it is never an argument, which others on " +
					"the machine could see.",
				Metadata: terminal.Examples("innergate node join --address 10.0.0.2:8424 --data /var/lib/innergate < key"),
				Flags:    []cli.Flag{data, address, errands},
				Action:   p.join,
			},
			{
				Name: "list", Usage: "list the nodes, and which of them leads", Metadata: terminal.Examples("innergate node list"),
				Action: p.With("", p.list),
			},
			{
				Name: "relieve", Usage: "have another node take over what the one that answers does for the others, before it is worked on",
				Metadata: terminal.Examples("innergate node relieve --url https://one.gate.saltmere.example"),
				Action: p.With("", func(ctx context.Context, _ *cli.Command, cl *client.Client, _ []string) error {
					if err := cl.RelieveNode(ctx); err != nil {
						return err
					}
					fmt.Fprintln(p.Err, "Another node has taken over. This one goes on answering until it is stopped.")
					return nil
				}),
			},
			{
				Name: "leave", Usage: "take the node that answers out of those that keep the records, for good; then stop it",
				Metadata: terminal.Examples("innergate node leave --url https://one.gate.saltmere.example"),
				Action: p.With("", func(ctx context.Context, _ *cli.Command, cl *client.Client, _ []string) error {
					if err := cl.LeaveNodes(ctx); err != nil {
						return err
					}
					fmt.Fprintln(p.Err, "It is no node any more. Stop the service there. To bring the machine back, delete "+
						"its node folder and "+
						"have it join anew.")
					return nil
				}),
			},
			{
				Name: "remove", Usage: "take a node that will not come back out of those that keep the records", ArgsUsage: "ID",
				Metadata: terminal.Examples("innergate node remove 2dc171858c3155be"),
				Action: p.With("ID", func(ctx context.Context, _ *cli.Command, cl *client.Client, args []string) error {
					if err := cl.RemoveNode(ctx, args[0]); err != nil {
						return err
					}
					fmt.Fprintln(p.Err, "It is no node any more. To bring the machine back, delete its node folder and have it join anew.")
					return nil
				}),
			},
		},
	}
}

func (p *commands) list(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
	list, err := cl.Nodes(ctx)
	if err != nil {
		return err
	}
	return p.Show(c, list, func() {
		var rows []table.Row
		for _, n := range list.Nodes {
			var marks []string
			if n.Leads {
				marks = append(marks, "leads")
			}
			if n.Own {
				marks = append(marks, "answers")
			}
			if !n.Answers {
				marks = append(marks, "does not answer")
			}
			ends := ""
			if n.Ends != nil {
				ends = n.Ends.Format("2006-01-02")
			}
			rows = append(rows, table.Row{n.ID, n.Address, n.Role, n.Version, ends, strings.Join(marks, ", ")})
		}
		p.Table(table.Row{"ID", "Address", "Role", "Version", "Certificate ends", "Now"}, rows,
			"This gate keeps its records alone; there are no nodes.")
		for _, f := range list.Findings {
			fmt.Fprintf(p.Out, "%s: %s. %s\n", f.Severity, f.Title, f.Remedy)
			for _, e := range f.Evidence {
				fmt.Fprintf(p.Out, "  %s: %s\n", e.Label, e.Got)
			}
		}
	})
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// join asks the gate that has printed the key for a certificate, and writes this node's files.
func (p *commands) join(ctx context.Context, c *cli.Command) error {
	if c.Args().Present() {
		return terminal.Usage("the key is no argument: others on this machine could see it. It is read from standard input, or asked for")
	}
	text, err := p.Secret("Key: ")
	if err != nil {
		return err
	}
	i, err := nodes.ReadInvitation(text)
	if err != nil {
		return err
	}
	folder, address := c.String("data"), c.String("address")
	release, err := store.Hold(folder, true)
	if err != nil {
		return err
	}
	defer release()
	if nodes.IsNode(folder) {
		return fmt.Errorf("%s is a node's already", nodes.Folder(folder))
	}
	if at := filepath.Join(folder, store.FileName); exists(at) {
		return fmt.Errorf("%s holds records of its own, which the others don't know. Move it elsewhere first: nothing is mixed", at)
	}
	if err := nodes.CheckAddress(address); err != nil {
		return err
	}
	key, err := nodes.NewKey()
	if err != nil {
		return err
	}
	public, err := x509.MarshalPKIXPublicKey(&key.PublicKey)
	if err != nil {
		return err
	}
	got, err := client.New(i.URL, "").JoinNodes(ctx, api.JoinNode{
		Invitation: i.ID, Address: address, PublicKey: public,
		Proof: nodes.Proof(i.Secret, nodes.AboutJoining, public, []byte(address)),
	})
	if err != nil {
		return err
	}
	others := []byte(strings.Join(got.Others, " "))
	if !hmac.Equal(got.Proof, nodes.Proof(i.Secret, nodes.AboutJoined, got.Certificate, got.Authority, others)) {
		return fmt.Errorf("who answered at %s does not know this key; nothing was written. Is that the gate's address?", i.URL)
	}
	authority, err := x509.ParseCertificate(got.Authority)
	if err != nil {
		return err
	}
	if err := nodes.Prepare(folder, nodes.Setup{Address: address, Errands: c.String("errands"),
		Others: got.Others}, key, got.Certificate, authority, nil); err != nil {
		return err
	}
	fmt.Fprintln(p.Out, "This machine may be a node. Put the master key there as master.key unless it is given "+
		"otherwise, and start the service.")
	return nil
}
