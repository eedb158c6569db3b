package claims

import (
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
)

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
		var out []string
		for i, v := range in {
			w := f(v)
			if out == nil && w != v {
				out = make([]string, len(in))
				copy(out, in[:i])
			}
			if out != nil {
				out[i] = w
			}
		}
		if out == nil {
			return in // nothing changed
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
			out := make([]string, 0, len(in))
			for _, v := range in {
				if re.MatchString(v) == keep {
					out = append(out, v)
				}
			}
			if len(out) == 0 {
				return nil
			}
			return out
		}, nil
	}
}

var makers = map[string]stepMaker{
	"lower":  bare(each(strings.ToLower)),
	"upper":  bare(each(strings.ToUpper)),
	"trim":   bare(each(strings.TrimSpace)),
	"unique": bare(unique),
	"sort":   bare(func(in []string) []string { return slices.Sorted(slices.Values(in)) }),
	"first":  bare(func(in []string) []string { return in[:min(1, len(in))] }),
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

// unique keeps the first of equal values. Short lists are compared through, long ones by a table.
func unique(in []string) []string {
	if len(in) < 2 {
		return in
	}
	out := make([]string, 0, len(in))
	if len(in) <= 16 {
		for _, v := range in {
			if !slices.Contains(out, v) {
				out = append(out, v)
			}
		}
		return out
	}
	seen := make(map[string]struct{}, len(in))
	for _, v := range in {
		if _, ok := seen[v]; !ok {
			seen[v] = struct{}{}
			out = append(out, v)
		}
	}
	return out
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

// translateStep replaces whole values by a table; the entry "*" is the default for others, which are kept as they are
// without it.
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
