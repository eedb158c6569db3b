package access

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"
)

// What an access rule can decide.
const (
	Allow    = "allow"
	Refuse   = "refuse"
	Stronger = "stronger" // allow, but only after a stronger sign-in
)

// Rule is one access rule: what must be true of a sign-in, and what follows. The first rule that fits decides. A rule
// that asks for nothing fits always.
type Rule struct {
	Name string `json:"name,omitempty"`
	// If lists what must be true, all of it; Unless what must not be true, none of it.
	If     *Condition `json:"if,omitempty"`
	Unless *Condition `json:"unless,omitempty"`
	Then   string     `json:"then,omitempty"`
	// Use stands for the rules of the rule set with this short name, at this very place.
	Use string `json:"use,omitempty"`
}

// Condition is what may be true of a sign-in. Of each list one entry must fit; an empty list asks for nothing.
type Condition struct {
	Groups      []string `json:"groups,omitempty"` // the gate's groups, by short name
	Types       []string `json:"types,omitempty"`  // person types
	Providers   []string `json:"providers,omitempty"`
	Networks    []string `json:"networks,omitempty"`    // in CIDR form, such as 10.20.0.0/16
	MailDomains []string `json:"mailDomains,omitempty"` // such as saltmere.example; subdomains are others
	Days        []string `json:"days,omitempty"`        // mon … sun
	// From and Until are times of day such as 08:00, in Zone (such as Europe/London; empty for UTC). Until before From
	// goes over midnight.
	From  string `json:"from,omitempty"`
	Until string `json:"until,omitempty"`
	Zone  string `json:"zone,omitempty"`
	// Strength is one (a single factor), or two (a second factor was used).
	Strength string `json:"strength,omitempty"`
}

// Who may use an application before its rules are asked.
const (
	Everybody = "everybody" // everyone whom one of its providers vouches for
	Assigned  = "assigned"  // people and groups that are assigned
)

// Policy says who may use an application. The zero value lets in whoever is assigned.
type Policy struct {
	To string `json:"to,omitempty"`
	// Requires are values of the profile's groups, as the provider sent them and the mapping made them; one of them
	// must be there.
	Requires []string `json:"requires,omitempty"`
	Rules    []Rule   `json:"rules,omitempty"`
	// Otherwise is what follows where no rule fits: allow or refuse.
	Otherwise string `json:"otherwise,omitempty"`
}

// Facts are what is known of a sign-in.
type Facts struct {
	Person    string // empty for somebody who is not stored
	Type      string
	Groups    []string // short names of the gate's groups
	Received  []string // the profile's groups, as they came through the mapping
	Assigned  []Assignment
	Provider  string // its short name
	Network   netip.Addr
	Mail      string
	At        time.Time
	TwoFactor bool
}

// Assignment lets a person or a group use an application, with roles of the application's own.
type Assignment struct {
	// By is empty for the person's own, else the group through which it comes.
	By    string
	Roles []string
}

// Decision is what a policy decides, and why.
type Decision struct {
	Result string   `json:"result"` // allow, refuse or stronger
	By     string   `json:"by"`     // what decided
	Code   string   `json:"code,omitempty"`
	Passed []string `json:"passed"` // what was asked before and did not decide
	Roles  []string `json:"roles"`  // of the application's own, by assignment
}

const maxRules = 200

var days = map[string]time.Weekday{
	"sun": time.Sunday,
	"mon": time.Monday,
	"tue": time.Tuesday,
	"wed": time.Wednesday,
	"thu": time.Thursday,
	"fri": time.Friday,
	"sat": time.Saturday,
}

// CheckRules says what is wrong with a list of rules, or returns nil.
func CheckRules(rules []Rule) error {
	if len(rules) > maxRules {
		return fmt.Errorf("there are %d rules; %d are the most", len(rules), maxRules)
	}
	for i, r := range rules {
		if _, err := r.compile(); err != nil {
			return fmt.Errorf("rule %d%s: %w", i+1, r.named(), err)
		}
	}
	return nil
}

func (r Rule) named() string {
	if r.Name == "" {
		return ""
	}
	return " (" + r.Name + ")"
}

// Resolve puts the rules of rule sets into the places where they are used. A set can't use another one.
func Resolve(rules []Rule, find func(slug string) ([]Rule, error)) ([]Rule, error) {
	if !slices.ContainsFunc(rules, func(r Rule) bool { return r.Use != "" }) {
		return rules, nil
	}
	var out []Rule
	for _, r := range rules {
		if r.Use == "" {
			out = append(out, r)
			continue
		}
		set, err := find(r.Use)
		if err != nil {
			return nil, err
		}
		for _, inner := range set {
			if inner.Use != "" {
				return nil, fmt.Errorf("the rule set %s uses the rule set %s; a set can't use another one", r.Use, inner.Use)
			}
		}
		out = append(out, set...)
	}
	return out, nil
}

// Compiled is a policy made ready to decide many times.
type Compiled struct {
	Policy
	rules []compiledRule
	// mentioned numbers the groups that rules name, so that a person's two hundred groups are looked up once.
	mentioned map[string]int
	required  map[string]bool
}

