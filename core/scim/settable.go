package scim

import (
	"fmt"
	"slices"
)

// Settable are the paths that the rules of a mapping can set, in the order of the schemas (RFC 7643, sections 4.1 and 4.3): the parts
// of objects each by itself, and of lists of objects those of one usual kind. Others can be set as well, such as of another kind.
func (k *Kind) Settable() []string {
	out := settable("", common)
	out = append(out, settable("", k.Core.Attributes)...)
	for _, s := range k.Extensions {
		out = append(out, settable(s.ID+":", s.Attributes)...)
	}
	return slices.DeleteFunc(out, func(name string) bool { return len(k.Plan([]string{name}).wrong) > 0 })
}

func settable(schema string, list []Attribute) []string {
	var out []string
	for i := range list {
		a := &list[i]
		if a.Mutability == "readOnly" || a.Mutability == "writeOnly" || a.Name == "active" {
			continue // whether an account is active is not said by rules, and passwords are never handed on
		}
		path := schema + a.Name
		if a.Type != TypeComplex {
			out = append(out, path)
			continue
		}
		if a.MultiValued {
			path += a.usualKind()
		}
		for j := range a.SubAttributes {
			sub := &a.SubAttributes[j]
			if sub.Mutability == "readOnly" || a.MultiValued && slices.Contains([]string{"type", "primary", "display"}, sub.Name) {
				continue
			}
			out = append(out, path+"."+sub.Name)
		}
	}
	return out
}

// usualKind chooses those of a list of objects that are for work or, where there are none such, of the first kind; nothing where the
// list knows no kinds.
func (a *Attribute) usualKind() string {
	kind := a.Sub("type")
	if kind == nil || len(kind.CanonicalValues) == 0 {
		return ""
	}
	name := kind.CanonicalValues[0]
	if slices.Contains(kind.CanonicalValues, "work") {
		name = "work"
	}
	return fmt.Sprintf("[type eq %q]", name)
}
