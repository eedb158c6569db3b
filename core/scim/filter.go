package scim

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	filter "github.com/scim2/filter-parser/v2"
)

// The limits on filters. The library that reads them takes some 15 µs for each octet.
const (
	maxFilter = 2048
	maxDepth  = 10
)

// How a filter compares (RFC 7644, table 3), and how its parts are put together (tables 4 and 5).
const (
	Equal          = "eq"
	NotEqual       = "ne"
	Contains       = "co"
	StartsWith     = "sw"
	EndsWith       = "ew"
	Present        = "pr"
	GreaterThan    = "gt"
	GreaterOrEqual = "ge"
	LessThan       = "lt"
	LessOrEqual    = "le"
	And            = "and"
	Or             = "or"
	Not            = "not"
	Has            = "[]" // some value of a list fits a filter of its own
)

// Filter is a filter that was read (RFC 7644, section 3.4.2.2).
type Filter struct {
	// Op compares the value at Path with Value, or puts Parts together.
	Op    string
	Parts []*Filter
	Path  *Path
	Value any // string, bool, float64 or nil
	// inside is set for a comparison of a value of a list, within brackets.
	inside bool
}

// Filter reads a filter over resources of the type.
func (k *Kind) Filter(text string) (*Filter, *Error) {
	if len(text) > maxFilter {
		return nil, bad(InvalidFilter, "The filter has %d octets; %d are the most.", len(text), maxFilter)
	}
	if err := nested(text); err != nil {
		return nil, bad(InvalidFilter, "The filter can't be read: %s.", err)
	}
	parsed, err := filter.ParseFilter([]byte(text))
	if err != nil {
		return nil, bad(InvalidFilter, "%q is no filter: %s.", text, err)
	}
	return k.filter(parsed, nil)
}

// nested refuses what is nested too deeply before it is read.
func nested(text string) error {
	depth, quoted := 0, false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '(' || c == '[':
			if depth++; depth > maxDepth {
				return fmt.Errorf("it is nested more than %d deep", maxDepth)
			}
		case c == ')' || c == ']':
			depth--
		}
	}
	return nil
}

// within reads a filter over the values of a list.
func (k *Kind) within(list *Path, e filter.Expression) (*Filter, *Error) { return k.filter(e, list) }

// filter takes over what the library read; list is the attribute whose values it chooses from, if any.
func (k *Kind) filter(e filter.Expression, list *Path) (*Filter, *Error) {
	switch e := e.(type) {
	case *filter.LogicalExpression:
		left, err := k.filter(e.Left, list)
		if err != nil {
			return nil, err
		}
		right, err := k.filter(e.Right, list)
		return &Filter{Op: strings.ToLower(string(e.Operator)), Parts: []*Filter{left, right}}, err
	case *filter.NotExpression:
		inner, err := k.filter(e.Expression, list)
		return &Filter{Op: Not, Parts: []*Filter{inner}}, err
	case *filter.ValuePath:
		if list != nil {
			return nil, bad(InvalidFilter, "A filter in brackets can't hold another one.")
		}
		p, err := k.path(e.AttributePath)
		if err != nil {
			return nil, asFilter(err)
		}
		if !p.At.MultiValued || p.Part != nil {
			return nil, bad(InvalidFilter, "%s has one value; it can't be chosen from by a filter.", p)
		}
		inner, err := k.within(p, e.ValueFilter)
		return &Filter{Op: Has, Path: p, Parts: []*Filter{inner}}, err
	case *filter.AttributeExpression:
		return k.comparison(e, list)
	}
	return nil, bad(InvalidFilter, "The filter can't be read.")
}

func asFilter(err *Error) *Error {
	if err != nil && err.Type == InvalidPath {
		err.Type = InvalidFilter
	}
	return err
}

