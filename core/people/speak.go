package people

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"innergate/core/claims"
)

// GroupNames is the attribute of a profile that holds the groups that a provider says somebody is in.
const GroupNames = "groups"

// identifying are the attributes of a profile by which applications, rules and people tell who somebody is. A provider
// may say them only within what it may speak for.
var identifying = []string{Mail, Username, ExternalID, GroupNames}

// Unspoken is what a provider said and may not speak for.
type Unspoken struct {
	Attribute string
	Values    []string
	// May is what the provider may speak for instead, in words.
	May string
}

// Say is what counts of what a provider said of somebody: its profile without the values that it may not speak for, and
// those. Proof is what it said about its mail address. Others says whether a mail domain is another provider's. The
// attributes that identify nobody are the provider's own to say.
func (m *Matching) Say(came, proof claims.Bag, others func(domain string) bool) (said claims.Bag, unspoken []Unspoken) {
	if m == nil {
		m = &Matching{}
	}
	said = came
	for _, name := range identifying {
		values := came[name]
		if len(values) == 0 {
			continue
		}
		var kept, gone []string
		for _, v := range values {
			if m.maySay(name, v, proof, others) {
				kept = append(kept, v)
			} else {
				gone = append(gone, v)
			}
		}
		if len(gone) == 0 {
			continue
		}
		if len(unspoken) == 0 {
			said = maps.Clone(came)
		}
		if said[name] = kept; len(kept) == 0 {
			delete(said, name)
		}
		unspoken = append(unspoken, Unspoken{name, gone, m.May(name)})
	}
	return said, unspoken
}

func (m *Matching) maySay(name, value string, proof claims.Bag, others func(string) bool) bool {
	domain := Domain(value)
	switch name {
	case Mail:
		verified := proof.First("email_verified")
		if slices.Contains(m.Domains, domain) {
			return verified != "false" || m.MailUnproven
		}
		return m.MailElsewhere && domain != "" && verified == "true" && !others(domain)
	case GroupNames:
		return slices.ContainsFunc(m.Groups, func(pattern string) bool {
			if begin, ok := strings.CutSuffix(pattern, "*"); ok {
				return strings.HasPrefix(value, begin)
			}
			return value == pattern
		})
	}
	return domain == "" && m.Unscoped || domain != "" && slices.Contains(m.Scopes, domain)
}

// May is what the provider may speak for, in words: for an attribute that identifies people.
func (m *Matching) May(name string) string {
	var parts []string
	switch name {
	case Mail:
		parts = append(parts, m.Domains...)
		if m.MailElsewhere {
			parts = append(parts, "proven addresses of domains that nobody else speaks for")
		}
	case GroupNames:
		parts = m.Groups
	default:
		for _, s := range m.Scopes {
			parts = append(parts, "…@"+s)
		}
		if m.Unscoped {
			parts = append(parts, "names without a scope")
		}
	}
	if len(parts) == 0 {
		return "nothing"
	}
	return strings.Join(parts, ", ")
}

// Silent lists the attributes among those that a provider's mapping sets of which it may say nothing at all.
func (m *Matching) Silent(sets []string) []string {
	if m == nil {
		m = &Matching{}
	}
	var out []string
	for _, name := range identifying {
		if slices.Contains(sets, name) && m.May(name) == "nothing" {
			out = append(out, name)
		}
	}
	return out
}

// InWords says what was dropped.
func (u Unspoken) InWords() string {
	return fmt.Sprintf("%s %s", claims.InWords(u.Attribute), strings.Join(u.Values, ", "))
}

func checkGroups(list []string) error {
	if len(list) > 500 {
		return fmt.Errorf("%d groups are named that the provider may speak for; 500 are the most", len(list))
	}
	for _, g := range list {
		if g == "" || len(g) > 300 || strings.Contains(strings.TrimSuffix(g, "*"), "*") {
			return fmt.Errorf("%q is no group that a provider may speak for; write its value, or how values begin, such as ferry-*", g)
		}
	}
	return nil
}
