// Package pages is the command line's part about the pages for people: how they look, and in which languages they are.
package pages

import (
	"context"
	"encoding/base64"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/urfave/cli/v3"

	"innergate/cli/terminal"
	"innergate/client"
	"innergate/core/config"
	"innergate/server"
)

// Pages is `innergate pages`: how the pages for people look, and their languages.
func Pages(p *terminal.Program) *cli.Command {
	return &cli.Command{
		Name:     "pages",
		Usage:    "the pages for people: the operator's name, mark, colour and help, and their languages",
		Metadata: terminal.Examples("innergate pages show", "innergate pages set --name 'Saltmere Ferries' --accent '#7a1f3d'"),
		Commands: []*cli.Command{show(p), set(p), texts(p), check(p)},
	}
}

func show(p *terminal.Program) *cli.Command {
	return &cli.Command{
		Name:     "show",
		Usage:    "how they look",
		Metadata: terminal.Examples("innergate pages show"),
		Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
			held, err := cl.Pages(ctx)
			if err != nil {
				return err
			}
			return tell(p, c, held)
		}),
	}
}

func set(p *terminal.Program) *cli.Command {
	return &cli.Command{
		Name:  "set",
		Usage: "say how they look; what is not named stays, and an empty value takes it away",
		Metadata: terminal.Examples("innergate pages set --name 'Saltmere Ferries' --mark logo.png --accent '#7a1f3d'",
			"innergate pages set --help-at help@saltmere.example", "innergate pages set --language ''"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "name", Usage: "the operator's name"},
			&cli.StringFlag{Name: "mark", Usage: "a file with the operator's sign: PNG, JPEG, GIF or WebP of at most 32 KiB"},
			&cli.StringFlag{Name: "accent", Usage: "the colour of buttons and links, as #rrggbb"},
			&cli.StringFlag{Name: "help-at", Usage: "where people find help: a mail address, a number, or an address of a page"},
			&cli.StringFlag{Name: "language", Usage: "one language for everybody, such as de; empty for what each browser asks for"},
		},
		Action: p.With("", func(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
			held, err := cl.Pages(ctx)
			if err != nil {
				return err
			}
			for name, field := range map[string]*string{"name": &held.Name, "accent": &held.Accent, "help-at": &held.Help,
				"language": &held.Language} {
				if c.IsSet(name) {
					*field = c.String(name)
				}
			}
			if c.IsSet("mark") {
				if held.Mark, err = picture(c.String("mark")); err != nil {
					return err
				}
			}
			if held, err = cl.SetPages(ctx, *held); err != nil {
				return err
			}
			return tell(p, c, held)
		}),
	}
}

// picture is a file as a data: address; nothing for no file.
func picture(path string) (string, error) {
	if path == "" {
		return "", nil
	}
	data, err := os.ReadFile(path)
	if os.IsNotExist(err) {
		return "", terminal.NoSuchFile(path)
	}
	if err != nil {
		return "", err
	}
	return "data:" + http.DetectContentType(data) + ";base64," + base64.StdEncoding.EncodeToString(data), nil
}

func tell(p *terminal.Program, c *cli.Command, held *config.Pages) error {
	return p.Show(c, held, func() {
		say := func(value, otherwise string) string {
			if value == "" {
				return otherwise
			}
			return value
		}
		mark := "the gate's own"
		if held.Mark != "" {
			mark = "a picture of the operator's"
		}
		fmt.Fprintf(p.Out, "Name      %s\nMark      %s\nAccent    %s\nHelp      %s\nLanguage  %s\n",
			say(held.Name, "Inner Gate"), mark, say(held.Accent, "the gate's own"), say(held.Help, "none"),
			say(held.Language, "as each browser asks"))
	})
}

func texts(p *terminal.Program) *cli.Command {
	return &cli.Command{
		Name:  "texts",
		Usage: "write all texts that people may see, as the file of a language to be filled in",
		Description: "Put the filled file into the folder languages of the data folder, named for its language, such as fr.yaml, " +
			"and start the gate again. What it leaves out is said in English.",
		Metadata: terminal.Examples("innergate pages texts > fr.yaml"),
		Action: func(context.Context, *cli.Command) error {
			empty := yaml.MapSlice{}
			for _, t := range server.Texts() {
				empty = append(empty, yaml.MapItem{Key: t, Value: ""})
			}
			out, err := yaml.Marshal(yaml.MapSlice{{Key: "name", Value: ""}, {Key: "texts", Value: empty}})
			if err != nil {
				return err
			}
			_, err = p.Out.Write(out)
			return err
		},
	}
}

func check(p *terminal.Program) *cli.Command {
	return &cli.Command{
		Name:      "check",
		Usage:     "say what of a language's file can't be used, and how much is still missing",
		ArgsUsage: "FILE",
		Metadata:  terminal.Examples("innergate pages check fr.yaml"),
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Len() != 1 {
				return terminal.Usage("name one file, such as fr.yaml")
			}
			file := c.Args().First()
			data, err := os.ReadFile(file)
			if os.IsNotExist(err) {
				return terminal.NoSuchFile(file)
			}
			if err != nil {
				return err
			}
			t, remarks, err := server.ReadTongue(strings.TrimSuffix(filepath.Base(file), ".yaml"), data)
			if err != nil {
				return fmt.Errorf("%s: %w", file, err)
			}
			for _, r := range remarks {
				fmt.Fprintln(p.Out, r)
			}
			fmt.Fprintf(p.Out, "%s holds %d of %d texts; the rest is said in English.\n", file, len(t.Texts), len(server.Texts()))
			if len(remarks) > 0 {
				return fmt.Errorf("%d texts of %s can't be used as they are", len(remarks), file)
			}
			return nil
		},
	}
}
