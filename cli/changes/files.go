package changes

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"innergate/api"
	"innergate/cli/terminal"
	"innergate/client"
	"innergate/core/files"
	"innergate/server/management"
)

// Config is `innergate remove-absent`: remove what files once created and these no longer hold.
func Config(of *terminal.Program) *cli.Command {
	p := &commands{of}
	loadFlags := []cli.Flag{&cli.BoolFlag{Name: "remove-absent", Usage: "remove what files once created and these no longer hold"}}
	remark := &cli.StringFlag{Name: "remark", Usage: "why; it stands in the history of everything that changes"}
	return &cli.Command{
		Name:  "config",
		Usage: "the configuration as files: export, preview, load",
		Metadata: terminal.Examples(
			"innergate config export --folder gate/", "innergate config preview gate/",
			"innergate config load gate/ --remark 'Cargo Ledger for the north quay'",
		),
		Commands: []*cli.Command{
			{
				Name:  "export",
				Usage: "print the whole configuration, or write it into a folder",
				Description: "Without --folder everything goes to standard output as one file. With it, every application and " +
					"provider has a file of its own; files there that the gate no longer has are named and left.\n" +
					"Secrets are never exported in clear. With --sealed an owner gets them sealed: only this gate, with its master " +
					"key, can open them.",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "folder", Usage: "the folder to write into"},
					&cli.BoolFlag{Name: "sealed", Usage: "with secrets, sealed for this gate"},
				},
				Metadata: terminal.Examples("innergate config export > gate.yaml", "innergate config export --folder gate/"),
				Action:   p.With("", p.exportConfig),
			},
			{
				Name:      "preview",
				Usage:     "tell what loading files would change, and what people would notice",
				ArgsUsage: "FILE|FOLDER…",
				Flags:     loadFlags,
				Metadata:  terminal.Examples("innergate config preview gate.yaml", "innergate config preview gate/ --remove-absent"),
				Action: p.Flexible(1, terminal.ManyFiles, func(
					ctx context.Context,
					c *cli.Command,
					cl *client.Client,
					args []string,
				) error {
					return p.loadConfig(ctx, c, cl, args, true)
				}),
			},
			{
				Name:      "load",
				Usage:     "create and update what files describe, all or nothing; twice gives the same",
				ArgsUsage: "FILE|FOLDER…",
				Description: "What the files don't mention stays. With --remove-absent, what files once created and these no longer " +
					"hold is removed.\nSecrets that the files name as env or file are read here, where the command runs.",
				Flags: append(slices.Clone(loadFlags), remark),
				Metadata: terminal.Examples(
					"innergate config load gate.yaml",
					"innergate config load gate/ --remove-absent --remark 'spring cleaning'", "innergate config load -",
				),
				Action: p.Flexible(1, terminal.ManyFiles, func(
					ctx context.Context,
					c *cli.Command,
					cl *client.Client,
					args []string,
				) error {
					return p.loadConfig(ctx, c, cl, args, false)
				}),
			},
			{
				Name:      "seal",
				Usage:     "seal a secret for this gate, so that it can stand in a file; the value comes from standard input",
				ArgsUsage: "FOR",
				Metadata:  terminal.Examples("innergate config seal providers/northquay-stevedores < secret.txt"),
				Action: p.With("FOR", func(ctx context.Context, c *cli.Command, cl *client.Client, args []string) error {
					value, err := p.Input("-", 4096)
					if err != nil {
						return err
					}
					s, err := cl.SealSecret(ctx, api.SealSecret{For: args[0], Value: strings.TrimRight(string(value), "\r\n")})
					if err != nil {
						return err
					}
					return p.Show(c, s, func() {
						fmt.Fprintf(p.Out, "secrets:\n  - for: %s\n    sealed: %s\n", s.For, s.Sealed)
					})
				}),
			},
			{
				Name:     "schema",
				Usage:    "print the JSON Schema of configuration files, for editors; needs no service",
				Metadata: terminal.Examples("innergate config schema > config.schema.json"),
				Action: func(ctx context.Context, c *cli.Command) error {
					_, err := p.Out.Write(management.Schema())
					return err
				},
			},
		},
	}
}

