package cli

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"innergate/core/claims"
)

// Limits on what a mapping is tried with, in bytes.
const (
	maxRules = 1 << 20
	maxInput = 16 << 20
)

func (p *program) mapping() *cli.Command {
	return &cli.Command{
		Name:     "mapping",
		Usage:    "mappings: the rules from what comes to what leaves",
		Metadata: examples("innergate mapping try --rules rules.yaml --input person.json"),
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
				Metadata: examples(
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
				Metadata: examples("innergate mapping usual", "innergate mapping usual uri > mapping.yaml"),
				Action:   p.usualMapping,
			},
		},
	}
}

// usualMapping lists the families of attribute names, or prints the mapping of one.
func (p *program) usualMapping(_ context.Context, c *cli.Command) error {
	families := claims.Families()
	if c.Args().Len() == 0 {
		return p.show(c, families, func() {
			var rows []table.Row
			for _, f := range families {
				rows = append(rows, table.Row{f.Name, f.Words})
			}
			p.table(table.Row{"Family", "Names"}, rows, "")
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
		return p.show(c, f.Mapping, func() { fmt.Fprintf(p.Out, "%s", text) })
	}
	return usage("there is no family %s; there are %s", c.Args().First(), strings.Join(names, ", "))
}

func (p *program) tryMapping(_ context.Context, c *cli.Command) error {
	if _, err := arguments(c); err != nil {
		return err
	}
	if c.String("rules") == "-" && c.String("input") == "-" {
		return usage("only one of --rules and --input can be standard input")
	}
	var rules claims.Mapping
	if err := p.strictly(c.String("rules"), maxRules, &rules); err != nil {
		return err
	}
	if len(rules) == 0 {
		return fmt.Errorf("there is no rule in %s", c.String("rules"))
	}
	var input struct {
		Attributes map[string]claims.Names `json:"attributes"`
	}
	if err := p.strictly(c.String("input"), maxInput, &input); err != nil {
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
	if err := p.show(c, a, func() { p.attempt(a) }); err != nil {
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

func (p *program) attempt(a claims.Attempt) {
	if len(a.Steps) > 0 {
		var rows []table.Row
		for i, s := range a.Steps {
			steps := make([]string, len(s.Steps))
			for n, step := range s.Steps {
				steps[n] = fmt.Sprintf("%s: %s", step.Step, listed(step.Values))
			}
			rows = append(
				rows,
				table.Row{i + 1, s.Rule, orDash(s.From), listed(s.Input), orDash(strings.Join(steps, "\n")), listed(s.Output)},
			)
		}
		p.table(table.Row{"Rule", "Sets", "From", "Takes", "Steps", "Makes"}, rows, "")
	}
	for _, problem := range a.Problems {
		fmt.Fprintf(p.Out, "%s: %s (%s)\n", orDash(problem.Rule), problem.Message, problem.Code)
	}
}

// listed shows values in one cell: the first few, and how many more there are.
func listed(values []string) string {
	const most = 6
	if len(values) == 0 {
		return "–"
	}
	text := strings.Join(values[:min(most, len(values))], ", ")
	if len(values) > most {
		text += fmt.Sprintf(" and %d more", len(values)-most)
	}
	return text
}

// strictly reads a file of YAML or JSON. What is not known in it is an error, so that a misspelt word is not passed
// over.
func (p *program) strictly(name string, limit int64, into any) error {
	data, err := p.input(name, limit+1)
	if err != nil {
		return err
	}
	if int64(len(data)) > limit {
		return fmt.Errorf("the file %s is larger than %d MiB", name, limit>>20)
	}
	if !json.Valid(data) {
		doc, err := yaml.YAMLToJSON(data)
		if err != nil {
			return fmt.Errorf("the file %s is neither YAML nor JSON: %s", name, yaml.FormatError(err, false, false))
		}
		data = doc
	}
	dec := json.NewDecoder(bytes.NewReader(data))
	dec.DisallowUnknownFields()
	var wrong *json.UnmarshalTypeError
	switch err := dec.Decode(into); {
	case errors.As(err, &wrong):
		return fmt.Errorf(
			"the file %s has another form: %s is a %s where a %s belongs", name, cmp.Or(wrong.Field, "it"),
			inFiles(wrong.Value), inFiles(wrong.Type.Kind().String()),
		)
	case err != nil:
		return fmt.Errorf("the file %s has another form: %s", name, strings.TrimPrefix(err.Error(), "json: "))
	}
	return nil
}

// inFiles is a kind of value by the name that people have for it in a file.
func inFiles(kind string) string {
	switch kind {
	case "slice", "array":
		return "list"
	case "struct", "map", "object":
		return "table of names"
	case "string":
		return "text"
	case "bool":
		return "yes or no"
	}
	return kind
}
