// Package claims carries a person's values from what a provider sent to what an application receives: an attribute bag, and mappings,
// which are ordered lists of rules with steps. The profile inside the gate uses the standard claim names (OpenID Connect Core 1.0, section 5.1) where
// there is one.
package claims

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"innergate/core/explain"
	"innergate/core/trace"
)

// Bag holds values by name. A name without values counts as absent.
type Bag map[string][]string

// First is the first value under a name, or "".
func (b Bag) First(name string) string {
	if v := b[name]; len(v) > 0 {
		return v[0]
	}
	return ""
}

// Names lists the names that have values, sorted.
func (b Bag) Names() []string {
	var out []string
	for _, name := range slices.Sorted(maps.Keys(b)) {
		if len(b[name]) > 0 {
			out = append(out, name)
		}
	}
	return out
}

// Names is where a rule takes its values from: the first name that is present. In JSON and YAML it is one name or a list.
type Names []string

// UnmarshalJSON accepts a string or a list of strings.
func (n *Names) UnmarshalJSON(data []byte) error {
	var one string
	if json.Unmarshal(data, &one) == nil {
		*n = Names{one}
		return nil
	}
	return json.Unmarshal(data, (*[]string)(n))
}

// MarshalJSON writes a single name as a string.
func (n Names) MarshalJSON() ([]byte, error) {
	if len(n) == 1 {
		return json.Marshal(n[0])
	}
	return json.Marshal([]string(n))
}

// Rule sets one attribute. Exactly one of From and Value is given.
type Rule struct {
	Set      string `json:"set"`
	From     Names  `json:"from,omitempty"`
	Value    string `json:"value,omitempty"`
	Steps    []Step `json:"steps,omitempty"`
	Required bool   `json:"required,omitempty"`
	// FriendlyName, NameFormat and Type are those of the SAML attribute that an outbound rule makes.
	FriendlyName string `json:"friendlyName,omitempty"`
	NameFormat   string `json:"nameFormat,omitempty"`
	Type         string `json:"type,omitempty"`
}

// Mapping is an ordered list of rules.
type Mapping []Rule

// Limits on what a rule may make.
const (
	maxRules  = 200
	maxValues = 10000
	maxSteps  = 32
)

// Check says what is wrong with a mapping, or returns nil.
func (m Mapping) Check() error {
	if len(m) > maxRules {
		return fmt.Errorf("there are %d rules; %d are the most", len(m), maxRules)
	}
	for i, r := range m {
		if err := r.check(); err != nil {
			return fmt.Errorf("rule %d (%s): %w", i+1, r.Set, err)
		}
	}
	return nil
}

func (r Rule) check() error {
	switch {
	case r.Set == "" || strings.TrimSpace(r.Set) != r.Set:
		return fmt.Errorf("the name to set, %q, is empty or has white space around it", r.Set)
	case len(r.From) > 0 && r.Value != "":
		return fmt.Errorf("it has both from and value; only one can be")
	case len(r.From) == 0 && r.Value == "":
		return fmt.Errorf("it has neither from nor value")
	case len(r.Steps) > maxSteps:
		return fmt.Errorf("it has %d steps; %d are the most", len(r.Steps), maxSteps)
	}
	for _, s := range r.Steps {
		if _, err := s.compile(); err != nil {
			return fmt.Errorf("step %s: %w", s, err)
		}
	}
	return nil
}

// Compiled is a mapping made ready to be applied many times.
type Compiled struct{ rules []compiledRule }

type compiledRule struct {
	Rule
	steps []func([]string) []string
}

// Compile checks the mapping and makes it ready.
func (m Mapping) Compile() (*Compiled, error) {
	if err := m.Check(); err != nil {
		return nil, err
	}
	c := &Compiled{make([]compiledRule, len(m))}
	for i, r := range m {
		c.rules[i].Rule = r
		for _, s := range r.Steps {
			f, err := s.compile()
			if err != nil {
				return nil, err
			}
			c.rules[i].steps = append(c.rules[i].steps, f)
		}
	}
	return c, nil
}

// Output is one attribute that a mapping made, with the rule that made it.
type Output struct {
	Rule   Rule
	Values []string
}