// comparison is one comparison, of a value of the resource or of a value of a list.
func (k *Kind) comparison(e *filter.AttributeExpression, list *Path) (*Filter, *Error) {
	f := &Filter{Op: strings.ToLower(string(e.Operator))}
	if list == nil {
		p, err := k.path(e.AttributePath)
		if err != nil {
			return nil, asFilter(err)
		}
		f.Path = p
	} else {
		part := list.At.Sub(e.AttributePath.AttributeName)
		if part == nil && strings.EqualFold(e.AttributePath.AttributeName, "value") && list.At.Type != TypeComplex {
			part = list.At // values that have no parts
		}
		if part == nil || e.AttributePath.SubAttribute != nil {
			return nil, bad(InvalidFilter, "%s has no part %s.", list.At.Name, e.AttributePath)
		}
		f.Path, f.inside = &Path{Schema: list.Schema, Name: list.Name, Sub: part.Name, At: list.At, Part: part}, true
	}
	var err error
	if f.Value, err = decoded(e.CompareValue); err != nil {
		return nil, bad(InvalidFilter, "A value of the filter can't be read: %s.", err)
	}
	return f, f.fits()
}

// decoded is the value of a comparison. The library leaves escapes in texts as they are.
func decoded(v any) (any, error) {
	switch v := v.(type) {
	case string:
		var out string
		if err := json.Unmarshal([]byte(`"`+v+`"`), &out); err != nil {
			return nil, errors.New("it has an escape that JSON does not know")
		}
		return out, nil
	case int:
		return float64(v), nil
	}
	return v, nil
}

// fits refuses comparisons that have no meaning for the attribute's type (RFC 7644, section 3.4.2.2).
func (f *Filter) fits() *Error {
	at := f.Path.Leaf()
	if at.Type == TypeComplex && f.Op != Present {
		if at = at.Sub("value"); at == nil {
			return bad(InvalidFilter, "%s has parts; compare one of them.", f.Path)
		}
		f.Path = &Path{Schema: f.Path.Schema, Name: f.Path.Name, Sub: at.Name, At: f.Path.At, Part: at}
	}
	ordered := f.Op == GreaterThan || f.Op == GreaterOrEqual || f.Op == LessThan || f.Op == LessOrEqual
	if ordered && (at.Type == TypeBoolean || at.Type == TypeBinary) {
		return bad(InvalidFilter, "%s is %s; what is greater can't be asked.", f.Path, at.Type)
	}
	if f.Op == Present || f.Value == nil {
		return nil
	}
	given := ""
	switch f.Value.(type) {
	case string:
		given = TypeString
	case bool:
		given = TypeBoolean
	case float64:
		given = TypeDecimal
	}
	wanted := at.Type
	switch wanted {
	case TypeDateTime, TypeReference, TypeBinary:
		wanted = TypeString
	case TypeInteger:
		wanted = TypeDecimal
	}
	if wanted == TypeBoolean && given == TypeString { // a habit of some senders
		if b, ok := boolean(f.Value.(string)); ok {
			f.Value, given = b, TypeBoolean
		}
	}
	if given != wanted {
		return bad(InvalidFilter, "%s is %s, and is compared with a value of another type.", f.Path, at.Type)
	}
	return nil
}

// String writes the filter in its canonical form.
func (f *Filter) String() string {
	switch f.Op {
	case And, Or:
		return f.Parts[0].grouped(f.Op) + " " + f.Op + " " + f.Parts[1].grouped(f.Op)
	case Not:
		return "not (" + f.Parts[0].String() + ")"
	case Has:
		return f.Path.String() + "[" + f.Parts[0].String() + "]"
	}
	name := f.Path.String()
	if f.inside {
		name = f.Path.Sub // the list is named before the brackets
	}
	if f.Op == Present {
		return name + " pr"
	}
	value, _ := json.Marshal(f.Value) // a text, number or boolean
	return name + " " + f.Op + " " + string(value)
}

func (f *Filter) grouped(under string) string {
	if f.Op == Or && under == And {
		return "(" + f.String() + ")"
	}
	return f.String()
}
