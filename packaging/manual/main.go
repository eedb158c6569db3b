// Manual writes the manual pages and the completions for shells, from what the program says of itself.
//
//	go run ./packaging/manual FOLDER VERSION
package main

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	docs "github.com/urfave/cli-docs/v3"
	"github.com/urfave/cli/v3"

	gate "innergate/cli"
	"innergate/cli/terminal"
)

func main() {
	if len(os.Args) != 3 {
		fmt.Fprintln(os.Stderr, "manual FOLDER VERSION")
		os.Exit(2)
	}
	if err := write(os.Args[1], os.Args[2]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func write(folder, version string) error {
	for _, sub := range []string{"man", "completion"} {
		if err := os.MkdirAll(filepath.Join(folder, sub), 0o755); err != nil {
			return err
		}
	}
	root := gate.Commands(terminal.Build{Version: version})
	if err := page(folder, root, root.Name); err != nil {
		return err
	}
	for _, c := range root.Commands {
		if c.Hidden || c.Name == "help" {
			continue
		}
		if err := page(folder, c, root.Name+"-"+c.Name); err != nil {
			return err
		}
	}
	for _, shell := range []string{"bash", "zsh", "fish"} {
		var out bytes.Buffer
		if code := gate.Run(context.Background(), []string{"innergate", "completion", shell},
			terminal.Streams{In: strings.NewReader(""), Out: &out, Err: os.Stderr}, terminal.Build{Version: version}); code != 0 {
			return fmt.Errorf("the completion for %s can't be made", shell)
		}
		if err := os.WriteFile(filepath.Join(folder, "completion", "innergate."+shell), out.Bytes(), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// page writes one manual page, of the whole program or of one of its commands.
func page(folder string, c *cli.Command, name string) error {
	shown := *c
	shown.Name = name
	shown.UsageText = strings.TrimSpace(strings.Replace(name, "-", " ", 1) + " [flags] " + c.ArgsUsage)
	if name == "innergate" { // each command has a page of its own
		shown.Commands = nil
		shown.Description += "\n\nEach command has a page of its own:\n"
		for _, sub := range c.Commands {
			if !sub.Hidden {
				shown.Description += "\n**innergate-" + sub.Name + "**(1): " + sub.Usage + "\n"
			}
		}
	}
	if examples, ok := c.Metadata["examples"].([]string); ok {
		shown.Description += "\n\nExamples:\n\n    " + strings.Join(examples, "\n    ") + "\n"
	}
	text, err := docs.ToManWithSection(&shown, 1)
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return os.WriteFile(filepath.Join(folder, "man", name+".1"), []byte(text), 0o644)
}
