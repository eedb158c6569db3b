package claims

import (
	"errors"
	"fmt"
	"strings"

	"innergate/core/explain"
	"innergate/core/trace"
)

// Attempt is what a mapping makes of an input, outside of any sign-in: the attributes, what each rule did, and what is
// wrong. Rules that can't be used are all named, and then nothing is applied.
type Attempt struct {
	Attributes Bag           `json:"attributes"`
	Steps      []trace.Value `json:"steps"`
	Problems   []Problem     `json:"problems"`
}

// Problem is what is wrong with one rule, or with what it was given. Rule is the name that the rule sets.
type Problem struct {
	Rule    string `json:"rule"`
	Code    string `json:"code"`
	Message string `json:"message"`
}

// ProblemInvalid is the code of a rule that can't be used at all. What happens to a rule in use has the code of its
// explanation.
const ProblemInvalid = "map.invalid-rule"

// Try applies the mapping to an input and tells everything about it. Where a sign-in would be refused at the first
// problem, Try goes on and names all.
func (m Mapping) Try(in Bag) Attempt {
	a := Attempt{Attributes: Bag{}, Steps: []trace.Value{}, Problems: []Problem{}}
	for i, r := range m {
		if err := r.check(); err != nil {
			a.Problems = append(a.Problems, Problem{r.Set, ProblemInvalid, fmt.Sprintf("Rule %d can't be used: %v.", i+1, err)})
		}
	}
	if len(a.Problems) > 0 {
		return a
	}
	c, err := m.Compile()
	if err != nil {
		a.Problems = append(a.Problems, Problem{"", ProblemInvalid, "The mapping can't be used: " + err.Error() + "."})
		return a
	}
	for i := range c.rules {
		r := &c.rules[i]
		var done trace.Value
		err := r.run(in, a.Attributes, &done, true)
		done.Direction, done.Input, done.Output = "in", orEmpty(done.Input), orEmpty(done.Output)
		for n := range done.Steps {
			done.Steps[n].Values = orEmpty(done.Steps[n].Values)
		}
		a.Steps = append(a.Steps, done)
		if err == nil && len(done.Output) > 0 {
			a.Attributes[r.Set] = done.Output
			continue
		}
		var f *explain.Failure
		switch {
		case errors.As(err, &f) && f.Code == explain.MapRequiredMissing:
			a.Problems = append(
				a.Problems,
				Problem{
					r.Set,
					string(f.Code),
					fmt.Sprintf(
						"Rule %d makes no value, and it is mandatory: a sign-in would be refused. It takes %s; the input has %s.",
						i+1, orNothing(r.From), orNothing(in.Names()),
					),
				},
			)
		case err != nil:
			a.Problems = append(a.Problems, Problem{r.Set, "map.failed", fmt.Sprintf("Rule %d fails: %v.", i+1, err)})
		}
	}
	return a
}

func orNothing(names []string) string {
	if len(names) == 0 {
		return "nothing"
	}
	return strings.Join(names, ", ")
}

// orEmpty makes no values an empty list, which is what a program that reads them expects.
func orEmpty(values []string) []string {
	if values == nil {
		return []string{}
	}
	return values
}