func (p *commands) exportConfig(ctx context.Context, c *cli.Command, cl *client.Client, _ []string) error {
	folder := c.String("folder")
	list, err := cl.Files(ctx, folder != "", c.Bool("sealed"))
	if err != nil {
		return err
	}
	if folder == "" {
		_, err := fmt.Fprint(p.Out, list[0].Text)
		return err
	}
	changed := 0
	known := map[string]bool{}
	for _, f := range list {
		path := filepath.Join(folder, filepath.FromSlash(f.Name))
		known[path] = true
		if held, err := os.ReadFile(path); err == nil && string(held) == f.Text {
			continue
		}
		changed++
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return fmt.Errorf("the folder can't be made: %w", err)
		}
		if err := os.WriteFile(path, []byte(f.Text), 0o644); err != nil {
			return fmt.Errorf("the file can't be written: %w", err)
		}
	}
	fmt.Fprintf(p.Out, "%d files in %s; %d of them are new or have changed.\n", len(list), folder, changed)
	there, err := yamlFiles(folder)
	if err != nil {
		return err
	}
	for _, path := range there {
		if !known[path] {
			fmt.Fprintf(p.Err, "%s is not part of what the gate has, and was left as it is.\n", path)
		}
	}
	return nil
}

// yamlFiles lists the YAML files in a folder and below it, hidden ones left out.
func yamlFiles(folder string) ([]string, error) {
	var out []string
	err := filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if path != folder && strings.HasPrefix(d.Name(), ".") {
			if d.IsDir() {
				return filepath.SkipDir
			}
			return nil
		}
		if ext := filepath.Ext(path); !d.IsDir() && (ext == ".yaml" || ext == ".yml") {
			out = append(out, path)
		}
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("the folder %s can't be read: %w", folder, err)
	}
	return out, nil
}

