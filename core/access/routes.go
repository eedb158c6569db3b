package access

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// Route is one rule that chooses the way by which somebody signs in. The first whose conditions fit, and which leads
// somewhere, decides.
type Route struct {
	Name string         `json:"name,omitempty"`
	If   RouteCondition `json:"if"`
	// To are providers, by short name; where several can be used, the person chooses.
	To []string `json:"to"`
}

// RouteCondition is what must be true; of each list one entry must fit, an empty list asks for nothing.
type RouteCondition struct {
	Applications []string `json:"applications,omitempty"`
	MailDomains  []string `json:"mailDomains,omitempty"`
	Known        []string `json:"known,omitempty"`  // providers that the person has signed in with before
	Groups       []string `json:"groups,omitempty"` // the gate's groups
	Networks     []string `json:"networks,omitempty"`
	Wish         []string `json:"wish,omitempty"`  // providers that the application itself asks for
	Reach        []string `json:"reach,omitempty"` // of the application
	Last         []string `json:"last,omitempty"`  // providers of which this browser took one the last time
}

// asksWho says whether it depends on the person.
func (c *RouteCondition) asksWho() bool { return len(c.MailDomains)+len(c.Known)+len(c.Groups) > 0 }

// The times at which the page has a field for a name or mail address.
const (
	FieldNeeded = "needed" // where a route, a circle or the gate's own directory depends on who it is
	FieldAlways = "always" // whenever there is a choice
	FieldNever  = "never"
)

// Routes are all of them, with how the page looks on which people choose.
type Routes struct {
	Rules []Route `json:"rules"`
	// Field is needed (the default), always or never.
	Field string `json:"field,omitempty"`
	// NoButtons leaves the buttons of providers away where the field is there.
	NoButtons bool `json:"noButtons,omitempty"`
}

// AskWho says whether a route depends on who signs in.
func (r *Routes) AskWho() bool {
	return slices.ContainsFunc(r.Rules, func(one Route) bool { return one.If.asksWho() })
}

// Check says what is wrong with the routes, or returns nil.
func (r *Routes) Check() error {
	if len(r.Rules) > 500 {
		return fmt.Errorf("there are %d routes; 500 are the most", len(r.Rules))
	}
	if r.Field == "" {
		r.Field = FieldNeeded
	}
	if !slices.Contains([]string{FieldNeeded, FieldAlways, FieldNever}, r.Field) {
		return fmt.Errorf("%q is no time for the field; needed, always and never are", r.Field)
	}
	for i := range r.Rules {
		one := &r.Rules[i]
		at := fmt.Sprintf("route %d", i+1)
		if one.Name != "" {
			at += " (" + one.Name + ")"
		}
		if len(one.Name) > 200 {
			return fmt.Errorf("%s: its name has more than 200 characters", at)
		}
		if len(one.To) == 0 || len(one.To) > 50 {
			return fmt.Errorf("%s: it must lead to 1 to 50 providers", at)
		}
		c := &one.If
		for _, list := range [][]string{c.Applications, c.MailDomains, c.Known, c.Groups, c.Networks, c.Wish, c.Reach, c.Last,
			one.To} {
			if len(list) > 1000 {
				return fmt.Errorf("%s: a list has %d entries; 1,000 are the most", at, len(list))
			}
			if slices.ContainsFunc(list, func(v string) bool { return strings.TrimSpace(v) == "" }) {
				return fmt.Errorf("%s: an entry of a list is empty", at)
			}
		}
		for j, d := range c.MailDomains {
			if strings.ContainsAny(d, "@ /") {
				return fmt.Errorf("%s: %q is no mail domain; write it such as saltmere.example", at, d)
			}
			c.MailDomains[j] = strings.ToLower(d)
		}
		for _, n := range c.Networks {
			if _, err := network(n); err != nil {
				return fmt.Errorf("%s: %w", at, err)
			}
		}
		for _, v := range c.Reach {
			if !slices.Contains(Reaches, Reach(v)) {
				return fmt.Errorf("%s: %q is no reach", at, v)
			}
		}
	}
	return nil
}

