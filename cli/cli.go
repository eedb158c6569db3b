// Package cli is the command line: the service, the demo, and a client for everything that the management API offers.
package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"innergate/cli/accounts"
	"innergate/cli/changes"
	"innergate/cli/checkups"
	"innergate/cli/configuration"
	"innergate/cli/console"
	"innergate/cli/exchange"
	"innergate/cli/guarded"
	"innergate/cli/keyring"
	"innergate/cli/ldapdir"
	"innergate/cli/moves"
	"innergate/cli/nodes"
	"innergate/cli/pages"
	"innergate/cli/partners"
	"innergate/cli/persons"
	"innergate/cli/rehearsal"
	"innergate/cli/service"
	"innergate/cli/sessions"
	"innergate/cli/sources"
	"innergate/cli/terminal"
	"innergate/cli/traces"
	"innergate/cli/watch"
)

// Run runs one command line and returns the exit code.
func Run(ctx context.Context, args []string, s terminal.Streams, b terminal.Build) int {
	p := &terminal.Program{Streams: s, Build: b}
	err := root(p).Run(ctx, args)
	if err == nil {
		return terminal.ExitOK
	}
	fmt.Fprintln(s.Err, "innergate: "+strings.TrimSpace(err.Error()))
	return terminal.ExitCode(err)
}

// Commands are all commands, for whoever describes them: manual pages are made from what the program says of itself.
func Commands(b terminal.Build) *cli.Command { return root(&terminal.Program{Build: b}) }

const helpTemplate = `{{.FullName}}: {{.Usage}}

Usage:
  {{if .UsageText}}{{.UsageText}}{{else}}{{.FullName}}{{if .VisibleCommands}} COMMAND{{end}}{{if .VisibleFlags}} [flags]{{end}}{{if ` +
	`.ArgsUsage}} {{.ArgsUsage}}{{end}}{{end}}
{{if .Description}}
{{.Description}}
{{end}}{{if .VisibleCommands}}
Commands:{{range .VisibleCommands}}
  {{printf "%-12s" .Name}} {{.Usage}}{{end}}
{{end}}{{with index .Metadata "examples"}}
Examples:{{range .}}
  {{.}}{{end}}
{{end}}{{if .VisibleFlags}}
Flags:{{range .VisibleFlags}}
  {{.}}{{end}}
{{end}}`

func root(p *terminal.Program) *cli.Command {
	cli.RootCommandHelpTemplate, cli.CommandHelpTemplate, cli.SubcommandHelpTemplate = helpTemplate, helpTemplate, helpTemplate
	cli.VersionPrinter = func(c *cli.Command) { fmt.Fprintln(c.Root().Writer, "Inner Gate "+c.Root().Version) }
	root := &cli.Command{
		Name: "innergate", Usage: "stands between applications and identity providers", Version: p.Version,
		Writer: p.Out, ErrWriter: p.Err, Reader: p.In, EnableShellCompletion: true, Suggest: true,
		ConfigureShellCompletionCommand: func(c *cli.Command) {
			c.Hidden, c.Usage, c.Metadata = false, "print the completion script for a shell", terminal.Examples(
				"innergate completion bash > /etc/bash_completion.d/innergate",
			)
			for _, shell := range c.Commands {
				shell.Metadata = terminal.Examples("innergate completion " + shell.Name)
			}
		},
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name:    "url",
				Usage:   "the gate's address; its token comes from INNERGATE_TOKEN or `innergate login`, never from an argument",
				Sources: cli.EnvVars("INNERGATE_URL"),
			},
			&cli.StringFlag{
				Name:    "output",
				Aliases: []string{"o"},
				Usage:   "table, json or yaml",
				Value:   "table",
				Validator: func(v string) error {
					if !slices.Contains([]string{"table", "json", "yaml"}, v) {
						return terminal.Usage("%q is no form of output; table, json and yaml are", v)
					}
					return nil
				},
			},
		},
		Commands: []*cli.Command{
			service.Serve(p),
			service.SetUp(p),
			service.Backup(p),
			service.Restore(p),
			service.Demo(p),
			console.Login(p),
			configuration.Applications(p),
			configuration.Providers(p),
			watch.Metadata(p),
			exchange.Exchange(p),
			rehearsal.Rehearse(p),
			traces.Traces(p),
			traces.Bundle(p),
			rehearsal.Judge(p),
			rehearsal.Decode(p),
			keyring.Keys(p),
			rehearsal.Mapping(p),
			configuration.RuleSets(p),
			persons.People(p),
			persons.Groups(p),
			configuration.Access(p),
			sessions.Sessions(p),
			pages.Pages(p),
			configuration.Routes(p),
			ldapdir.Directories(p),
			accounts.Accounts(p),
			guarded.Guard(p),
			checkups.Mail(p),
			checkups.Checkup(p),
			checkups.Explain(p),
			partners.Secrets(p),
			console.ConsoleAccess(p),
			sources.Sources(p),
			sources.Templates(p),
			changes.History(p),
			moves.Moves(p),
			sources.Handovers(p),
			sources.Batches(p),
			sources.Report(p),
			changes.Journal(p),
			console.Tokens(p),
			changes.Config(p),
			keyring.MasterKey(p),
			nodes.Nodes(p),
			service.OpenAPI(p),
		},
		Metadata: terminal.Examples(
			"innergate demo", "innergate serve --public-url https://gate.saltmere.example --data /var/lib/innergate",
			"innergate metadata read partner.xml",
		),
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
	}
	finish(root)
	return root
}

// finish gives every command the same manners: usage errors in one sentence, and a word for commands that do not exist.
func finish(c *cli.Command) {
	c.OnUsageError = func(_ context.Context, c *cli.Command, err error, _ bool) error {
		var u terminal.UsageError
		if errors.As(err, &u) {
			return u
		}
		return terminal.Usage("%s. See `%s --help`", strings.TrimSuffix(err.Error(), "."), c.FullName())
	}
	c.HideHelpCommand = true
	if len(c.Commands) > 0 && c.Action == nil {
		c.Action = func(_ context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return terminal.Usage("there is no command %q. See `%s --help`", c.FullName()+" "+c.Args().First(), c.FullName())
			}
			return cli.ShowSubcommandHelp(c)
		}
	}
	for _, sub := range c.Commands {
		finish(sub)
	}
}
