package files

import (
	"reflect"
	"slices"
	"strings"
	"sync"

	"innergate/core/alike"

	"go.yaml.in/yaml/v3"
)

var fieldCache sync.Map // reflect.Type → map[string]reflect.Type

// fieldsOf are the keys of a struct and their types, those of embedded structs included.
func fieldsOf(t reflect.Type) map[string]reflect.Type {
	if held, ok := fieldCache.Load(t); ok {
		return held.(map[string]reflect.Type)
	}
	out := map[string]reflect.Type{}
	for i := range t.NumField() {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		switch {
		case name == "-" || !f.IsExported():
		case f.Anonymous && name == "":
			inner := f.Type
			if inner.Kind() == reflect.Pointer {
				inner = inner.Elem()
			}
			for k, v := range fieldsOf(inner) {
				out[k] = v
			}
		case name == "":
			out[f.Name] = f.Type
		default:
			out[name] = f.Type
		}
	}
	fieldCache.Store(t, out)
	return out
}

// unknown says that a key is not known, and which one could be meant.
func (r *reader) unknown(key *yaml.Node, field string, t reflect.Type) {
	path := strings.TrimPrefix(field+"."+key.Value, ".")
	if near := alike.Nearest(key.Value, keysOf(t)); near != "" {
		r.problem(r.at(key), path, "the key %q is not known here; %q is", key.Value, near)
		return
	}
	// The right key in the wrong place: one level below, or at the side of the file.
	for name, below := range fieldsOf(t) {
		for below.Kind() == reflect.Pointer || below.Kind() == reflect.Slice {
			below = below.Elem()
		}
		if below.Kind() == reflect.Struct && fieldsOf(below)[key.Value] != nil {
			r.problem(r.at(key), path, "the key %q is not known here; it belongs below %q", key.Value, name)
			return
		}
	}
	r.problem(r.at(key), path, "the key %q is not known here; these are: %s", key.Value, strings.Join(keysOf(t), ", "))
}

func keysOf(t reflect.Type) []string {
	var out []string
	for name := range fieldsOf(t) {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}