// Apply runs the rules over the input. A rule sees the input and what earlier rules set, the latter first. Each value is recorded; a mandatory
// one that is missing is a failure.
func (c *Compiled) Apply(in Bag, direction string, rec *trace.Recorder) ([]Output, error) {
	set := Bag{}
	var out []Output
	for i := range c.rules {
		r := &c.rules[i]
		done, err := r.run(in, set, rec != nil)
		if rec != nil {
			done.Direction, done.Personal = direction, true
			rec.Value(done)
		}
		var failure *explain.Failure
		switch {
		case errors.As(err, &failure):
			return nil, err
		case err != nil:
			return nil, explain.New("map.failed", explain.Fact("rule", fmt.Sprintf("%d (%s): %v", i+1, r.Set, err)))
		case len(done.Output) == 0:
			continue
		}
		set[r.Set] = done.Output
		out = append(out, Output{r.Rule, done.Output})
	}
	return out, nil
}

// run takes the rule's values from what came and what earlier rules set, and puts them through its steps. What each step made is kept where it is recorded.
func (r *compiledRule) run(in, set Bag, record bool) (done trace.Value, err error) {
	done.Rule = r.Set
	done.From, done.Input = r.source(in, set)
	values := done.Input
	for n, step := range r.steps {
		values = step(values)
		if len(values) > maxValues {
			return done, fmt.Errorf("the step %s makes more than %d values", r.Steps[n], maxValues)
		}
		if record {
			done.Steps = append(done.Steps, trace.StepDone{Step: r.Steps[n].String(), Values: values})
		}
	}
	done.Output = values
	if len(values) == 0 && r.Required {
		err = explain.New("map.required-missing", explain.Pair("value", r.Set+" from "+strings.Join(r.From, ", "), strings.Join(in.Names(), ", ")))
	}
	return done, err
}

func (r *compiledRule) source(in, set Bag) (string, []string) {
	if r.Value != "" {
		return "", []string{r.Value}
	}
	for _, name := range r.From {
		if v := set[name]; len(v) > 0 {
			return name, v
		}
		if v := in[name]; len(v) > 0 {
			return name, v
		}
	}
	return strings.Join(r.From, ", "), nil
}

// Profile turns outputs into a bag.
func Profile(out []Output) Bag {
	b := make(Bag, len(out))
	for _, o := range out {
		b[o.Rule.Set] = o.Values
	}
	return b
}

// Step is one change of a rule's values: a bare word, or a word with an argument.
type Step struct {
	Word string
	Arg  any
}

// String writes the step as people read it.
func (s Step) String() string {
	switch arg := s.Arg.(type) {
	case nil:
		return s.Word
	case map[string]any:
		return fmt.Sprintf("%s %d", s.Word, len(arg))
	case []any:
		parts := make([]string, len(arg))
		for i, a := range arg {
			parts[i] = fmt.Sprint(a)
		}
		return s.Word + " " + strings.Join(parts, " → ")
	default:
		return fmt.Sprintf("%s %v", s.Word, arg)
	}
}

// MarshalJSON writes "lower" or {"keep":"^ferry-"}.
func (s Step) MarshalJSON() ([]byte, error) {
	if s.Arg == nil {
		return json.Marshal(s.Word)
	}
	return json.Marshal(map[string]any{s.Word: s.Arg})
}

// UnmarshalJSON reads what MarshalJSON writes.
func (s *Step) UnmarshalJSON(data []byte) error {
	if json.Unmarshal(data, &s.Word) == nil {
		s.Arg = nil
		return nil
	}
	var m map[string]any
	if err := json.Unmarshal(data, &m); err != nil || len(m) != 1 {
		return fmt.Errorf("a step is a word such as lower, or one word with its argument such as {keep: \"^ferry-\"}")
	}
	for s.Word, s.Arg = range m {
	}
	return nil
}

type stepMaker func(arg any) (func([]string) []string, error)

// each makes a step that changes every value alone.
func each(f func(string) string) func([]string) []string {
	return func(in []string) []string {
		out := make([]string, len(in))
		for i, v := range in {
			out[i] = f(v)
		}
		return out
	}
}

func bare(f func([]string) []string) stepMaker {
	return func(arg any) (func([]string) []string, error) {
		if arg != nil {
			return nil, fmt.Errorf("it takes no argument")
		}
		return f, nil
	}
}

func withText(f func(text string) func([]string) []string) stepMaker {
	return func(arg any) (func([]string) []string, error) {
		s, ok := arg.(string)
		if !ok || s == "" {
			return nil, fmt.Errorf("it takes a text")
		}
		return f(s), nil
	}
}

