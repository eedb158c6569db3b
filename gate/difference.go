package gate

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"innergate/api"
)

// bodyChanges compares two bodies of one object, as JSON, value by value. Elements of lists are told by their short name, rule or place.
func bodyChanges(before, after string) []api.Change {
	was, is := map[string]string{}, map[string]string{}
	for _, side := range []struct {
		text string
		into map[string]string
	}{{before, was}, {after, is}} {
		var v any
		if json.Unmarshal([]byte(side.text), &v) == nil {
			lay("", v, side.into)
		}
	}
	out := []api.Change{}
	names := maps.Clone(was)
	maps.Copy(names, is)
	for _, field := range slices.Sorted(maps.Keys(names)) {
		if was[field] != is[field] {
			out = append(out, api.Change{Field: field, Before: was[field], After: is[field]})
		}
	}
	return out
}

// lay puts a value's leaves into a map, by path.
func lay(path string, v any, into map[string]string) {
	switch v := v.(type) {
	case map[string]any:
		for name, one := range v {
			lay(strings.TrimPrefix(path+"."+name, "."), one, into)
		}
	case []any:
		plain := true
		var words []string
		for _, one := range v {
			switch one.(type) {
			case map[string]any, []any:
				plain = false
			}
			words = append(words, fmt.Sprint(one))
		}
		if plain {
			into[path] = strings.Join(words, ", ")
			return
		}
		for i, one := range v {
			lay(fmt.Sprintf("%s[%d]", path, i+1), one, into)
		}
	case nil:
	default:
		into[path] = fmt.Sprint(v)
	}
}
