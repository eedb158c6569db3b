package checkups

import (
	"context"
	"fmt"
	"os"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/client"
	"innergate/core/config"
)

// Mail is `innergate mail`: how the gate sends mail: codes, and news for those who look after it.
func Mail(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:     "mail",
		Usage:    "how the gate sends mail: codes, and news for those who look after it",
		Metadata: terminal.Examples("innergate mail test fenna@saltmere.example"),
		Commands: []*cli.Command{
			{
				Name:     "show",
				Usage:    "show how mail is sent",
				Metadata: terminal.Examples("innergate mail show"),
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					m, err := cl.MailSettings(ctx)
					if err != nil {
						return err
					}
					return p.Show(c, m, func() { p.mailSettings(m) })
				}),
			},
			{
				Name:  "set",
				Usage: "say how mail is sent",
				Description: "The password is asked for, or read from INNERGATE_MAIL_PASSWORD; it is never an argument. Left out, the " +
					"one that is kept stays, as long as the server stays.",
				Flags: []cli.Flag{
					&cli.StringFlag{
						Name:     "server",
						Usage:    "host and port",
						Required: true,
					}, &cli.StringFlag{Name: "encryption", Usage: "starttls, tls, or none (a server on this machine only)",
						Value: "starttls"},
					&cli.StringFlag{
						Name:     "from",
						Usage:    "the address that mails come from",
						Required: true,
					}, &cli.StringFlag{Name: "username", Usage: "for servers that want one"},
				},
				Metadata: terminal.Examples(
					"innergate mail set --server mail.saltmere.example:587 --from gate@saltmere.example --username gate",
				),
				Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
					in := api.SaveMail{
						Mail: config.Mail{
							Server:     c.String("server"),
							Encryption: c.String("encryption"),
							From:       c.String("from"),
							Username:   c.String("username"),
						},
					}
					if password := os.Getenv("INNERGATE_MAIL_PASSWORD"); password != "" {
						in.Password = &password
					} else if in.Username != "" && p.Interactive() {
						typed, err := p.Secret("Password at the mail server (Enter keeps the one that is there): ")
						if err != nil {
							return err
						}
						if typed != "" {
							in.Password = &typed
						}
					}
					m, err := cl.SetMail(ctx, in)
					if err != nil {
						return err
					}
					return p.Show(c, m, func() { p.mailSettings(m) })
				}),
			},
			{
				Name:      "test",
				Usage:     "send a mail to see that it can be done",
				ArgsUsage: "ADDRESS",
				Metadata:  terminal.Examples("innergate mail test fenna@saltmere.example"),
				Action: p.With("ADDRESS", func(ctx context.Context, _ *cli.Command, cl *client.Client, args []string) error {
					if err := cl.TestMail(ctx, args[0]); err != nil {
						return err
					}
					fmt.Fprintf(p.Out, "The mail server took a mail for %s. Whether it arrives, its mailbox knows.\n", args[0])
					return nil
				}),
			},
			{
				Name:     "off",
				Usage:    "send no mail any more",
				Metadata: terminal.Examples("innergate mail off"),
				Action: p.With("", func(ctx context.Context, _ *cli.Command, cl *client.Client, _ []string) error {
					_, err := cl.SetMail(ctx, api.SaveMail{})
					return err
				}),
			},
		},
	}
}

func (p *commands) mailSettings(m *api.MailSettings) {
	if !m.On {
		fmt.Fprintln(p.Out, "The gate sends no mail. `innergate mail set` says how.")
		return
	}
	p.Table(
		table.Row{"", ""},
		[]table.Row{
			{"server", m.Server},
			{"encryption", m.Encryption},
			{"from", m.From},
			{"user name", terminal.OrDash(m.Username)},
			{"password", map[bool]string{true: "kept", false: "none"}[m.HasPassword]},
		},
		"",
	)
}
