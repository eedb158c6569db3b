package claims

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// How sure a suggestion is.
const (
	Certain = "certain" // a standard name, letter by letter
	Likely  = "likely"  // a standard name but for its spelling
	Guess   = "guess"   // by what the values look like
)

// Suggestion is a rule that could be added. It is never applied unasked.
type Suggestion struct {
	Rule Rule   `json:"rule"`
	Sure string `json:"sure"`
	Why  string `json:"why"`
	// Now is the number of the rule that sets the same already, from 1, or 0.
	Now int `json:"now,omitempty"`
	// Values are what the rule makes of the sample.
	Values []string `json:"values,omitempty"`
}

// Suggestions are proposed rules, and the names of the sample that nothing takes.
type Suggestions struct {
	Items []Suggestion `json:"items"`
	Left  []string     `json:"left"`
}

var (
	mailForm = regexp.MustCompile(`^[^@\s]+@[^@\s]+\.[^@\s]+$`)
	dnForm   = regexp.MustCompile(`(?i)^cn=([^,]+),.+=`)
)

// SuggestInbound proposes rules that make a profile of a sample of what a provider sends. Held is the mapping that is
// there already: what its rules take, is not proposed again.
func SuggestInbound(sample Bag, held Mapping) Suggestions {
	out := Suggestions{Items: []Suggestion{}, Left: []string{}}
	used := map[string]bool{}
	propose := func(r Rule, sure, why string) {
		s := Suggestion{Rule: r, Sure: sure, Why: why, Now: setBy(held, r.Set)}
		s.Values = r.of(sample)
		used[r.From[0]] = true
		if s.Now > 0 && slices.Contains(held[s.Now-1].From, r.From[0]) {
			return // it is so already
		}
		out.Items = append(out.Items, s)
	}
	taken := map[string]bool{}
	for i := range attributes {
		a := &attributes[i]
		name, sure := best(a, sample)
		if name == "" {
			continue
		}
		why := fmt.Sprintf("%s is a standard name for the %s", name, a.Words)
		if sure == Likely {
			why = fmt.Sprintf("%s reads like the %s", name, a.Words)
		}
		taken[a.Claim] = true
		propose(Rule{Set: a.Claim, From: Names{name}, Steps: usualSteps(a, sample[name])}, sure, why)
	}
	for _, name := range sample.Names() {
		if used[name] {
			continue
		}
		values := sample[name]
		a, _ := Known(name)
		switch {
		case a != nil: // another name of something that is taken already
		case !taken["email"] && mailForm.MatchString(values[0]):
			taken["email"] = true
			propose(
				Rule{Set: "email", From: Names{name}, Steps: usualSteps(byName["email"], values)},
				Guess,
				"its value looks like a mail address",
			)
		case !taken["groups"] && (len(values) > 1 || dnForm.MatchString(values[0])):
			taken["groups"] = true
			propose(
				Rule{Set: "groups", From: Names{name}, Steps: usualSteps(byName["groups"], values)},
				Guess,
				"it has several values, as groups have",
			)
		}
		if !used[name] && !takenBy(held, name) {
			out.Left = append(out.Left, name)
		}
	}
	return out
}

// best finds the name in the sample that stands for an attribute: the most standard of the exact ones, else one that
// reads like it.
func best(a *Attribute, sample Bag) (name, sure string) {
	for _, n := range a.Names() {
		if len(sample[n]) > 0 && byName[n] == a {
			return n, Certain
		}
	}
	for _, n := range sample.Names() {
		if found, exactly := Known(n); found == a && !exactly {
			return n, Likely
		}
	}
	return "", ""
}

// usualSteps are those that values of a kind usually need.
func usualSteps(a *Attribute, values []string) []Step {
	var out []Step
	if a.Claim == "email" {
		return []Step{{Word: "trim"}, {Word: "lower"}, {Word: "first"}}
	}
	if a.Many {
		if len(values) > 0 && !slices.ContainsFunc(values, func(v string) bool { return !dnForm.MatchString(v) }) {
			out = append(out, Step{Word: "replace", Arg: []any{`(?i)^cn=([^,]+),.*$`, "$1"}})
		}
		return append(out, Step{Word: "unique"})
	}
	if len(values) > 1 {
		out = append(out, Step{Word: "first"})
	}
	return out
}

// SuggestOutbound proposes a rule for each name that an application wants.
func SuggestOutbound(wanted []Rule, held Mapping) Suggestions {
	out := Suggestions{Items: []Suggestion{}, Left: []string{}}
	for _, w := range wanted {
		now := setBy(held, w.Set)
		a, exactly := Known(w.Set)
		if a == nil && w.FriendlyName != "" {
			a, exactly = Known(w.FriendlyName)
		}
		switch {
		case now > 0:
			continue
		case a == nil:
			out.Left = append(out.Left, w.Set)
			continue
		}
		s := Suggestion{Rule: w, Sure: Likely, Why: fmt.Sprintf("%s reads like the %s", w.Set, a.Words)}
		if exactly {
			s.Sure, s.Why = Certain, fmt.Sprintf("%s is a standard name for the %s", w.Set, a.Words)
		}
		s.Rule.From = Names{a.Claim}
		if a.OID != "" && w.Set == "urn:oid:"+a.OID && w.FriendlyName == "" {
			s.Rule.FriendlyName = a.Basic
		}
		if strings.Contains(w.Set, ":") && w.NameFormat == "" {
			s.Rule.NameFormat = "urn:oasis:names:tc:SAML:2.0:attrname-format:uri"
		}
		s.Values = s.Rule.of(samples)
		out.Items = append(out.Items, s)
	}
	return out
}

func setBy(m Mapping, name string) int {
	return slices.IndexFunc(m, func(r Rule) bool { return r.Set == name }) + 1
}

func takenBy(m Mapping, name string) bool {
	return slices.ContainsFunc(m, func(r Rule) bool { return slices.Contains(r.From, name) })
}

// of is what a rule alone makes of a sample.
func (r Rule) of(sample Bag) []string {
	c, err := Mapping{r}.Compile()
	if err != nil {
		return nil
	}
	out, err := c.Apply(sample, "in", nil)
	if err != nil || len(out) == 0 {
		return nil
	}
	return out[0].Values
}
