package files

import (
	"reflect"
	"slices"
	"strings"
	"sync"

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
	if near := Nearest(key.Value, keysOf(t)); near != "" {
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

// Nearest is the name among others that is most like a given one, or nothing where none is alike.
func Nearest(name string, among []string) string {
	best, least := "", len([]rune(name))/3+1
	for _, one := range among {
		d := distance([]rune(plain(name)), []rune(plain(one)))
		if d < least || d == least && best == "" && d <= 2 {
			best, least = one, d
		}
	}
	return best
}

// plain takes away what people mix up: case, dashes and underscores.
func plain(s string) string {
	return strings.NewReplacer("-", "", "_", "", " ", "").Replace(strings.ToLower(s))
}

// distance is how many letters must be changed, added, taken away, or swapped with the next to make one text the other.
func distance(a, b []rune) int {
	rows := [3][]int{}
	for i := range rows {
		rows[i] = make([]int, len(b)+1)
	}
	for j := range rows[1] {
		rows[1][j] = j
	}
	for i := 1; i <= len(a); i++ {
		now, before, last := rows[2], rows[1], rows[0]
		now[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			now[j] = min(before[j]+1, now[j-1]+1, before[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				now[j] = min(now[j], last[j-2]+1)
			}
		}
		rows[0], rows[1], rows[2] = before, now, last
	}
	return rows[1][len(b)]
}
