package standin

import (
	"encoding/json"
	"net/http"
	"regexp"
	"slices"
	"strings"
)

// patchOf applies a PATCH to a resource as it is written in RFC 7644, section 3.5.2, and says what is wrong with it; it takes nothing
// that the standard does not have.
func patchOf(r *http.Request, held map[string]any) string {
	var in struct {
		Schemas    []string `json:"schemas"`
		Operations []struct {
			Op    string `json:"op"`
			Path  string `json:"path"`
			Value any    `json:"value"`
		} `json:"Operations"`
	}
	if json.NewDecoder(r.Body).Decode(&in) != nil || len(in.Operations) == 0 ||
		!slices.Contains(in.Schemas, "urn:ietf:params:scim:api:messages:2.0:PatchOp") {
		return "This is no PATCH."
	}
	for _, o := range in.Operations {
		if o.Path == "" {
			values, ok := o.Value.(map[string]any)
			if !ok || o.Op == "remove" {
				return "An operation without a path has an object as its value."
			}
			for name, v := range values {
				if err := patchAt(held, o.Op, name, v); err != "" {
					return err
				}
			}
			continue
		}
		if err := patchAt(held, o.Op, o.Path, o.Value); err != "" {
			return err
		}
	}
	return ""
}

// patchPath is a path: perhaps a schema's URI, an attribute, perhaps a filter of equality, perhaps a part.
var patchPath = regexp.MustCompile(`^(?:(urn:[A-Za-z0-9.:-]+):)?([A-Za-z$][A-Za-z0-9]*)` +
	`(?:\[([A-Za-z]+) eq ("(?:[^"\\]|\\.)*")\])?(?:\.([A-Za-z$]+))?$`)

func patchAt(held map[string]any, op, path string, value any) string {
	m := patchPath.FindStringSubmatch(path)
	if m == nil {
		return "The path " + path + " can't be read here."
	}
	schema, name, by, quoted, part := m[1], m[2], m[3], m[4], m[5]
	o := held
	if schema != "" {
		inner, ok := held[schema].(map[string]any)
		if !ok {
			inner = map[string]any{}
			held[schema] = inner
		}
		o = inner
	}
	if by != "" {
		var want string
		_ = json.Unmarshal([]byte(quoted), &want) // its form is known
		return patchChosen(o, op, name, by, want, part, value)
	}
	if part != "" {
		inner, ok := o[name].(map[string]any)
		if !ok {
			if _, isList := o[name].([]any); isList {
				return "A part of a list needs a filter."
			}
			inner = map[string]any{}
			o[name] = inner
		}
		o, name = inner, part
	}
	switch op {
	case "remove":
		delete(o, name)
	case "replace":
		o[name] = value
	case "add":
		list, isList := o[name].([]any)
		more, areMore := value.([]any)
		if !isList && !areMore {
			o[name] = value
			return ""
		}
		o[name] = append(list, without(more, list)...)
	default:
		return op + " is no operation."
	}
	return ""
}

// without are the values that are not there yet.
func without(more, there []any) []any {
	seen := map[string]bool{}
	for _, v := range there {
		seen[memberOf(v)] = true
	}
	var out []any
	for _, v := range more {
		if !seen[memberOf(v)] {
			seen[memberOf(v)] = true
			out = append(out, v)
		}
	}
	return out
}

func memberOf(v any) string {
	if o, ok := v.(map[string]any); ok {
		if s, ok := o["value"].(string); ok {
			return s
		}
	}
	data, _ := json.Marshal(v)
	return string(data)
}

// patchChosen changes those values of a list that a filter chooses.
func patchChosen(o map[string]any, op, name, by, want, part string, value any) string {
	list, _ := o[name].([]any)
	fits := func(v any) bool {
		inner, ok := v.(map[string]any)
		return ok && strings.EqualFold(textOf(inner, by), want)
	}
	if !slices.ContainsFunc(list, fits) && op == "replace" {
		return "No value of " + name + " fits."
	}
	if op == "remove" && part == "" {
		o[name] = slices.DeleteFunc(list, fits)
		return ""
	}
	for i, v := range list {
		if !fits(v) {
			continue
		}
		if part == "" {
			list[i] = value
			continue
		}
		if op == "remove" {
			delete(v.(map[string]any), part)
		} else {
			v.(map[string]any)[part] = value
		}
	}
	return ""
}