type compiledRule struct {
	name      string
	then      string
	when, not *compiled
	missed    [missCount]string // for people: why the rule does not fit
}

type compiled struct {
	Condition
	groups   []int
	networks []netip.Prefix
	days     [7]bool
	from, to int // minutes of the day, or -1
	zone     *time.Location
}

// Compile checks the policy and makes it ready. Rule sets must be resolved before.
func (p Policy) Compile() (*Compiled, error) {
	if err := CheckRules(p.Rules); err != nil {
		return nil, err
	}
	c := &Compiled{Policy: p, mentioned: map[string]int{}, required: map[string]bool{}}
	for _, r := range p.Requires {
		c.required[r] = true
	}
	for i, r := range p.Rules {
		one, err := r.compile()
		if err != nil {
			return nil, err
		}
		if r.Use != "" {
			return nil, fmt.Errorf("rule %d uses the rule set %s, which is not known here", i+1, r.Use)
		}
		one.name = fmt.Sprintf("rule %d%s", i+1, r.named())
		for _, cond := range []*compiled{one.when, one.not} {
			if cond == nil {
				continue
			}
			for _, g := range cond.Groups {
				if _, ok := c.mentioned[g]; !ok {
					c.mentioned[g] = len(c.mentioned)
				}
				cond.groups = append(cond.groups, c.mentioned[g])
			}
		}
		one.missReasons()
		c.rules = append(c.rules, one)
	}
	return c, nil
}

func (r Rule) compile() (out compiledRule, err error) {
	if r.Use != "" {
		if r.If != nil || r.Unless != nil || r.Then != "" {
			return out, fmt.Errorf("it uses a rule set; nothing else can stand beside use")
		}
		return out, nil
	}
	if r.Then != Allow && r.Then != Refuse && r.Then != Stronger {
		return out, fmt.Errorf("%q is no result; allow, refuse and stronger are", r.Then)
	}
	if len(r.Name) > 200 {
		return out, fmt.Errorf("its name has more than 200 characters")
	}
	out.then = r.Then
	if out.when, err = r.If.compile(); err != nil {
		return out, err
	}
	if out.not, err = r.Unless.compile(); err != nil {
		return out, err
	}
	if r.Unless != nil && out.not == nil {
		return out, fmt.Errorf("unless is empty, so the rule would never fit")
	}
	return out, nil
}

func (c *Condition) compile() (*compiled, error) {
	if c == nil {
		return nil, nil
	}
	out := &compiled{Condition: *c, from: -1, to: -1, zone: time.UTC}
	for _, list := range [][]string{c.Groups, c.Types, c.Providers, c.Networks, c.MailDomains} {
		if len(list) > 500 {
			return nil, fmt.Errorf("a list has %d entries; 500 are the most", len(list))
		}
		if slices.ContainsFunc(list, func(v string) bool { return strings.TrimSpace(v) == "" }) {
			return nil, fmt.Errorf("an entry of a list is empty")
		}
	}
	for _, n := range c.Networks {
		p, err := netip.ParsePrefix(n)
		if err != nil {
			a, aerr := netip.ParseAddr(n)
			if aerr != nil {
				return nil, fmt.Errorf("%q is no network; write it such as 10.20.0.0/16", n)
			}
			p = netip.PrefixFrom(a, a.BitLen())
		}
		out.networks = append(out.networks, p.Masked())
	}
	for _, d := range c.Days {
		w, ok := days[d]
		if !ok {
			return nil, fmt.Errorf("%q is no day; mon, tue, wed, thu, fri, sat and sun are", d)
		}
		out.days[w] = true
	}
	for i, d := range c.MailDomains {
		if strings.ContainsAny(d, "@ /") {
			return nil, fmt.Errorf("%q is no mail domain; write it such as saltmere.example", d)
		}
		if i == 0 {
			out.MailDomains = slices.Clone(c.MailDomains)
		}
		out.MailDomains[i] = strings.ToLower(d)
	}
	var err error
	if out.from, err = minutes(c.From); err != nil {
		return nil, err
	}
	if out.to, err = minutes(c.Until); err != nil {
		return nil, err
	}
	if (out.from < 0) != (out.to < 0) {
		return nil, fmt.Errorf("of from and until, only one is given; both are needed")
	}
	if c.Zone != "" {
		if out.zone, err = time.LoadLocation(c.Zone); err != nil {
			return nil, fmt.Errorf("%q is no time zone; write it such as Europe/London", c.Zone)
		}
	}
	if c.Strength != "" && c.Strength != "one" && c.Strength != "two" {
		return nil, fmt.Errorf("%q is no strength; one and two are", c.Strength)
	}
	if c.empty() {
		return nil, nil
	}
	return out, nil
}

func (c *Condition) empty() bool {
	return len(c.Groups)+len(c.Types)+len(c.Providers)+len(c.Networks)+len(c.MailDomains)+len(c.Days) == 0 && c.From == "" &&
		c.Strength == ""
}

func minutes(text string) (int, error) {
	if text == "" {
		return -1, nil
	}
	t, err := time.Parse("15:04", text)
	if err != nil {
		return 0, fmt.Errorf("%q is no time of day; write it such as 08:00", text)
	}
	return t.Hour()*60 + t.Minute(), nil
}
