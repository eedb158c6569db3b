package access

import (
	"fmt"
	"slices"
	"strings"
)

// Decide asks the policy about a sign-in. With reasons, it tells of each rule that did not fit why not.
func (c *Compiled) Decide(f Facts, reasons bool) Decision {
	d := Decision{}
	if reasons {
		d.Passed = make([]string, 0, len(c.rules))
	}
	d.Roles = c.Roles(f.Assigned)
	entry := "open to everybody"
	if c.To != Everybody {
		if len(f.Assigned) == 0 {
			d.Result, d.Code, d.By = Refuse, "access.not-assigned", "not assigned, neither by name nor through a group"
			return d
		}
		entry = "assigned by name"
		if by := f.Assigned[0].By; by != "" {
			entry = "assigned through the group " + by
		}
	}
	if len(c.required) > 0 && !slices.ContainsFunc(f.Received, func(g string) bool { return c.required[g] }) {
		d.Result, d.Code, d.By = Refuse, "access.group-required", "none of the required groups came from the provider: "+strings.Join(
			c.Requires, ", ",
		)
		return d
	}
	held := make([]bool, len(c.mentioned))
	if len(held) > 0 {
		for _, g := range f.Groups {
			if i, ok := c.mentioned[g]; ok {
				held[i] = true
			}
		}
	}
	domain := ""
	if _, after, ok := strings.Cut(f.Mail, "@"); ok {
		domain = strings.ToLower(after)
	}
	for i := range c.rules {
		r := &c.rules[i]
		if r.when != nil {
			if why := r.when.misses(&f, held, domain); why != fits {
				if reasons {
					d.Passed = append(d.Passed, r.missed[why])
				}
				continue
			}
		}
		if r.not != nil && r.not.misses(&f, held, domain) == fits {
			if reasons {
				d.Passed = append(d.Passed, r.missed[fits])
			}
			continue
		}
		d.By = r.name
		switch {
		case r.then == Refuse:
			d.Result, d.Code = Refuse, "access.refused"
		case r.then == Stronger && !f.TwoFactor:
			d.Result = Stronger
		case r.then == Stronger:
			d.Result, d.By = Allow, r.name+", and a second factor was used"
		default:
			d.Result = Allow
		}
		return d
	}
	if c.Otherwise == Refuse {
		d.Result, d.Code, d.By = Refuse, "access.no-rule", "no rule fits, and others are refused"
		return d
	}
	d.Result, d.By = Allow, entry
	return d
}

// miss tells what of a condition does not fit.
type miss int

const (
	fits miss = iota
	byGroup
	byType
	byProvider
	byNetwork
	byDomain
	byDay
	byTime
	byStrength
	missCount
)

func (c *compiled) misses(f *Facts, held []bool, domain string) miss {
	switch {
	case len(c.groups) > 0 && !slices.ContainsFunc(c.groups, func(i int) bool { return held[i] }):
		return byGroup
	case len(c.Types) > 0 && !slices.Contains(c.Types, f.Type):
		return byType
	case len(c.Providers) > 0 && !slices.Contains(c.Providers, f.Provider):
		return byProvider
	case len(c.MailDomains) > 0 && !slices.Contains(c.MailDomains, domain):
		return byDomain
	case c.Strength == "two" && !f.TwoFactor, c.Strength == "one" && f.TwoFactor:
		return byStrength
	}
	if len(c.networks) > 0 {
		inside := false
		for _, n := range c.networks {
			if n.Contains(f.Network.Unmap()) {
				inside = true
				break
			}
		}
		if !inside {
			return byNetwork
		}
	}
	if len(c.Days) > 0 || c.from >= 0 {
		at := f.At.In(c.zone)
		now := at.Hour()*60 + at.Minute()
		day := at.Weekday()
		if c.from >= 0 {
			over := c.to <= c.from
			if !over && (now < c.from || now >= c.to) || over && now >= c.to && now < c.from {
				return byTime
			}
			if over && now < c.to {
				day = (day + 6) % 7 // after midnight it still is the day before's time
			}
		}
		if len(c.Days) > 0 && !c.days[day] {
			return byDay
		}
	}
	return fits
}

// missReasons are the sentences for what may not fit of a rule, made once.
func (r *compiledRule) missReasons() {
	r.missed[fits] = r.name + ": its exception fits"
	if r.when == nil {
		return
	}
	c := r.when
	or := func(list []string) string { return strings.Join(list, " or ") }
	r.missed[byGroup] = "not in " + or(c.Groups)
	r.missed[byType] = "the person type is not " + or(c.Types)
	r.missed[byProvider] = "not through " + or(c.Providers)
	r.missed[byNetwork] = "the address is outside " + strings.Join(c.Networks, ", ")
	r.missed[byDomain] = "the mail domain is not " + or(c.MailDomains)
	r.missed[byDay] = "not on " + strings.Join(c.Days, ", ")
	r.missed[byTime] = fmt.Sprintf("outside %s to %s %s", c.From, c.Until, c.zone)
	if r.missed[byStrength] = "no second factor was used"; c.Strength == "one" {
		r.missed[byStrength] = "a second factor was used"
	}
	for i := range r.missed {
		if miss(i) != fits {
			r.missed[i] = r.name + ": " + r.missed[i]
		}
	}
}

// InWords says what the rules were asked about.
func (f Facts) InWords() string {
	factors := "one factor"
	if f.TwoFactor {
		factors = "a second factor"
	}
	domain := "no mail address"
	if _, after, ok := strings.Cut(f.Mail, "@"); ok {
		domain = "mail at " + strings.ToLower(after)
	}
	parts := []string{"person type " + orNone(f.Type), fmt.Sprintf("%d groups", len(f.Groups)), domain, "through " + orNone(f.Provider)}
	if f.Network.IsValid() {
		parts = append(parts, "from "+f.Network.Unmap().String())
	}
	return strings.Join(append(parts, f.At.UTC().Format("Mon 15:04")+" UTC", factors), ", ")
}

func orNone(v string) string {
	if v == "" {
		return "none"
	}
	return v
}

// AsksGroups says whether a rule asks for the gate's groups.
func (c *Compiled) AsksGroups() bool { return len(c.mentioned) > 0 }

// Roles are the application's own roles that assignments carry, each once.
func (c *Compiled) Roles(assigned []Assignment) []string {
	var out []string
	for _, a := range assigned {
		for _, r := range a.Roles {
			if !slices.Contains(out, r) {
				out = append(out, r)
			}
		}
	}
	return out
}