// configTexts reads the files and folders that were named.
func (p *commands) configTexts(args []string) ([]files.Text, error) {
	var out []files.Text
	total := 0
	read := func(path string) error {
		data, err := p.Input(path, files.MostOctets+1)
		if err != nil {
			return err
		}
		if total += len(data); total > files.MostOctets {
			return fmt.Errorf("the files have more than %d MiB together; load them in several turns", files.MostOctets>>20)
		}
		name := path
		if path == "-" {
			name = "standard input"
		}
		out = append(out, files.Text{Name: name, Text: string(data)})
		return nil
	}
	for _, path := range args {
		info, err := os.Stat(path)
		switch {
		case path == "-":
			if err := read(path); err != nil {
				return nil, err
			}
			continue
		case errors.Is(err, fs.ErrNotExist):
			return nil, terminal.NoSuchFile(path)
		case err != nil:
			return nil, fmt.Errorf("%s can't be read: %w", path, err)
		case !info.IsDir():
			if err := read(path); err != nil {
				return nil, err
			}
			continue
		}
		list, err := yamlFiles(path)
		if err != nil {
			return nil, err
		}
		if len(list) == 0 {
			return nil, fmt.Errorf("the folder %s holds no file that ends in .yaml or .yml", path)
		}
		for _, one := range list {
			if err := read(one); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// referenced reads the secrets that the files name by variable or path, where they are set. What is missing the service
// explains.
func referenced(texts []files.Text) (map[string]string, error) {
	values := map[string]string{}
	for _, s := range files.Read(texts).Secrets {
		switch {
		case s.Env != "":
			values[s.Key()] = os.Getenv(s.Env)
		case s.File != "":
			path := s.File
			if !filepath.IsAbs(path) {
				path = filepath.Join(filepath.Dir(s.At.File), path)
			}
			data, err := os.ReadFile(path)
			if errors.Is(err, fs.ErrNotExist) {
				return nil, fmt.Errorf("%s names the file of the secret of %s: %w", s.At, s.For, terminal.NoSuchFile(path))
			}
			if err != nil {
				return nil, fmt.Errorf("%s names the file of the secret of %s, which can't be read: %w", s.At, s.For, err)
			}
			if len(data) > 4096 {
				return nil, fmt.Errorf("%s names the file %s, which has %d octets; a secret has at most 4096", s.At, path, len(data))
			}
			values[s.Key()] = string(data)
		}
	}
	return values, nil
}

func (p *commands) loadConfig(ctx context.Context, c *cli.Command, cl *client.Client, args []string, preview bool) error {
	texts, err := p.configTexts(args)
	if err != nil {
		return err
	}
	values, err := referenced(texts)
	if err != nil {
		return err
	}
	in := api.LoadConfig{Files: texts, Values: values, RemoveAbsent: c.Bool("remove-absent"), Preview: preview}
	if !preview {
		in.Remark = c.String("remark")
	}
	r, err := cl.Load(ctx, in)
	if err != nil {
		return err
	}
	return p.Show(c, r, func() { p.configResult(r, preview) })
}

var stepMarks = map[string]string{files.Create: "+", files.Update: "~", files.Remove: "-"}

func (p *commands) configResult(r *api.ConfigResult, preview bool) {
	counts := map[string]int{}
	for _, s := range r.Steps {
		counts[s.Action]++
		place := ""
		if s.File != "" {
			place = fmt.Sprintf("  (%s:%d)", s.File, s.Line)
		}
		fmt.Fprintf(p.Out, "%s %s %s%s\n", stepMarks[s.Action], s.Kind, s.Slug, place)
		if s.Action == files.Update {
			p.differences(s.Changes)
		}
	}
	for _, e := range r.Effects {
		fmt.Fprintln(p.Out)
		for _, line := range e.InWords() {
			fmt.Fprintln(p.Out, line)
		}
		for _, list := range []struct {
			head   string
			people []api.PersonLine
			all    int
		}{{"  out: ", e.Lose, e.Loses}, {"  in:  ", e.Gain, e.Gains}} {
			if len(list.people) == 0 {
				continue
			}
			var names []string
			for _, x := range list.people {
				names = append(names, x.Name)
			}
			more := ""
			if list.all > len(list.people) {
				more = fmt.Sprintf(" and %d more", list.all-len(list.people))
			}
			fmt.Fprintln(p.Out, list.head+strings.Join(names, ", ")+more)
		}
	}
	if len(r.Steps) == 0 {
		fmt.Fprintf(p.Out, "Everything is as the files say: %d objects.\n", r.Unchanged)
		return
	}
	did := "Created %d, updated %d, removed %d; %d are as they were.\n"
	if preview {
		did = "Would create %d, update %d and remove %d; %d are as the files say. Nothing was changed.\n"
	}
	fmt.Fprintf(p.Out, "\n"+did, counts[files.Create], counts[files.Update], counts[files.Remove], r.Unchanged)
}

// differences prints what differs, the value before above the value after.
func (p *commands) differences(list []api.Change) {
	for _, ch := range list {
		fmt.Fprintf(p.Out, "    %s\n", ch.Field)
		if ch.Before != "" {
			fmt.Fprintf(p.Out, "      - %s\n", shortened(ch.Before))
		}
		if ch.After != "" {
			fmt.Fprintf(p.Out, "      + %s\n", shortened(ch.After))
		}
	}
}

// shortened keeps certificates and the like to one line.
func shortened(v string) string {
	v = strings.Join(strings.Fields(v), " ")
	if r := []rune(v); len(r) > 160 {
		return string(r[:120]) + " … " + string(r[len(r)-24:])
	}
	return v
}
