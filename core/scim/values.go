package scim

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"
)

// home is the object that holds the attribute of a path: the resource, or what a schema adds to it.
func home(r Resource, p *Path, make bool) map[string]any {
	if p.Schema == "" {
		return r
	}
	inner, ok := r[p.Schema].(map[string]any)
	if !ok && make {
		inner = map[string]any{}
		r[p.Schema] = inner
	}
	return inner
}

// Values are the values that a path leads to, one by one.
func (p *Path) Values(r Resource) []any {
	o := home(r, p, false)
	if o == nil {
		return nil
	}
	if p.Name == "" {
		return []any{o}
	}
	v, ok := o[p.Name]
	if !ok || v == nil {
		return nil
	}
	list, ok := v.([]any)
	if !ok {
		list = []any{v}
	}
	var out []any
	for _, one := range list {
		if p.Filter != nil && !p.Filter.fitsValue(one) {
			continue
		}
		if p.Sub == "" {
			out = append(out, one)
			continue
		}
		if inner, ok := one.(map[string]any); ok && inner[p.Sub] != nil {
			out = append(out, inner[p.Sub])
		}
	}
	return out
}

// Set puts a value at a path: one of the attribute's type, or nil, which takes away what is there. Where the path chooses among
// several values and none fits, one is made that does; it says whether one was.
func (p *Path) Set(r Resource, value any) (made bool) {
	if value == nil {
		p.Remove(r)
		return false
	}
	o := home(r, p, true)
	if p.Filter == nil && p.Sub == "" {
		o[p.Name] = value
		return false
	}
	if !p.At.MultiValued {
		inner, ok := o[p.Name].(map[string]any)
		if !ok {
			inner = map[string]any{}
			o[p.Name] = inner
		}
		inner[p.Sub] = value
		return false
	}
	list, _ := o[p.Name].([]any)
	found := false
	for i, one := range list {
		if p.Filter != nil && !p.Filter.fitsValue(one) {
			continue
		}
		found = true
		if p.Sub == "" {
			list[i] = cloned(value)
		} else if inner, ok := one.(map[string]any); ok {
			inner[p.Sub] = value
		}
	}
	if found {
		return false
	}
	fresh := p.Filter.example()
	if p.Sub != "" {
		fresh[p.Sub] = value
	} else if given, ok := value.(map[string]any); ok {
		for n, v := range given {
			fresh[n] = v
		}
	}
	o[p.Name] = append(list, fresh)
	return true
}

// example is a value that fits a filter as far as it asks for equal ones.
func (f *Filter) example() map[string]any {
	out := map[string]any{}
	if f == nil {
		return out
	}
	switch f.Op {
	case And:
		for _, part := range f.Parts {
			for n, v := range part.example() {
				out[n] = v
			}
		}
	case Equal:
		out[f.Path.Sub] = f.Value
	}
	return out
}

// Remove takes away what is at a path, and says whether anything was there.
func (p *Path) Remove(r Resource) bool {
	o := home(r, p, false)
	if o == nil {
		return false
	}
	if p.Name == "" {
		delete(r, p.Schema)
		return true
	}
	v, ok := o[p.Name]
	if !ok {
		return false
	}
	if p.Filter == nil && p.Sub == "" {
		delete(o, p.Name)
		return true
	}
	gone := false
	if inner, ok := v.(map[string]any); ok {
		_, gone = inner[p.Sub]
		if delete(inner, p.Sub); len(inner) == 0 {
			delete(o, p.Name)
		}
		return gone
	}
	list, _ := v.([]any)
	kept := slices.DeleteFunc(slices.Clone(list), func(one any) bool {
		if p.Filter != nil && !p.Filter.fitsValue(one) {
			return false
		}
		inner, isObject := one.(map[string]any)
		if p.Sub == "" || !isObject {
			gone = true
			return true
		}
		if _, has := inner[p.Sub]; !has {
			return false
		}
		gone = true
		delete(inner, p.Sub)
		// What is left of it tells nothing, such as the type of a mail address that is gone.
		return p.Sub == "value"
	})
	if o[p.Name] = kept; len(kept) == 0 {
		delete(o, p.Name)
	}
	return gone
}

// Typed brings texts, such as a mapping gives, into the type of an attribute; nil stands for none.
func Typed(a *Attribute, texts []string) (any, error) {
	if len(texts) == 0 {
		return nil, nil
	}
	if a.MultiValued {
		var out []any
		for _, t := range texts {
			one := *a
			one.MultiValued = false
			v, err := Typed(&one, []string{t})
			if err != nil {
				return nil, err
			}
			out = append(out, v)
		}
		return out, nil
	}
	if len(texts) > 1 {
		return nil, fmt.Errorf("%s has one value, and the rule gives %d", a.Name, len(texts))
	}
	text := texts[0]
	switch a.Type {
	case TypeBoolean:
		b, ok := boolean(text)
		if !ok {
			return nil, fmt.Errorf("%s is true or false, and the rule gives %q", a.Name, text)
		}
		return b, nil
	case TypeInteger, TypeDecimal:
		n, err := strconv.ParseFloat(text, 64)
		if err != nil || a.Type == TypeInteger && n != float64(int64(n)) {
			return nil, fmt.Errorf("%s is a number, and the rule gives %q", a.Name, text)
		}
		return n, nil
	case TypeDateTime:
		if _, err := time.Parse(time.RFC3339, text); err != nil {
			return nil, fmt.Errorf("%s is a time such as 2026-11-30T08:00:00Z, and the rule gives %q", a.Name, text)
		}
	case TypeComplex:
		if a.Sub("value") == nil {
			return nil, fmt.Errorf("%s has parts; set one of them", a.Name)
		}
		return map[string]any{"value": text}, nil
	}
	return text, nil
}

// same says whether two values are the same one for an attribute. What identifies, and mail addresses, may come back in another case.
func same(a *Attribute, x, y any) bool {
	if s, ok := x.(string); ok {
		t, is := y.(string)
		if !is {
			return false
		}
		if a.Type == TypeDateTime {
			at, err := time.Parse(time.RFC3339, s)
			also, err2 := time.Parse(time.RFC3339, t)
			if err == nil && err2 == nil {
				return at.Equal(also)
			}
		}
		return s == t || !a.CaseExact && (a.Uniqueness != "none" || strings.Contains(s, "@")) && strings.EqualFold(s, t)
	}
	return reflect.DeepEqual(x, y)
}

// Shown is a value for people, in one line.
func Shown(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	}
	text, _ := json.Marshal(v) // it came from JSON
	return string(text)
}
