// Package claims carries a person's values from what a provider sent to what an application receives: an attribute bag,
// and mappings, which are ordered lists of rules with steps. The profile inside the gate uses the standard claim names
// (OpenID Connect Core 1.0, section 5.1) where there is one.
package claims

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"innergate/core/explain"
	"innergate/core/trace"
)

// Rule sets one attribute. Exactly one of From, Value, Expr and Use is given.
type Rule struct {
	Set   string `json:"set,omitempty"`
	From  Names  `json:"from,omitempty"`
	Value string `json:"value,omitempty"`
	// Expr is an expression over the values; see Expression.
	Expr     string `json:"expr,omitempty"`
	Steps    []Step `json:"steps,omitempty"`
	Required bool   `json:"required,omitempty"`
	// FriendlyName, NameFormat and Type are those of the SAML attribute that an outbound rule makes.
	FriendlyName string `json:"friendlyName,omitempty"`
	NameFormat   string `json:"nameFormat,omitempty"`
	Type         string `json:"type,omitempty"`
	// Place is where an OpenID Connect application gets the claim: id_token, userinfo or both. Empty leaves it to the
	// application's scopes and options.
	Place string `json:"place,omitempty"`
	// Use stands for the rules of the rule set with this short name, at this very place.
	Use string `json:"use,omitempty"`
}

// Places that a rule can name.
const (
	PlaceIDToken  = "id_token"
	PlaceUserInfo = "userinfo"
	PlaceBoth     = "both"
)

// Mapping is an ordered list of rules.
type Mapping []Rule

// Limits on what a rule may take and make.
const (
	maxRules  = 200
	maxValues = 10000
	maxValue  = 64 << 10
	maxSteps  = 32
)

// Check says what is wrong with a mapping, or returns nil.
func (m Mapping) Check() error {
	if len(m) > maxRules {
		return fmt.Errorf("there are %d rules; %d are the most", len(m), maxRules)
	}
	for i, r := range m {
		if err := r.check(); err != nil {
			return fmt.Errorf("rule %d (%s): %w", i+1, r.name(), err)
		}
	}
	return nil
}

func (r Rule) name() string {
	if r.Use != "" {
		return "use " + r.Use
	}
	return r.Set
}

func (r Rule) check() error {
	ways := 0
	for _, given := range []bool{len(r.From) > 0, r.Value != "", r.Expr != "", r.Use != ""} {
		if given {
			ways++
		}
	}
	switch {
	case r.Use != "" && (ways > 1 || r.Set != "" || len(r.Steps) > 0 || r.Required):
		return fmt.Errorf("it uses a rule set; nothing else can stand beside use")
	case r.Use != "":
		return nil
	case r.Set == "" || strings.TrimSpace(r.Set) != r.Set || len(r.Set) > 500:
		return fmt.Errorf("the name to set, %q, is empty, too long or has white space around it", r.Set)
	case ways > 1:
		return fmt.Errorf("it has more than one of from, value and expr; only one can be")
	case ways == 0:
		return fmt.Errorf("it has neither from nor value nor expr")
	case len(r.Steps) > maxSteps:
		return fmt.Errorf("it has %d steps; %d are the most", len(r.Steps), maxSteps)
	case r.Place != "" && r.Place != PlaceIDToken && r.Place != PlaceUserInfo && r.Place != PlaceBoth:
		return fmt.Errorf("%q is no place for a claim; id_token, userinfo and both are", r.Place)
	}
	if r.Expr != "" {
		if _, err := CompileExpression(r.Expr); err != nil {
			return err
		}
	}
	for _, s := range r.Steps {
		if _, err := s.compile(); err != nil {
			return fmt.Errorf("step %s: %w", s, err)
		}
	}
	return nil
}

// Uses lists the rule sets that the mapping uses.
func (m Mapping) Uses() []string {
	var out []string
	for _, r := range m {
		if r.Use != "" {
			out = append(out, r.Use)
		}
	}
	return out
}

// Resolve puts the rules of rule sets into the places where they are used. Find gives a set by its short name. A set
// can't use another one.
func (m Mapping) Resolve(find func(slug string) (Mapping, error)) (Mapping, error) {
	if len(m.Uses()) == 0 {
		return m, nil
	}
	var out Mapping
	for _, r := range m {
		if r.Use == "" {
			out = append(out, r)
			continue
		}
		set, err := find(r.Use)
		if err != nil {
			return nil, err
		}
		if u := set.Uses(); len(u) > 0 {
			return nil, fmt.Errorf("the rule set %s uses the rule set %s; a set can't use another one", r.Use, u[0])
		}
		out = append(out, set...)
	}
	return out, nil
}

// Compiled is a mapping made ready to be applied many times.
type Compiled struct {
	rules []compiledRule
	steps int
}

type compiledRule struct {
	Rule
	expr  *Expression
	fixed []string // the constant
	all   string   // the sources, for people
	steps []func([]string) []string
	words []string // the steps as people read them
}

