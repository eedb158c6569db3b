package ldapdir

import (
	"context"
	"fmt"
	"strings"

	"github.com/go-ldap/ldap/v3"
)

// ChangedSince narrows a filter to entries that changed at a time or after it, as the directory writes times.
func ChangedSince(filter, attribute, since string) string {
	if since == "" {
		return filter
	}
	return fmt.Sprintf("(&%s(%s>=%s))", filter, attribute, ldap.EscapeFilter(since))
}

// GroupIndex is all groups of a directory with their members, so that nothing is asked for each of many people. The zero value has none.
type GroupIndex struct {
	by     map[string][]Group // by what names a member
	groups map[string]Group   // by their own DN
	depth  int
	listed bool // people name their groups, and not groups their members
}

// NewGroupIndex makes one for groups that name their members, or, where they are listed, for people and groups that name the groups in
// which they are.
func NewGroupIndex(depth int, listed bool) *GroupIndex {
	return &GroupIndex{by: map[string][]Group{}, groups: map[string]Group{}, depth: depth, listed: listed}
}

// Add takes a group in, with what its attribute of membership holds.
func (x *GroupIndex) Add(g Group, values []string) {
	x.groups[KeyOf(g.DN)] = g
	for _, v := range values {
		if x.listed {
			x.by[KeyOf(g.DN)] = append(x.by[KeyOf(g.DN)], Group{DN: v})
			continue
		}
		x.by[KeyOf(v)] = append(x.by[KeyOf(v)], g)
	}
}

// Of are the names of the groups in which somebody is whose groups are found by this value, or who lists these.
func (x *GroupIndex) Of(member string, listed []string) []string {
	first := x.by[KeyOf(member)]
	if x.listed {
		first = nil
		for _, dn := range listed {
			first = append(first, Group{DN: dn})
		}
	}
	all, _, _ := Nested(context.Background(), first, x.depth, func(_ context.Context, dn string) ([]Group, error) { // of memory: can't fail
		return x.by[KeyOf(dn)], nil
	})
	for i, g := range all {
		if g.Name != "" {
			continue
		}
		if held, ok := x.groups[KeyOf(g.DN)]; ok {
			all[i].Name = held.Name
			continue
		}
		all[i].Name = firstName(g.DN)
	}
	return Names(all)
}

// firstName is the value of the first part of a DN.
func firstName(dn string) string {
	parsed, err := ldap.ParseDN(dn)
	if err != nil || len(parsed.RDNs) == 0 || len(parsed.RDNs[0].Attributes) == 0 {
		return strings.TrimSpace(dn)
	}
	return parsed.RDNs[0].Attributes[0].Value
}
