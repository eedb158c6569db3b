package access

import "strings"

// InWords is a rule as a sentence.
func (r Rule) InWords() string {
	if r.Use != "" {
		return "the rules of the set " + r.Use
	}
	text := map[string]string{Allow: "let in", Refuse: "refuse", Stronger: "ask for a second factor from"}[r.Then]
	whom := r.If.inWords()
	if whom == "" {
		whom = "everybody"
	} else {
		whom = "whoever is " + whom
	}
	text += " " + whom
	if not := r.Unless.inWords(); not != "" {
		text += ", unless " + not
	}
	if r.Name != "" {
		text = r.Name + ": " + text
	}
	return text
}

func (c *Condition) inWords() string {
	if c == nil {
		return ""
	}
	or := func(list []string) string { return strings.Join(list, " or ") }
	var parts []string
	for _, p := range []struct {
		before string
		list   []string
	}{{"in ", c.Groups}, {"of type ", c.Types}, {"coming through ", c.Providers}, {"on the network ", c.Networks},
		{"with mail at ", c.MailDomains}, {"here on ", c.Days}} {
		if len(p.list) > 0 {
			parts = append(parts, p.before+or(p.list))
		}
	}
	if c.From != "" {
		zone := c.Zone
		if zone == "" {
			zone = "UTC"
		}
		parts = append(parts, "here between "+c.From+" and "+c.Until+" "+zone)
	}
	switch c.Strength {
	case "one":
		parts = append(parts, "without a second factor")
	case "two":
		parts = append(parts, "with a second factor")
	}
	return strings.Join(parts, " and ")
}

// InWords is a policy in sentences, in the order in which it is asked.
func (p Policy) InWords() []string {
	out := []string{"Whoever is assigned, by name or through a group, may come in; others are refused."}
	if p.To == Everybody {
		out = []string{"Everybody for whom a provider vouches may come in."}
	}
	if len(p.Requires) > 0 {
		out = append(out, "One of these groups must come from the provider: "+strings.Join(p.Requires, ", ")+".")
	}
	for _, r := range p.Rules {
		s := r.InWords()
		out = append(out, strings.ToUpper(s[:1])+s[1:]+".")
	}
	if len(p.Rules) > 0 {
		out = append(out, "Whoever no rule fits is "+map[string]string{Allow: "let in", Refuse: "refused", "": "let in"}[p.Otherwise]+".")
	}
	return out
}
