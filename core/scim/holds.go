package scim

import (
	"strings"
	"time"
)

// Holds says whether a resource fits the filter.
func (f *Filter) Holds(r Resource) bool {
	switch f.Op {
	case And:
		return f.Parts[0].Holds(r) && f.Parts[1].Holds(r)
	case Or:
		return f.Parts[0].Holds(r) || f.Parts[1].Holds(r)
	case Not:
		return !f.Parts[0].Holds(r)
	case Has:
		for _, v := range f.Path.Values(r) {
			if f.Parts[0].fitsValue(v) {
				return true
			}
		}
		return false
	}
	return f.compares(f.Path.Values(r))
}

// fitsValue says whether one value of a list fits a filter over its parts.
func (f *Filter) fitsValue(v any) bool {
	switch f.Op {
	case And:
		return f.Parts[0].fitsValue(v) && f.Parts[1].fitsValue(v)
	case Or:
		return f.Parts[0].fitsValue(v) || f.Parts[1].fitsValue(v)
	case Not:
		return !f.Parts[0].fitsValue(v)
	}
	o, ok := v.(map[string]any)
	if !ok {
		return f.compares([]any{v})
	}
	if part := o[f.Path.Sub]; part != nil {
		return f.compares([]any{part})
	}
	return f.compares(nil)
}

// compares holds values against the comparison: one that fits is enough. To be not equal, none may be.
func (f *Filter) compares(values []any) bool {
	if f.Op == Present {
		return len(values) > 0
	}
	if f.Value == nil { // null stands for no value
		return (f.Op == Equal) == (len(values) == 0)
	}
	for _, v := range values {
		if f.one(v) {
			return f.Op != NotEqual
		}
	}
	return f.Op == NotEqual
}

func (f *Filter) one(v any) bool {
	switch want := f.Value.(type) {
	case bool:
		have, ok := v.(bool)
		return ok && have == want
	case float64:
		have, ok := v.(float64)
		return ok && f.order(compare(have, want))
	case string:
		have, ok := v.(string)
		return ok && f.text(have, want)
	}
	return false
}

func (f *Filter) text(have, want string) bool {
	at := f.Path.Leaf()
	if at.Type == TypeDateTime {
		x, err := time.Parse(time.RFC3339, have)
		y, err2 := time.Parse(time.RFC3339, want)
		if err == nil && err2 == nil {
			return f.order(x.Compare(y))
		}
	}
	if !at.CaseExact {
		have, want = strings.ToLower(have), strings.ToLower(want)
	}
	switch f.Op {
	case Contains:
		return strings.Contains(have, want)
	case StartsWith:
		return strings.HasPrefix(have, want)
	case EndsWith:
		return strings.HasSuffix(have, want)
	}
	return f.order(strings.Compare(have, want))
}

func compare(x, y float64) int {
	switch {
	case x < y:
		return -1
	case x > y:
		return 1
	}
	return 0
}

// order says whether an order is what the comparison asks for; to be not equal is asked by its opposite.
func (f *Filter) order(c int) bool {
	switch f.Op {
	case Equal, NotEqual:
		return c == 0
	case GreaterThan:
		return c > 0
	case GreaterOrEqual:
		return c >= 0
	case LessThan:
		return c < 0
	case LessOrEqual:
		return c <= 0
	}
	return false
}
