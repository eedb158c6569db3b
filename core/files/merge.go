package files

import (
	"encoding/json"
	"maps"
	"reflect"
	"slices"
	"strings"
)

// Merge lays two changes of one body on each other: what only one side changed is taken from that side. It returns the
// fields that both changed to different values, and then no body. Lists are taken whole, since the order of their
// elements counts.
func Merge(base, theirs, mine string) (merged string, both []string) {
	var sides [3]map[string]any
	for i, text := range []string{base, theirs, mine} {
		if json.Unmarshal([]byte(text), &sides[i]) != nil {
			return "", []string{"everything"}
		}
	}
	out := mergeMaps("", sides[0], sides[1], sides[2], &both)
	if len(both) > 0 {
		slices.Sort(both)
		return "", both
	}
	text, err := json.Marshal(out)
	if err != nil {
		return "", []string{"everything"}
	}
	return string(text), nil
}

func mergeMaps(path string, base, theirs, mine map[string]any, both *[]string) map[string]any {
	out := map[string]any{}
	names := maps.Clone(base)
	if names == nil {
		names = map[string]any{}
	}
	maps.Copy(names, theirs)
	maps.Copy(names, mine)
	for name := range names {
		b, t, m := base[name], theirs[name], mine[name]
		_, inTheirs := theirs[name]
		_, inMine := mine[name]
		take, there := m, inMine
		switch {
		case reflect.DeepEqual(b, m):
			take, there = t, inTheirs
		case reflect.DeepEqual(b, t), reflect.DeepEqual(t, m):
		default:
			bm, _ := b.(map[string]any)
			tm, ok1 := t.(map[string]any)
			mm, ok2 := m.(map[string]any)
			if ok1 && ok2 {
				take = mergeMaps(strings.TrimPrefix(path+"."+name, "."), bm, tm, mm, both)
				break
			}
			*both = append(*both, strings.TrimPrefix(path+"."+name, "."))
		}
		if there {
			out[name] = take
		}
	}
	return out
}
