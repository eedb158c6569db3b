package access

import (
	"fmt"
	"hash/fnv"
	"net/netip"
	"slices"
	"strings"

	"innergate/core/explain"
)

// Circle is a chosen few. Whoever fits one of its lists, or falls into the share, is in, unless an exception fits:
// exceptions win.
type Circle struct {
	Groups   []string `json:"groups,omitempty"`   // the gate's groups, by short name
	People   []string `json:"people,omitempty"`   // by user name, mail address or ID
	Networks []string `json:"networks,omitempty"` // in CIDR form
	// Share is a share of all people in percent, stable for each person and different for each application.
	Share  int         `json:"share,omitempty"`
	Except *Exceptions `json:"except,omitempty"`
	// Instead is the short name of the provider that people outside are sent to, in the circle of a provider; empty for
	// a plain page.
	Instead string `json:"instead,omitempty"`
}

// Exceptions are people, groups and networks that are outside whatever else is said.
type Exceptions struct {
	Groups   []string `json:"groups,omitempty"`
	People   []string `json:"people,omitempty"`
	Networks []string `json:"networks,omitempty"`
}

// Who is what is known of somebody before or after they have signed in.
type Who struct {
	// Known is set once it is known who it is; then the rest counts.
	Known                    bool
	ID, Username, Mail, Name string
	Groups                   []string
	Network                  netip.Addr
}

// Verdict says whether somebody is in a circle.
type Verdict int

// The verdicts. Open means that it can't be said before somebody says who they are.
const (
	Outside Verdict = iota
	Inside
	Open
)

// Holds decides whether a circle holds somebody, and says why. Salt is the short name of what the circle is of, so that
// shares of several differ.
func (c *Circle) Holds(w Who, salt string) (Verdict, string) {
	if c == nil {
		return Outside, "the circle is empty"
	}
	if x := c.Except; x != nil {
		if n := inNetworks(x.Networks, w.Network); n != "" {
			return Outside, "the network " + n + " is an exception"
		}
		if w.Known {
			if named(x.People, w) {
				return Outside, "the person is an exception"
			}
			if g := common(x.Groups, w.Groups); g != "" {
				return Outside, "the group " + g + " is an exception"
			}
		}
	}
	excepted := c.Except != nil && len(c.Except.People)+len(c.Except.Groups) > 0
	if n := inNetworks(c.Networks, w.Network); n != "" && (w.Known || !excepted) {
		return Inside, "from the network " + n
	}
	if !w.Known {
		if len(c.Groups)+len(c.People) > 0 || c.Share > 0 || excepted && len(c.Networks) > 0 {
			return Open, "it depends on who signs in"
		}
		return Outside, "from no network of the circle"
	}
	if named(c.People, w) {
		return Inside, "named in the circle"
	}
	if g := common(c.Groups, w.Groups); g != "" {
		return Inside, "in the group " + g
	}
	if c.Share > 0 && share(salt, w.ID) < c.Share {
		return Inside, fmt.Sprintf("in the share of %d %%", c.Share)
	}
	return Outside, "in none of the circle's groups, people, networks or its share"
}

// share is a person's place between 0 and 99, the same each time.
func share(salt, id string) int {
	h := fnv.New64a()
	h.Write([]byte(salt + "\x1f" + id))
	x := h.Sum64()
	x ^= x >> 33
	x *= 0xff51afd7ed558ccd
	x ^= x >> 33
	return int(x % 100)
}

func named(list []string, w Who) bool {
	return slices.ContainsFunc(list, func(v string) bool {
		return v == w.ID && v != "" || w.Username != "" && strings.EqualFold(v, w.Username) || w.Mail != "" && strings.EqualFold(v, w.Mail)
	})
}

func common(a, b []string) string {
	for _, v := range a {
		if slices.Contains(b, v) {
			return v
		}
	}
	return ""
}

func inNetworks(list []string, at netip.Addr) string {
	if !at.IsValid() {
		return ""
	}
	for _, n := range list {
		if p, err := network(n); err == nil && p.Contains(at.Unmap()) {
			return n
		}
	}
	return ""
}

func network(text string) (netip.Prefix, error) {
	p, err := netip.ParsePrefix(text)
	if err != nil {
		a, aerr := netip.ParseAddr(text)
		if aerr != nil {
			return p, fmt.Errorf("%q is no network; write it such as 10.20.0.0/16", text)
		}
		p = netip.PrefixFrom(a, a.BitLen())
	}
	return p.Masked(), nil
}

// Check says what is wrong with a circle, or returns nil.
func (c *Circle) Check() error {
	if c == nil {
		return fmt.Errorf("who is in the circle is missing")
	}
	lists := [][]string{c.Groups, c.People, c.Networks}
	networks := slices.Clone(c.Networks)
	if c.Except != nil {
		lists = append(lists, c.Except.Groups, c.Except.People, c.Except.Networks)
		networks = append(networks, c.Except.Networks...)
	}
	for _, l := range lists {
		if len(l) > 1000 {
			return fmt.Errorf("a list has %d entries; 1,000 are the most", len(l))
		}
		if slices.ContainsFunc(l, func(v string) bool { return strings.TrimSpace(v) == "" }) {
			return fmt.Errorf("an entry of a list is empty")
		}
	}
	for _, n := range networks {
		if _, err := network(n); err != nil {
			return err
		}
	}
	if c.Share < 0 || c.Share > 100 {
		return fmt.Errorf("a share is 0 to 100 percent, not %d", c.Share)
	}
	if len(c.Groups)+len(c.People)+len(c.Networks) == 0 && c.Share == 0 {
		return fmt.Errorf("nobody is in the circle; name groups, people, networks or a share")
	}
	return nil
}

// InWords says who is in, for people.
func (c *Circle) InWords() string {
	if c == nil {
		return "nobody"
	}
	parts := listed(c.Groups, c.People, c.Networks)
	if c.Share > 0 {
		parts = append(parts, fmt.Sprintf("%d %% of all people", c.Share))
	}
	out := strings.Join(parts, "; ")
	if x := c.Except; x != nil {
		out += "; but not " + strings.Join(listed(x.Groups, x.People, x.Networks), ", ")
	}
	return out
}

func listed(groups, people, networks []string) []string {
	var out []string
	for _, one := range []struct {
		words [2]string
		list  []string
	}{{[2]string{"the group ", "the groups "}, groups}, {[2]string{"", ""}, people},
		{[2]string{"the network ", "the networks "}, networks}} {
		if n := len(one.list); n > 0 {
			out = append(out, one.words[min(n, 2)-1]+strings.Join(one.list, ", "))
		}
	}
	return out
}

// AsksWho says whether a circle depends on who somebody is.
func (c *Circle) AsksWho() bool {
	return c != nil && (len(c.Groups)+len(c.People) > 0 || c.Share > 0 || c.Except != nil && len(c.Except.Groups)+len(c.Except.People) > 0)
}

// Admits decides whether a sign-in may go on, with what is known of the person so far. Where that can't be said yet, it
// may; it is asked again later.
func (r Reach) Admits(c *Circle, w Who, kind, partner, salt string, rehearsal bool) error {
	if r != InCircle || rehearsal {
		return r.Serves(kind, partner, rehearsal)
	}
	verdict, why := c.Holds(w, salt)
	if verdict == Outside {
		return explain.New(reachCode(kind, "circle"), explain.Fact("reason", why)).Of(partner)
	}
	return nil
}