func withPattern(keep bool) stepMaker {
	return func(arg any) (func([]string) []string, error) {
		s, ok := arg.(string)
		if !ok {
			return nil, fmt.Errorf("it takes a pattern")
		}
		re, err := regexp.Compile(s)
		if err != nil {
			return nil, err
		}
		return func(in []string) []string {
			var out []string
			for _, v := range in {
				if re.MatchString(v) == keep {
					out = append(out, v)
				}
			}
			return out
		}, nil
	}
}

var makers = map[string]stepMaker{
	"lower": bare(each(strings.ToLower)),
	"upper": bare(each(strings.ToUpper)),
	"trim":  bare(each(strings.TrimSpace)),
	"unique": bare(func(in []string) []string {
		var out []string
		for _, v := range in {
			if !slices.Contains(out, v) {
				out = append(out, v)
			}
		}
		return out
	}),
	"sort":  bare(func(in []string) []string { return slices.Sorted(slices.Values(in)) }),
	"first": bare(func(in []string) []string { return in[:min(1, len(in))] }),
	"before": withText(func(t string) func([]string) []string {
		return each(func(v string) string { b, _, _ := strings.Cut(v, t); return b })
	}),
	"after": withText(func(t string) func([]string) []string {
		return each(func(v string) string {
			_, a, ok := strings.Cut(v, t)
			if !ok {
				return v
			}
			return a
		})
	}),
	"cut_prefix": withText(func(t string) func([]string) []string {
		return each(func(v string) string { return strings.TrimPrefix(v, t) })
	}),
	"cut_suffix": withText(func(t string) func([]string) []string {
		return each(func(v string) string { return strings.TrimSuffix(v, t) })
	}),
	"add_prefix": withText(func(t string) func([]string) []string { return each(func(v string) string { return t + v }) }),
	"add_suffix": withText(func(t string) func([]string) []string { return each(func(v string) string { return v + t }) }),
	"keep":       withPattern(true),
	"drop":       withPattern(false),
	"join": withText(func(t string) func([]string) []string {
		return func(in []string) []string {
			if len(in) == 0 {
				return in
			}
			return []string{strings.Join(in, t)}
		}
	}),
	"split": withText(func(t string) func([]string) []string {
		return func(in []string) []string {
			var out []string
			for _, v := range in {
				out = append(out, strings.Split(v, t)...)
			}
			return out
		}
	}),
	"default": withText(func(t string) func([]string) []string {
		return func(in []string) []string {
			if len(in) == 0 {
				return []string{t}
			}
			return in
		}
	}),
	"limit":     limitStep,
	"replace":   replaceStep,
	"translate": translateStep,
}

func limitStep(arg any) (func([]string) []string, error) {
	n, ok := arg.(float64)
	if !ok || n < 1 || n != float64(int(n)) {
		return nil, fmt.Errorf("it takes a whole number of at least 1")
	}
	return func(in []string) []string { return in[:min(int(n), len(in))] }, nil
}

func replaceStep(arg any) (func([]string) []string, error) {
	pair, ok := arg.([]any)
	if !ok || len(pair) != 2 {
		return nil, fmt.Errorf("it takes a list of two: pattern and replacement")
	}
	re, err := regexp.Compile(fmt.Sprint(pair[0]))
	if err != nil {
		return nil, err
	}
	with := fmt.Sprint(pair[1])
	return each(func(v string) string { return re.ReplaceAllString(v, with) }), nil
}

// translateStep replaces whole values by a table; the entry "*" is the default for others, which are kept as they are without it.
func translateStep(arg any) (func([]string) []string, error) {
	table, ok := arg.(map[string]any)
	if !ok || len(table) == 0 {
		return nil, fmt.Errorf("it takes a table of values")
	}
	words := make(map[string]string, len(table))
	for k, v := range table {
		words[k] = fmt.Sprint(v)
	}
	other, hasOther := words["*"]
	return each(func(v string) string {
		if w, ok := words[v]; ok {
			return w
		}
		if hasOther {
			return other
		}
		return v
	}), nil
}

func (s Step) compile() (func([]string) []string, error) {
	maker, ok := makers[s.Word]
	if !ok {
		return nil, fmt.Errorf("there is no step %q; the steps are %s", s.Word, strings.Join(slices.Sorted(maps.Keys(makers)), ", "))
	}
	return maker(s.Arg)
}
