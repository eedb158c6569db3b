// Package cli is the command line: the service, the demo, and a client for everything that the management API offers.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/client"
)

// Streams are the program's standard streams.
type Streams struct {
	In       io.Reader
	Out, Err io.Writer
}

// Build is what was built into the program.
type Build struct {
	Version string
	Console fs.FS
}

// Exit codes. They are documented in the handbook and don't change.
const (
	ExitOK          = 0
	ExitFailed      = 1 // the operation failed or was refused
	ExitUsage       = 2 // the command line is wrong
	ExitUnreachable = 3 // the gate does not answer
	ExitNotAllowed  = 4 // no valid token, or a role that is not enough
	ExitNotFound    = 5 // what was named does not exist
)

// usageError is a wrong command line.
type usageError struct{ error }

func usage(format string, args ...any) error { return usageError{fmt.Errorf(format, args...)} }

type program struct {
	Streams
	Build
}

// Run runs one command line and returns the exit code.
func Run(ctx context.Context, args []string, s Streams, b Build) int {
	p := &program{s, b}
	err := p.root().Run(ctx, args)
	if err == nil {
		return ExitOK
	}
	fmt.Fprintln(s.Err, "innergate: "+strings.TrimSpace(err.Error()))
	return exitCode(err)
}

func exitCode(err error) int {
	var u usageError
	var far *client.UnreachableError
	var p *api.Problem
	switch {
	case errors.As(err, &u):
		return ExitUsage
	case errors.As(err, &far):
		return ExitUnreachable
	case errors.As(err, &p) && (p.Status == 401 || p.Status == 403):
		return ExitNotAllowed
	case errors.As(err, &p) && p.Status == 404:
		return ExitNotFound
	}
	return ExitFailed
}

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

// examples is shown at the end of a command's help.
func examples(lines ...string) map[string]any { return map[string]any{"examples": lines} }

func (p *program) root() *cli.Command {
	cli.RootCommandHelpTemplate, cli.CommandHelpTemplate, cli.SubcommandHelpTemplate = helpTemplate, helpTemplate, helpTemplate
	cli.VersionPrinter = func(c *cli.Command) { fmt.Fprintln(c.Root().Writer, "Inner Gate "+c.Root().Version) }
	root := &cli.Command{
		Name: "innergate", Usage: "stands between applications and identity providers", Version: p.Version,
		Writer: p.Out, ErrWriter: p.Err, Reader: p.In, EnableShellCompletion: true, Suggest: true,
		ConfigureShellCompletionCommand: func(c *cli.Command) {
			c.Hidden, c.Usage, c.Metadata = false, "print the completion script for a shell", examples(
				"innergate completion bash > /etc/bash_completion.d/innergate",
			)
			for _, shell := range c.Commands {
				shell.Metadata = examples("innergate completion " + shell.Name)
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
						return usage("%q is no form of output; table, json and yaml are", v)
					}
					return nil
				},
			},
		},
		Commands: []*cli.Command{
			p.serve(), p.setUp(), p.demo(), p.login(),
			p.applications(), p.providers(), p.metadata(), p.exchange(), p.rehearse(), p.traces(),
			p.bundle(), p.judge(), p.decode(), p.keys(), p.mapping(), p.ruleSets(), p.people(), p.groups(), p.access(), p.sessions(),
			p.routes(), p.guard(), p.mail(), p.checkup(), p.explain(), p.secrets(), p.consoleAccess(), p.sources(), p.templates(),
			p.history(), p.moves(), p.handovers(), p.batches(), p.report(), p.journal(), p.tokens(), p.config(), p.masterKey(), p.openAPI(),
		},
		Metadata: examples(
			"innergate demo", "innergate serve --public-url https://gate.saltmere.example --data /var/lib/innergate",
			"innergate metadata read partner.xml",
		),
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
	}
	p.finish(root)
	return root
}

// finish gives every command the same manners: usage errors in one sentence, and a word for commands that do not exist.
func (p *program) finish(c *cli.Command) {
	c.OnUsageError = func(_ context.Context, c *cli.Command, err error, _ bool) error {
		var u usageError
		if errors.As(err, &u) {
			return u
		}
		return usage("%s. See `%s --help`", strings.TrimSuffix(err.Error(), "."), c.FullName())
	}
	c.HideHelpCommand = true
	if len(c.Commands) > 0 && c.Action == nil {
		c.Action = func(_ context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return usage("there is no command %q. See `%s --help`", c.FullName()+" "+c.Args().First(), c.FullName())
			}
			return cli.ShowSubcommandHelp(c)
		}
	}
	for _, sub := range c.Commands {
		p.finish(sub)
	}
}

// arguments takes exactly the named arguments.
func arguments(c *cli.Command, names ...string) ([]string, error) {
	got := c.Args().Slice()
	if len(got) < len(names) {
		return nil, usage("%s is missing. See `%s --help`", names[len(got)], c.FullName())
	}
	if len(got) > len(names) {
		return nil, usage("%q is too much. See `%s --help`", got[len(names)], c.FullName())
	}
	return got, nil
}

// with makes an action of what talks to the service: the arguments, whose names stand in one string, are checked, and
// the client is made.
func (p *program) with(names string, act func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		args, err := arguments(c, strings.Fields(names)...)
		if err != nil {
			return err
		}
		cl, err := p.client(c)
		if err != nil {
			return err
		}
		return act(ctx, c, cl, args)
	}
}

// flexible is with for a command that takes from few to many arguments.
func (p *program) flexible(
	few, many int,
	act func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error,
) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		args := c.Args().Slice()
		if len(args) < few {
			return usage("an argument is missing. See `%s --help`", c.FullName())
		}
		if len(args) > many {
			return usage("%q is too much. See `%s --help`", args[many], c.FullName())
		}
		cl, err := p.client(c)
		if err != nil {
			return err
		}
		return act(ctx, c, cl, args)
	}
}

// words are a flag's values, parted by commas.
func words(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' })
}

// input reads a file, or standard input for "-".
func (p *program) input(name string, limit int64) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(io.LimitReader(p.In, limit))
	}
	f, err := os.Open(name)
	if err != nil {
		var path *fs.PathError
		if errors.As(err, &path) {
			err = path.Err
		}
		return nil, fmt.Errorf("the file %s can't be read: %w", name, err)
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, limit))
}
