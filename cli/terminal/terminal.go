package terminal

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
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

// UsageError is a wrong command line.
type UsageError struct{ error }

// Usage is an error of the command line, with exit code 2.
func Usage(format string, args ...any) error { return UsageError{fmt.Errorf(format, args...)} }

// Program is one run of a command line.
type Program struct {
	Streams
	Build
}

// ExitCode is the exit code that an error ends the program with.
func ExitCode(err error) int {
	var u UsageError
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

// Examples is shown at the end of a command's help.
func Examples(lines ...string) map[string]any { return map[string]any{"examples": lines} }

// Arguments takes exactly the named arguments.
func Arguments(c *cli.Command, names ...string) ([]string, error) {
	got := c.Args().Slice()
	if len(got) < len(names) {
		return nil, Usage("%s is missing. See `%s --help`", names[len(got)], c.FullName())
	}
	if len(got) > len(names) {
		return nil, Usage("%q is too much. See `%s --help`", got[len(names)], c.FullName())
	}
	return got, nil
}

// With makes an action of what talks to the service: the arguments, whose names stand in one string, are checked, and
// the client is made.
func (p *Program) With(names string, act func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		args, err := Arguments(c, strings.Fields(names)...)
		if err != nil {
			return err
		}
		cl, err := p.Client(c)
		if err != nil {
			return err
		}
		return act(ctx, c, cl, args)
	}
}

// Flexible is with for a command that takes from few to many arguments.
func (p *Program) Flexible(
	few, many int,
	act func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error,
) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		args := c.Args().Slice()
		if len(args) < few {
			return Usage("an argument is missing. See `%s --help`", c.FullName())
		}
		if len(args) > many {
			return Usage("%q is too much. See `%s --help`", args[many], c.FullName())
		}
		cl, err := p.Client(c)
		if err != nil {
			return err
		}
		return act(ctx, c, cl, args)
	}
}
