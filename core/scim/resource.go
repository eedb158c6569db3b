package scim

import (
	"bytes"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
)

// The limits on what is read.
const (
	// MaxMessage is the most octets of a request or an answer.
	MaxMessage = 4 << 20
	maxLevels  = 12
	maxNames   = 400 // of one object
	maxList    = 100_000
)

// Resource is a resource as it travels: texts, numbers, booleans, lists and objects under the names of attributes.
type Resource map[string]any

// Read reads a JSON object within the limits. Each name stands once, in whatever case.
func Read(data []byte) (Resource, *Error) {
	if len(data) > MaxMessage {
		return nil, &Error{Status: http.StatusRequestEntityTooLarge,
			Detail: fmt.Sprintf("The message has %d octets; %d are the most.", len(data), MaxMessage)}
	}
	// Names are held against each other here, in whatever case, and texts that are no UTF-8 are mended as by the standard library.
	dec := jsontext.NewDecoder(bytes.NewBuffer(data), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
	v, err := readValue(dec, 0)
	if err == nil {
		if _, more := dec.ReadToken(); more != io.EOF {
			err = fmt.Errorf("there is more behind it")
		}
	}
	if err != nil {
		return nil, bad(InvalidSyntax, "The message is no JSON that is taken here: %s.", err)
	}
	out, ok := v.(map[string]any)
	if !ok {
		return nil, bad(InvalidSyntax, "The message is no JSON object.")
	}
	return out, nil
}

func readValue(dec *jsontext.Decoder, level int) (any, error) {
	t, err := dec.ReadToken()
	if err != nil {
		return nil, err
	}
	switch t.Kind() {
	case 'n':
		return nil, nil
	case 't', 'f':
		return t.Bool(), nil
	case '"':
		return t.String(), nil
	case '0':
		return strconv.ParseFloat(t.String(), 64)
	}
	if level == maxLevels {
		return nil, fmt.Errorf("it is nested more than %d deep", maxLevels)
	}
	if t.Kind() == '{' {
		return readObject(dec, level)
	}
	list := []any{}
	for dec.PeekKind() != ']' {
		if len(list) == maxList {
			return nil, fmt.Errorf("a list has more than %d values", maxList)
		}
		v, err := readValue(dec, level+1)
		if err != nil {
			return nil, err
		}
		list = append(list, v)
	}
	_, err = dec.ReadToken()
	return list, err
}

func readObject(dec *jsontext.Decoder, level int) (any, error) {
	out, seen := map[string]any{}, map[string]bool{}
	for dec.PeekKind() != '}' {
		t, err := dec.ReadToken()
		if err != nil {
			return nil, err
		}
		name := t.String()
		folded := strings.ToLower(name)
		switch {
		case seen[folded]:
			return nil, fmt.Errorf("%q stands twice", name)
		case len(out) == maxNames:
			return nil, fmt.Errorf("an object has more than %d names", maxNames)
		}
		seen[folded] = true
		if out[name], err = readValue(dec, level+1); err != nil {
			return nil, err
		}
	}
	_, err := dec.ReadToken()
	return out, err
}

// Field is a value of an object by its name, in whatever case.
func Field(o map[string]any, name string) any {
	if v, ok := o[name]; ok {
		return v
	}
	for n, v := range o {
		if strings.EqualFold(n, name) {
			return v
		}
	}
	return nil
}

// Text is a text of a resource by the name of its attribute; empty for what is none.
func (r Resource) Text(name string) string {
	s, _ := r[name].(string)
	return s
}

// ID is the identifier that the service provider gave the resource.
func (r Resource) ID() string { return r.Text("id") }

// Version is the resource's version, as an entity tag.
func (r Resource) Version() string {
	meta, _ := r["meta"].(map[string]any)
	v, _ := Field(meta, "version").(string)
	return v
}

// Clone is a copy that shares nothing.
func (r Resource) Clone() Resource { return cloned(map[string]any(r)).(map[string]any) }

func cloned(v any) any {
	switch v := v.(type) {
	case map[string]any:
		out := make(map[string]any, len(v))
		for n, one := range v {
			out[n] = cloned(one)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, one := range v {
			out[i] = cloned(one)
		}
		return out
	}
	return v
}

// Remark is a habit of a sender that was taken without harm, though the standard has it another way.
type Remark struct {
	Code string // what it is, in a word
	Text string
}

// Take brings what somebody sent into the type's form: the names of attributes as the schemas write them, values of the types that
// they have. What the schemas don't know, and what only the service provider sets, is left out, with a remark.
func (k *Kind) Take(in Resource) (Resource, []Remark, *Error) {
	out, t := Resource{}, &taking{}
	for _, name := range slices.Sorted(maps.Keys(in)) {
		v := in[name]
		if strings.EqualFold(name, "schemas") {
			continue
		}
		if s := k.extension(name); s != nil {
			o, ok := v.(map[string]any)
			if !ok {
				if v == nil {
					continue
				}
				return nil, nil, bad(InvalidValue, "%s is no object.", name)
			}
			inner, err := t.object(o, s.Attributes, s.ID+":")
			if err != nil {
				return nil, nil, err
			}
			if len(inner) > 0 {
				out[s.ID] = inner
			}
			continue
		}
		a := k.attribute("", name)
		if a == nil {
			t.remark("unknown", name+" is no attribute that is known here; it was left out.")
			continue
		}
		t.named(name, a.Name)
		if a.Mutability == "readOnly" {
			continue // RFC 7644, section 3.5.1: it is ignored
		}
		value, err := t.value(v, a, a.Name)
		if err != nil {
			return nil, nil, err
		}
		if value != nil {
			out[a.Name] = value
		}
	}
	return out, t.remarks, nil
}

// taking collects the remarks on what is taken.
type taking struct {
	remarks []Remark
	unusual int // octets of paths that cost much to read
}

func (t *taking) remark(code, text string) {
	if len(t.remarks) < 50 && !slices.ContainsFunc(t.remarks, func(r Remark) bool { return r.Text == text }) {
		t.remarks = append(t.remarks, Remark{code, text})
	}
}

func (t *taking) named(given, right string) {
	if given != right {
		t.remark("case", "The attribute "+right+" came as "+given+".")
	}
}

func (t *taking) object(o map[string]any, list []Attribute, before string) (map[string]any, *Error) {
	out := map[string]any{}
	for _, name := range slices.Sorted(maps.Keys(o)) {
		a := find(list, name)
		if a == nil {
			t.remark("unknown", before+name+" is no attribute that is known here; it was left out.")
			continue
		}
		t.named(before+name, before+a.Name)
		v, err := t.value(o[name], a, before+a.Name)
		if err != nil {
			return nil, err
		}
		if v != nil {
			out[a.Name] = v
		}
	}
	return out, nil
}

// value takes a value of an attribute; nil stands for none (RFC 7643, section 2.5).
func (t *taking) value(v any, a *Attribute, name string) (any, *Error) {
	if v == nil {
		return nil, nil
	}
	list, isList := v.([]any)
	if !a.MultiValued {
		if isList && len(list) == 1 {
			t.remark("wrapped", name+" has one value, and came as a list.")
			if o, ok := list[0].(map[string]any); ok && a.Type != TypeComplex && len(o) == 1 {
				return t.single(Field(o, "value"), a, name)
			}
			return t.single(list[0], a, name)
		}
		return t.single(v, a, name)
	}
	if !isList {
		t.remark("single", name+" has several values, and came as one.")
		list = []any{v}
	}
	if most := mostValues(a); len(list) > most {
		return nil, bad(InvalidValue, "%s has %d values; %d are the most.", name, len(list), most)
	}
	var out []any
	for _, one := range list {
		taken, err := t.single(one, a, name)
		if err != nil {
			return nil, err
		}
		if taken != nil {
			out = append(out, taken)
		}
	}
	if len(out) == 0 {
		return nil, nil
	}
	return out, nil
}

// mostValues is how many values an attribute may have: a group may have many members, a person few mail addresses.
func mostValues(a *Attribute) int {
	if strings.EqualFold(a.Name, "members") {
		return maxList
	}
	return 1000
}

func (t *taking) single(v any, a *Attribute, name string) (any, *Error) {
	if v == nil {
		return nil, nil
	}
	if a.Type == TypeComplex {
		o, ok := v.(map[string]any)
		if !ok {
			if text, is := v.(string); is && a.Sub("value") != nil {
				t.remark("plain", name+" has parts, and came as a text; it was taken as its value.")
				if text == "" {
					return nil, nil
				}
				return map[string]any{"value": text}, nil
			}
			return nil, bad(InvalidValue, "%s has parts, and came as a plain value.", name)
		}
		inner, err := t.object(o, a.SubAttributes, name+".")
		if err != nil || len(inner) == 0 {
			return nil, err
		}
		return inner, nil
	}
	if o, ok := v.(map[string]any); ok && len(o) == 1 && Field(o, "value") != nil {
		t.remark("wrapped", name+" is a plain value, and came as an object.")
		v = Field(o, "value")
	}
	return t.plain(v, a, name)
}

func (t *taking) plain(v any, a *Attribute, name string) (any, *Error) {
	wrong := func() (any, *Error) { return nil, bad(InvalidValue, "%s is %s; what came is not.", name, a.Type) }
	switch v := v.(type) {
	case bool:
		if a.Type == TypeBoolean {
			return v, nil
		}
		return wrong()
	case float64:
		if a.Type == TypeDecimal || a.Type == TypeInteger && v == float64(int64(v)) {
			return v, nil
		}
		if a.Type == TypeString && v == float64(int64(v)) {
			t.remark("number", name+" is a text, and came as a number.")
			return fmt.Sprintf("%.0f", v), nil
		}
		return wrong()
	case string:
		switch a.Type {
		case TypeBoolean:
			b, ok := boolean(v)
			if !ok {
				return wrong()
			}
			t.remark("boolean", name+" came as the text "+v+".")
			return b, nil
		case TypeDecimal, TypeInteger:
			return wrong()
		}
		if v == "" {
			return nil, nil
		}
		if len(v) > 64<<10 {
			return nil, bad(InvalidValue, "%s has more than 65,536 octets.", name)
		}
		return v, nil
	}
	return wrong()
}

// boolean reads a truth value that came as a text.
func boolean(text string) (value, ok bool) {
	switch strings.ToLower(text) {
	case "true":
		return true, true
	case "false":
		return false, true
	}
	return false, false
}
