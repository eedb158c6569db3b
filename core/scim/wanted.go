package scim

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Target is what an account or group should have at one path; nil for nothing.
type Target struct {
	Path  *Path
	Value any
}

// Wrong is a rule whose value can't be sent, and why.
type Wrong struct{ Name, Reason string }

// Plan is where the rules of a mapping lead, read once for many accounts.
type Plan struct {
	steps []step
	wrong []Wrong
}

// step is one name that rules set.
type step struct {
	name string
	path *Path
	key  string
}

// Plan reads the names that a mapping's rules set. Names are paths, such as emails[type eq "work"].value.
func (k *Kind) Plan(names []string) *Plan {
	out := &Plan{}
	for _, name := range names {
		p, refused := k.Path(name)
		if refused != nil {
			out.wrong = append(out.wrong, Wrong{name, refused.Detail})
			continue
		}
		if p.Leaf() == nil || p.Leaf().Mutability == "readOnly" {
			out.wrong = append(out.wrong, Wrong{name, "It is set by the application alone."})
			continue
		}
		out.steps = append(out.steps, step{name, p, p.String()})
	}
	return out
}

// Targets are what a mapping's rules make: for each name that one sets, its values, or none. Of two that lead to the same, the later
// counts.
func (p *Plan) Targets(made map[string][]string) ([]Target, []Wrong) {
	out, wrong := make([]Target, 0, len(p.steps)), p.wrong
	at := make(map[string]int, len(p.steps))
	for _, s := range p.steps {
		v, err := Typed(s.path.valueAt(), made[s.name])
		if err != nil {
			wrong = append(wrong[:len(wrong):len(wrong)], Wrong{s.name, err.Error() + "."})
			continue
		}
		if i, twice := at[s.key]; twice {
			if v != nil {
				out[i].Value = v
			}
			continue
		}
		at[s.key] = len(out)
		out = append(out, Target{s.path, v})
	}
	return out, wrong
}

// Targets is Plan and its Targets for one account.
func (k *Kind) Targets(names []string, made map[string][]string) ([]Target, []Wrong) {
	return k.Plan(names).Targets(made)
}

// Value is what a target list has at a path; nil for nothing.
func Value(list []Target, path string) any {
	for _, t := range list {
		if t.Path.String() == path {
			return t.Value
		}
	}
	return nil
}

// Difference is where an account is not as it should be.
type Difference struct {
	Path         string
	Ours, Theirs string // for people
	target       Target
}

// Differences are where a resource is not as the targets have it, without the paths that the other side does not keep.
func Differences(targets []Target, have Resource, unkept []string) []Difference {
	var out []Difference
	for _, t := range targets {
		path := t.Path.String()
		if t.Path.Leaf().Returned == "never" || slices.Contains(unkept, path) {
			continue
		}
		theirs := t.Path.Values(have)
		if t.agrees(theirs) {
			continue
		}
		out = append(out, Difference{Path: path, Ours: Shown(t.Value), Theirs: shownAll(theirs), target: t})
	}
	return out
}

func shownAll(values []any) string {
	var parts []string
	for _, v := range values {
		parts = append(parts, Shown(v))
	}
	return strings.Join(parts, ", ")
}

func (t Target) agrees(theirs []any) bool {
	list, many := t.Value.([]any)
	switch {
	case t.Value == nil:
		return len(theirs) == 0
	case !many:
		return len(theirs) == 1 && agree(t.Path.Leaf(), t.Value, theirs[0])
	case len(list) != len(theirs):
		return false
	}
	held := map[string]int{}
	for _, v := range theirs {
		held[valueOf(v)]++
	}
	for _, v := range list {
		if held[valueOf(v)]--; held[valueOf(v)] < 0 {
			return false
		}
	}
	return true
}

// agree compares one value; of an object, the parts that are ours.
func agree(a *Attribute, ours, theirs any) bool {
	o, ok := ours.(map[string]any)
	if !ok {
		return same(a, ours, theirs)
	}
	t, ok := theirs.(map[string]any)
	if !ok {
		return false
	}
	for name, v := range o {
		if part := a.Sub(name); part == nil || !same(part, v, t[name]) {
			return false
		}
	}
	return true
}

// New is a new resource with what the targets have.
func (k *Kind) New(targets []Target) Resource {
	out := Resource{}
	for _, t := range targets {
		if t.Value != nil {
			t.Path.Set(out, cloned(t.Value))
		}
	}
	return k.withSchemas(out)
}

// Merged is a resource as it is there, with what the targets have in its places: what is put back as a whole.
func (k *Kind) Merged(targets []Target, have Resource) Resource {
	out := have.Clone()
	for _, name := range []string{"meta", "groups", "schemas"} {
		delete(out, name)
	}
	for _, t := range targets {
		t.Path.Set(out, cloned(t.Value))
	}
	return k.withSchemas(out)
}

// withSchemas names the schemas of which a resource has attributes.
func (k *Kind) withSchemas(r Resource) Resource {
	list := []any{k.Core.ID}
	for _, name := range slices.Sorted(maps.Keys(r)) {
		if k.extension(name) != nil {
			list = append(list, name)
		}
	}
	r["schemas"] = list
	return r
}

// Changing is a PATCH that takes the differences away. Lists are replaced whole, which every receiver understands, with the values that
// are none of ours kept.
func Changing(list []Difference, have Resource) Resource {
	var ops []any
	done := map[string]bool{}
	for _, d := range list {
		t := d.target
		if !t.Path.At.MultiValued {
			ops = append(ops, operation(t.Path, t.Value))
			continue
		}
		top := t.Path.Top()
		if done[top.String()] {
			continue
		}
		done[top.String()] = true
		merged := have.Clone()
		for _, other := range list {
			if other.target.Path.Top().String() == top.String() {
				other.target.Path.Set(merged, cloned(other.target.Value))
			}
		}
		var whole any
		if values := top.Values(merged); len(values) > 0 {
			whole = values
		}
		ops = append(ops, operation(top, whole))
	}
	return PatchOf(ops...)
}

func operation(p *Path, value any) map[string]any {
	if value == nil {
		return map[string]any{"op": Delete, "path": p.String()}
	}
	return map[string]any{"op": Replace, "path": p.String(), "value": value}
}

// PatchOf is a PATCH of some operations.
func PatchOf(ops ...any) Resource {
	return Resource{"schemas": []any{PatchMessage}, "Operations": ops}
}

// MemberOperation adds members to a group, or removes one; some receivers take a removal by filter alone, so each stands by itself.
func MemberOperation(op string, ids []string) []any {
	if op == Add {
		var values []any
		for _, id := range ids {
			values = append(values, map[string]any{"value": id})
		}
		return []any{map[string]any{"op": Add, "path": "members", "value": values}}
	}
	var out []any
	for _, id := range ids {
		out = append(out, map[string]any{"op": Delete, "path": fmt.Sprintf("members[value eq %q]", id)})
	}
	return out
}

// Unkept are the paths at which a resource that was just written does not have what was sent: the other side does not keep them.
func Unkept(targets []Target, answered Resource) []string {
	var out []string
	for _, d := range Differences(targets, answered, nil) {
		if d.target.Value != nil {
			out = append(out, d.Path)
		}
	}
	return out
}
