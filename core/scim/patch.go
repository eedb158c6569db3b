package scim

import (
	"maps"
	"net/http"
	"slices"
	"strings"
)

const (
	// maxOperations is the most operations of one PATCH.
	maxOperations = 2000
	// maxUnusual is the most octets of its paths that are none of the usual forms: each of them costs some 15 µs.
	maxUnusual = 16 << 10
)

// Operation is one operation of a PATCH (RFC 7644, section 3.5.2).
type Operation struct {
	Op    string // add, replace or remove
	Path  *Path  // nil where the value names the attributes
	Value any
}

// The operations.
const (
	Add     = "add"
	Replace = "replace"
	Delete  = "remove"
)

// Patch reads a request to change a resource of the type, with remarks on habits that were taken.
func (k *Kind) Patch(in Resource) ([]Operation, []Remark, *Error) {
	t := &taking{}
	list, ok := Field(in, "Operations").([]any)
	if !ok || len(list) == 0 {
		return nil, nil, bad(InvalidSyntax, "A PATCH has operations (RFC 7644, section 3.5.2); none came.")
	}
	if len(list) > maxOperations {
		return nil, nil, &Error{Status: http.StatusRequestEntityTooLarge, Type: TooMany,
			Detail: "A PATCH has at most 2,000 operations; send the rest in another one."}
	}
	if schemas, _ := Field(in, "schemas").([]any); !slices.ContainsFunc(schemas, func(v any) bool {
		s, _ := v.(string)
		return strings.EqualFold(s, PatchMessage)
	}) {
		t.remark("schemas", "The PATCH did not name its schema.")
	}
	var out []Operation
	for _, one := range list {
		o, ok := one.(map[string]any)
		if !ok {
			return nil, nil, bad(InvalidSyntax, "An operation is no object.")
		}
		read, err := k.operations(o, t)
		if err != nil {
			return nil, nil, err
		}
		out = append(out, read...)
	}
	return out, t.remarks, nil
}

// operations reads one operation; one without a path becomes one for each attribute that its value names.
func (k *Kind) operations(o map[string]any, t *taking) ([]Operation, *Error) {
	op, _ := Field(o, "op").(string)
	if lower := strings.ToLower(op); lower != op {
		t.remark("op", "The operation "+lower+" came as "+op+".")
		op = lower
	}
	if op != Add && op != Replace && op != Delete {
		return nil, bad(InvalidSyntax, "%q is no operation; add, replace and remove are.", op)
	}
	text, _ := Field(o, "path").(string)
	value := Field(o, "value")
	if text != "" {
		return k.at(op, text, value, t)
	}
	if op == Delete {
		return nil, bad(NoTarget, "To remove something, a path has to say what.")
	}
	named, ok := value.(map[string]any)
	if !ok {
		return nil, bad(InvalidValue, "An operation without a path has an object as its value.")
	}
	var out []Operation
	for _, name := range slices.Sorted(maps.Keys(named)) {
		if strings.EqualFold(name, "schemas") {
			continue
		}
		if k.unknown(name) {
			t.remark("unknown", name+" is no attribute that is known here; it was left out.")
			continue
		}
		if strings.ContainsAny(name, ".[") && k.extension(name) == nil {
			t.remark("no-path", "The PATCH had no path, and paths in its value, such as "+name+".")
		}
		more, err := k.at(op, name, named[name], t)
		if err != nil {
			return nil, err
		}
		out = append(out, more...)
	}
	return out, nil
}

// unknown says whether a name is well-formed, and of no attribute here.
func (k *Kind) unknown(name string) bool {
	_, err := k.Path(name)
	return err != nil && strings.HasPrefix(err.Detail, "There is no attribute") || err != nil && strings.Contains(err.Detail, "has no part")
}

// at reads an operation at a path.
func (k *Kind) at(op, text string, value any, t *taking) ([]Operation, *Error) {
	if _, simple := usualPath(text); !simple {
		if t.unusual += len(text); t.unusual > maxUnusual {
			return nil, &Error{Status: http.StatusRequestEntityTooLarge, Type: TooMany,
				Detail: "The paths of this PATCH are more than is read at once; send the rest in another one."}
		}
	}
	p, err := k.Path(text)
	if err != nil {
		return nil, err
	}
	if p.Name == "" { // a whole schema
		named, ok := value.(map[string]any)
		if op == Delete {
			return []Operation{{Op: op, Path: p}}, nil
		}
		if !ok {
			return nil, bad(InvalidValue, "%s is no object.", text)
		}
		var out []Operation
		for _, name := range slices.Sorted(maps.Keys(named)) {
			more, err := k.at(op, p.Schema+":"+name, named[name], t)
			if err != nil {
				return nil, err
			}
			out = append(out, more...)
		}
		return out, nil
	}
	if canonical := p.String(); strings.EqualFold(canonical, text) {
		t.named(text, canonical)
	}
	if p.At.Mutability == "readOnly" || p.Part != nil && p.Part.Mutability == "readOnly" {
		return nil, bad(Mutability, "%s is set by the service provider alone.", p)
	}
	if op == Delete {
		return removal(p, value, t)
	}
	typed, err := t.value(value, p.valueAt(), p.String())
	if err != nil {
		return nil, err
	}
	if typed == nil && op == Add {
		return nil, nil
	}
	return []Operation{{Op: op, Path: p, Value: typed}}, nil
}