// Compile checks the mapping and makes it ready. Rule sets must be resolved before.
func (m Mapping) Compile() (*Compiled, error) {
	if err := m.Check(); err != nil {
		return nil, err
	}
	c := &Compiled{rules: make([]compiledRule, len(m))}
	for i, r := range m {
		if r.Use != "" {
			return nil, fmt.Errorf("rule %d uses the rule set %s, which is not known here", i+1, r.Use)
		}
		into := &c.rules[i]
		into.Rule, into.all = r, strings.Join(r.From, ", ")
		if c.steps += len(r.Steps); r.Value != "" {
			into.fixed = []string{r.Value}
		}
		if r.Expr != "" {
			var err error
			if into.expr, err = CompileExpression(r.Expr); err != nil {
				return nil, err
			}
		}
		for _, s := range r.Steps {
			f, err := s.compile()
			if err != nil {
				return nil, err
			}
			into.steps, into.words = append(into.steps, f), append(into.words, s.String())
		}
	}
	return c, nil
}

// Output is one attribute that a mapping made, with the rule that made it.
type Output struct {
	Rule   *Rule
	Values []string
}

// Apply runs the rules over the input. A rule sees the input and what earlier rules set, the latter first. Each value
// is recorded; a mandatory one that is missing is a failure.
func (c *Compiled) Apply(in Bag, direction string, rec *trace.Recorder) ([]Output, error) {
	set := make(Bag, len(c.rules))
	out := make([]Output, 0, len(c.rules))
	var values []trace.Value
	var steps []trace.StepDone
	if rec != nil {
		values, steps = make([]trace.Value, len(c.rules)), make([]trace.StepDone, 0, c.steps)
	}
	for i := range c.rules {
		r := &c.rules[i]
		var one trace.Value
		done := &one
		if rec != nil {
			done = &values[i]
			done.Steps = steps[len(steps):len(steps):cap(steps)]
		}
		err := r.run(in, set, done, rec != nil)
		if rec != nil {
			steps = steps[:len(steps)+len(done.Steps)]
			if done.Direction, done.Personal = direction, true; len(done.Steps) == 0 {
				done.Steps = nil
			}
			rec.Value(done)
		}
		if err != nil {
			return nil, asFailure(err, i+1, r.Set)
		}
		if len(done.Output) > 0 {
			set[r.Set] = done.Output
			out = append(out, Output{&r.Rule, done.Output})
		}
	}
	return out, nil
}

func asFailure(err error, number int, name string) error {
	var failure *explain.Failure
	if errors.As(err, &failure) {
		return err
	}
	return explain.New(explain.MapFailed, explain.Fact("rule", fmt.Sprintf("%d (%s): %v", number, name, err)))
}

// run takes the rule's values from what came and what earlier rules set, and puts them through its steps. What each
// step made is kept where it is recorded.
func (r *compiledRule) run(in, set Bag, done *trace.Value, record bool) (err error) {
	done.Rule = r.Set
	if r.expr != nil {
		done.From = r.Expr
		done.Input, err = r.expr.Values(in, set)
	} else {
		done.From, done.Input = r.source(in, set)
	}
	if err == nil {
		err = bounded(done.Input, done.From)
	}
	if err != nil {
		done.Input = nil
		return err
	}
	values := done.Input
	for n, step := range r.steps {
		values = step(values)
		if err := bounded(values, r.words[n]); err != nil {
			return fmt.Errorf("the step %w", err)
		}
		if record {
			done.Steps = append(done.Steps, trace.StepDone{Step: r.words[n], Values: values})
		}
	}
	if len(values) == 1 && values[0] == "" {
		values = nil // an empty text is no value
	}
	done.Output = values
	if len(values) == 0 && r.Required {
		return explain.New(explain.MapRequiredMissing, explain.Pair("value", r.Set+" from "+r.takes(), strings.Join(in.Names(), ", ")))
	}
	return nil
}

func (r *compiledRule) takes() string {
	if r.Expr != "" {
		return r.Expr
	}
	return r.all
}

// bounded refuses values beyond the limits and names where they come from. The value itself is told by its beginning.
func bounded(values []string, from string) error {
	if len(values) > maxValues {
		return fmt.Errorf("%s gives %d values; %d are the most", from, len(values), maxValues)
	}
	for i, v := range values {
		if len(v) > maxValue {
			return fmt.Errorf(
				"%s gives a value of %d bytes, which begins %q; %d are the most (value %d of %d)", from, len(v), v[:24],
				maxValue, i+1, len(values),
			)
		}
	}
	return nil
}

func (r *compiledRule) source(in, set Bag) (string, []string) {
	if r.Value != "" {
		return "", r.fixed
	}
	for _, name := range r.From {
		if v := set[name]; len(v) > 0 {
			return name, v
		}
		if v := in[name]; len(v) > 0 {
			return name, v
		}
	}
	return r.all, nil
}

// Profile turns outputs into a bag.
func Profile(out []Output) Bag {
	b := make(Bag, len(out))
	for _, o := range out {
		b[o.Rule.Set] = o.Values
	}
	return b
}

// Sources are the names that rules take values from and that begin so, each once.
func (c *Compiled) Sources(beginning string) []string {
	var out []string
	for i := range c.rules {
		for _, n := range c.rules[i].From {
			if strings.HasPrefix(n, beginning) && !slices.Contains(out, n) {
				out = append(out, n)
			}
		}
	}
	return out
}

// Reads says whether a rule may take its value from one of the names.
func (c *Compiled) Reads(names ...string) bool {
	for i := range c.rules {
		r := &c.rules[i]
		for _, n := range names {
			if slices.Contains(r.From, n) || r.expr != nil && (slices.Contains(r.expr.names, n) || strings.Contains(r.Expr, n)) {
				return true
			}
		}
	}
	return false
}
