package ground

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"innergate/api"
	"innergate/core/difference"
)

// Changes compares two layouts: what is gone, what is new, and what has another value where a field stands once on both
// sides.
func Changes(before, after []difference.Line) []api.Change {
	out := []api.Change{}
	once := func(list []difference.Line, field string) (string, bool) {
		value, n := "", 0
		for _, l := range list {
			if l.Field == field {
				value, n = l.Value, n+1
			}
		}
		return value, n == 1
	}
	for _, l := range before {
		if slices.Contains(after, l) {
			continue
		}
		if now, ok := once(after, l.Field); ok {
			if _, was := once(before, l.Field); was {
				out = append(out, api.Change{Field: l.Field, Before: l.Value, After: now})
				continue
			}
		}
		out = append(out, api.Change{Field: l.Field, Before: l.Value})
	}
	for _, l := range after {
		if slices.Contains(before, l) {
			continue
		}
		_, was := once(before, l.Field)
		_, is := once(after, l.Field)
		if !was || !is {
			out = append(out, api.Change{Field: l.Field, After: l.Value})
		}
	}
	return out
}

// InWords is a change as a sentence.
func InWords(c api.Change) string {
	switch {
	case c.Before == "":
		return fmt.Sprintf("%s added: %s", c.Field, c.After)
	case c.After == "":
		return fmt.Sprintf("%s removed: %s", c.Field, c.Before)
	}
	return fmt.Sprintf("%s changed from %s to %s", c.Field, c.Before, c.After)
}

// BodyChanges compares two bodies of one object, as JSON, value by value. Elements of lists are told by their short
// name, rule or place.
func BodyChanges(before, after string) []api.Change {
	was, is := map[string]string{}, map[string]string{}
	for _, side := range []struct {
		text string
		into map[string]string
	}{{before, was}, {after, is}} {
		var v any
		if json.Unmarshal([]byte(side.text), &v) == nil {
			difference.Leaves("", v, side.into)
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