// valueAt is the attribute as values at the path are: one of a list, where the path chooses or leads to a part.
func (p *Path) valueAt() *Attribute {
	leaf := *p.Leaf()
	if p.Filter != nil || p.Part != nil {
		leaf.MultiValued = false
	}
	return &leaf
}

// removal reads a removal. Some name in its value which of several values are to go, where the standard has a filter in the path.
func removal(p *Path, value any, t *taking) ([]Operation, *Error) {
	list, _ := value.([]any)
	if o, ok := value.(map[string]any); ok {
		list = []any{o}
	}
	if len(list) == 0 || p.Filter != nil || p.Sub != "" || !p.At.MultiValued {
		return []Operation{{Op: Delete, Path: p}}, nil
	}
	t.remark("remove-value", "A removal from "+p.Name+" named the values to remove in place of a filter.")
	typed, err := t.value(value, p.At, p.Name)
	return []Operation{{Op: Delete, Path: p, Value: typed}}, err
}

// Apply makes the changes to a resource, all or none, and says whether it is another one now.
func (k *Kind) Apply(r Resource, list []Operation) (Resource, []Remark, *Error) {
	out, t := r.Clone(), &taking{}
	for _, o := range list {
		if err := o.apply(out, t); err != nil {
			return nil, nil, err
		}
	}
	for name, v := range out {
		if inner, ok := v.(map[string]any); ok && len(inner) == 0 {
			delete(out, name)
		}
	}
	if k.Core.required(out) != "" {
		return nil, nil, bad(InvalidValue, "%s is needed, and would be gone.", k.Core.required(out))
	}
	return out, t.remarks, nil
}

// required names an attribute that a resource must have and has not.
func (s *Schema) required(r Resource) string {
	for _, a := range s.Attributes {
		if a.Required && r[a.Name] == nil {
			return a.Name
		}
	}
	return ""
}

// Missing names an attribute that a new resource must have and has not; empty where nothing is missing.
func (k *Kind) Missing(r Resource) string { return k.Core.required(r) }

func (o Operation) apply(r Resource, t *taking) *Error {
	p := o.Path
	switch {
	case o.Op == Delete && o.Value != nil:
		removeValues(r, p, o.Value.([]any))
	case o.Op == Delete:
		if !p.Remove(r) && p.Filter != nil {
			t.remark("nothing-there", "What a removal named, "+p.String()+", was not there.")
		}
	case o.Value == nil:
		p.Remove(r)
	case p.At.MultiValued && p.Filter == nil && p.Sub == "":
		if o.Op == Replace {
			p.Remove(r)
		}
		addValues(r, p, o.Value.([]any))
	case !p.At.MultiValued && p.Sub == "" && p.At.Type == TypeComplex:
		// The parts that are not named stay (RFC 7644, sections 3.5.2.1 and 3.5.2.3).
		for name, v := range o.Value.(map[string]any) {
			(&Path{Schema: p.Schema, Name: p.Name, Sub: name, At: p.At, Part: p.At.Sub(name)}).Set(r, v)
		}
	default:
		if p.Set(r, o.Value) {
			t.remark("made", "No value fitted "+p.String()+"; one was made.")
		}
	}
	return nil
}

// keyOf tells the values of a list from each other.
func keyOf(v any) string {
	o, ok := v.(map[string]any)
	if !ok {
		return Shown(v)
	}
	if value, ok := o["value"].(string); ok {
		kind, _ := o["type"].(string)
		return strings.ToLower(value) + "\x1f" + strings.ToLower(kind)
	}
	return Shown(v)
}

// addValues adds values to a list, except those that stand there already. A new preferred one takes the place of the one before
// (RFC 7644, section 3.5.2).
func addValues(r Resource, p *Path, values []any) {
	o := home(r, p, true)
	list, _ := o[p.Name].([]any)
	at := make(map[string]int, len(list))
	for i, v := range list {
		at[keyOf(v)] = i
	}
	for _, v := range values {
		if inner, ok := v.(map[string]any); ok && inner["primary"] == true {
			for _, other := range list {
				if held, ok := other.(map[string]any); ok && held["primary"] == true {
					held["primary"] = false
				}
			}
		}
		key := keyOf(v)
		if i, there := at[key]; there {
			list[i] = cloned(v)
			continue
		}
		at[key] = len(list)
		list = append(list, cloned(v))
	}
	o[p.Name] = list
}

// removeValues takes values out of a list, by what they say.
func removeValues(r Resource, p *Path, values []any) {
	o := home(r, p, false)
	if o == nil {
		return
	}
	gone := map[string]bool{}
	for _, v := range values {
		gone[valueOf(v)] = true
	}
	list, _ := o[p.Name].([]any)
	list = slices.DeleteFunc(slices.Clone(list), func(v any) bool { return gone[valueOf(v)] })
	if o[p.Name] = list; len(list) == 0 {
		delete(o, p.Name)
	}
}

func valueOf(v any) string {
	if o, ok := v.(map[string]any); ok {
		return strings.ToLower(Shown(o["value"]))
	}
	return strings.ToLower(Shown(v))
}
