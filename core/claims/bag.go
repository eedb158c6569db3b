package claims

import (
	"encoding/json"
	"maps"
	"slices"
)

// Bag holds values by name. A name without values counts as absent.
type Bag map[string][]string

// First is the first value under a name, or "".
func (b Bag) First(name string) string {
	if v := b[name]; len(v) > 0 {
		return v[0]
	}
	return ""
}

// Names lists the names that have values, sorted.
func (b Bag) Names() []string {
	var out []string
	for _, name := range slices.Sorted(maps.Keys(b)) {
		if len(b[name]) > 0 {
			out = append(out, name)
		}
	}
	return out
}

// Names is where a rule takes its values from: the first name that is present. In JSON and YAML it is one name or a
// list.
type Names []string

// UnmarshalJSON accepts a string or a list of strings.
func (n *Names) UnmarshalJSON(data []byte) error {
	var one string
	if json.Unmarshal(data, &one) == nil {
		*n = Names{one}
		return nil
	}
	return json.Unmarshal(data, (*[]string)(n))
}

// MarshalJSON writes a single name as a string.
func (n Names) MarshalJSON() ([]byte, error) {
	if len(n) == 1 {
		return json.Marshal(n[0])
	}
	return json.Marshal([]string(n))
}
