package rehearsal

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/cli/terminal"
	"innergate/core/claims"
)

// Mapping is `innergate mapping`: mappings: the rules from what comes to what leaves.
func Mapping(of *terminal.Program) *cli.Command {
	p := &commands{of}
	return &cli.Command{
		Name:     "mapping",
		Usage:    "mappings: the rules from what comes to what leaves",
		Metadata: terminal.Examples("innergate mapping try --rules rules.yaml --input person.json"),
		Commands: []*cli.Command{
			{
				Name:  "try",
				Usage: "apply rules to an input and show what each one does; needs no service",
				Description: "The rules are a list in YAML or JSON, as in a configuration file. The input is {\"attributes\": " +
					"{\"name\": [\"value\"]}}. Where a rule can't be used\nor a mandatory value is missing, the exit code is 1.",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "rules", Usage: "file with the rules, or - for standard input", Required: true},
					&cli.StringFlag{Name: "input", Usage: "file with what comes in, or - for standard input", Required: true},
				},
				Metadata: terminal.Examples(
					"innergate mapping try --rules rules.yaml --input person.json",
					"innergate mapping try --rules rules.yaml --input - -o json < person.json",
				),
				Action: p.tryMapping,
			},
			{
				Name:      "usual",
				Usage:     "print the outbound mapping that sends the usual attributes under a family of names; needs no service",
				ArgsUsage: "[FAMILY]",
				Description: "Without a family it lists them. What is printed is YAML, as it stands under `mapping` in the file of an " +
					"application.",
				Metadata: terminal.Examples("innergate mapping usual", "innergate mapping usual uri > mapping.yaml"),
				Action:   p.usualMapping,
			},
		},
	}
}

// usualMapping lists the families of attribute names, or prints the mapping of one.
func (p *commands) usualMapping(_ context.Context, c *cli.Command) error {
	families := claims.Families()
	if c.Args().Len() == 0 {
		return p.Show(c, families, func() {
			var rows []table.Row
			for _, f := range families {
				rows = append(rows, table.Row{f.Name, f.Words})
			}
			p.Table(table.Row{"Family", "Names"}, rows, "")
		})
	}
	var names []string
	for _, f := range families {
		if names = append(names, f.Name); f.Name != c.Args().First() {
			continue
		}
		text, err := yaml.MarshalWithOptions(f.Mapping, yaml.UseJSONMarshaler())
		if err != nil {
			return err
		}
		return p.Show(c, f.Mapping, func() { fmt.Fprintf(p.Out, "%s", text) })
	}
	return terminal.Usage("there is no family %s; there are %s", c.Args().First(), strings.Join(names, ", "))
}

func (p *commands) tryMapping(_ context.Context, c *cli.Command) error {
	if _, err := terminal.Arguments(c); err != nil {
		return err
	}
	if c.String("rules") == "-" && c.String("input") == "-" {
		return terminal.Usage("only one of --rules and --input can be standard input")
	}
	var rules claims.Mapping
	if err := p.Strictly(c.String("rules"), terminal.MaxRules, &rules); err != nil {
		return err
	}
	if len(rules) == 0 {
		return fmt.Errorf("there is no rule in %s", c.String("rules"))
	}
	var input struct {
		Attributes map[string]claims.Names `json:"attributes"`
	}
	if err := p.Strictly(c.String("input"), terminal.MaxInput, &input); err != nil {
		return err
	}
	if input.Attributes == nil {
		return fmt.Errorf(`the input %s names no attributes; its form is {"attributes": {"name": ["value"]}}`, c.String("input"))
	}
	bag := make(claims.Bag, len(input.Attributes))
	for name, values := range input.Attributes {
		bag[name] = values
	}
	a := rules.Try(bag)
	if err := p.Show(c, a, func() { p.attempt(a) }); err != nil {
		return err
	}
	switch len(a.Problems) {
	case 0:
		return nil
	case 1:
		return errors.New("one rule has a problem, which is named above")
	}
	return fmt.Errorf("%d rules have a problem, which is named above", len(a.Problems))
}

func (p *commands) attempt(a claims.Attempt) {
	if len(a.Steps) > 0 {
		var rows []table.Row
		for i, s := range a.Steps {
			steps := make([]string, len(s.Steps))
			for n, step := range s.Steps {
				steps[n] = fmt.Sprintf("%s: %s", step.Step, terminal.Listed(step.Values))
			}
			rows = append(
				rows,
				table.Row{
					i + 1,
					s.Rule,
					terminal.OrDash(s.From),
					terminal.Listed(s.Input),
					terminal.OrDash(strings.Join(steps, "\n")),
					terminal.Listed(s.Output),
				},
			)
		}
		p.Table(table.Row{"Rule", "Sets", "From", "Takes", "Steps", "Makes"}, rows, "")
	}
	for _, problem := range a.Problems {
		fmt.Fprintf(p.Out, "%s: %s (%s)\n", terminal.OrDash(problem.Rule), problem.Message, problem.Code)
	}
}
