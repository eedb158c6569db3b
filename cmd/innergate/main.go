// Innergate is the gate's service and its command-line client.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"innergate/cli"
	"innergate/cli/terminal"
	"innergate/web"
)

// version is set when a release is built.
var version = "0.1.0"

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	os.Exit(cli.Run(
		ctx,
		os.Args,
		terminal.Streams{In: os.Stdin, Out: os.Stdout, Err: os.Stderr},
		terminal.Build{Version: version, Console: web.Console()},
	))
}