// RouteFacts is what is known when a way is chosen.
type RouteFacts struct {
	Application string
	Reach       Reach
	Wish        []string
	Last        string // the provider that the browser took the last time
	Network     netip.Addr
	// Identified is set once somebody said who they are, or is known from a session; Domain is that of their mail
	// address, Known the providers that they have signed in with.
	Identified bool
	Domain     string
	Known      []string
	Groups     []string
}

// Way is what the routes decide.
type Way struct {
	To     []string // the providers that can be used, in order
	By     string
	Routed bool     // a route decided
	Passed []string // the routes before, and why they do not fit
	// AsksWho is set where an earlier route would decide once it is known who signs in.
	AsksWho bool
}

// Choose decides for an application that these providers serve, by short name. No route leads beyond them.
func (r *Routes) Choose(f RouteFacts, serve []string) Way {
	var w Way
	for i := range r.Rules {
		one := &r.Rules[i]
		name := fmt.Sprintf("route %d", i+1)
		if one.Name != "" {
			name += " (" + one.Name + ")"
		}
		miss, open := one.If.misses(&f)
		if miss != "" {
			w.Passed = append(w.Passed, name+": "+miss)
			continue
		}
		var to []string
		for _, p := range one.To {
			if slices.Contains(serve, p) {
				to = append(to, p)
			}
		}
		switch {
		case len(to) == 0:
			w.Passed = append(w.Passed, name+": none of its providers can be used here")
		case open:
			w.AsksWho = true
			w.Passed = append(w.Passed, name+": it depends on who signs in")
		default:
			w.To, w.By, w.Routed = to, name, true
			return w
		}
	}
	w.To, w.By = serve, "no route fits; all providers that serve the application"
	return w
}

func (c *RouteCondition) misses(f *RouteFacts) (why string, open bool) {
	or := func(list []string) string { return strings.Join(list, " or ") }
	switch {
	case len(c.Applications) > 0 && !slices.Contains(c.Applications, f.Application):
		return "not for " + or(c.Applications), false
	case len(c.Reach) > 0 && !slices.Contains(c.Reach, string(f.Reach)):
		return "the application's reach is not " + or(c.Reach), false
	case len(c.Networks) > 0 && inNetworks(c.Networks, f.Network) == "":
		return "the address is outside " + strings.Join(c.Networks, ", "), false
	case len(c.Wish) > 0 && common(c.Wish, f.Wish) == "":
		return "the application does not ask for " + or(c.Wish), false
	case len(c.Last) > 0 && !slices.Contains(c.Last, f.Last):
		return "the browser did not take " + or(c.Last) + " the last time", false
	case c.asksWho() && !f.Identified:
		return "", true
	case len(c.MailDomains) > 0 && !slices.Contains(c.MailDomains, strings.ToLower(f.Domain)):
		return "the mail domain is not " + or(c.MailDomains), false
	case len(c.Known) > 0 && common(c.Known, f.Known) == "":
		return "the person has not signed in with " + or(c.Known), false
	case len(c.Groups) > 0 && common(c.Groups, f.Groups) == "":
		return "not in " + or(c.Groups), false
	}
	return "", false
}

// Covers says whether every sign-in that fits the later route fits the earlier one too, so that the later one is never
// reached.
func (r *Route) Covers(later *Route) bool {
	a, b := &r.If, &later.If
	for _, l := range [][2][]string{{a.Applications, b.Applications}, {a.MailDomains, b.MailDomains}, {a.Known, b.Known},
		{a.Groups, b.Groups}, {a.Networks, b.Networks}, {a.Wish, b.Wish}, {a.Reach, b.Reach},
		{a.Last, b.Last}} {
		if len(l[0]) == 0 {
			continue
		}
		if len(l[1]) == 0 || slices.ContainsFunc(l[1], func(v string) bool { return !slices.Contains(l[0], v) }) {
			return false
		}
	}
	return true
}
