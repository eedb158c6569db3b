package ldapdir

import (
	"context"
	"sort"
)

// Group is a group of a directory.
type Group struct{ DN, Name string }

// mostGroups is how many groups somebody has at most: a directory may be as deep and wide as it wants.
const mostGroups = 2000

// Nested are the groups that somebody is in, those first through which others are reached. Of asks for the groups in which something
// is, by its DN; depth is through how many groups memberships are followed. A group that is in itself is met once.
func Nested(ctx context.Context, first []Group, depth int, of func(context.Context, string) ([]Group,
	error)) (all []Group, cut bool, err error) {
	seen := map[string]bool{}
	level := first
	for ; ; depth-- {
		var next []Group
		for _, g := range level {
			key := KeyOf(g.DN)
			if seen[key] {
				continue
			}
			if len(all) >= mostGroups {
				return all, true, nil
			}
			seen[key] = true
			all = append(all, g)
			next = append(next, g)
		}
		if depth <= 0 || len(next) == 0 {
			return all, false, nil
		}
		level = nil
		for _, g := range next {
			more, err := of(ctx, g.DN)
			if err != nil {
				return nil, false, err
			}
			level = append(level, more...)
		}
	}
}

// Names are the names of groups, each once, in order.
func Names(groups []Group) []string {
	seen := map[string]bool{}
	var out []string
	for _, g := range groups {
		if g.Name != "" && !seen[g.Name] {
			seen[g.Name] = true
			out = append(out, g.Name)
		}
	}
	sort.Strings(out)
	return out
}
