// Package moves decides about moving applications from one provider to another: whether an application is ready for it,
// how what it would get of a person differs, and when a wave must go back. It is pure: what is known of applications,
// providers and sign-ins is handed in.
package moves

import (
	"fmt"
	"slices"
	"strings"

	"innergate/core/claims"
)

// Given is what an application gets, or would get, of a person.
type Given struct {
	// Person is the gate's own identifier of the person; empty for somebody who is not known.
	Person string `json:"person,omitempty"`
	// Subject is the identifier in the NameID or in sub, Source where it comes from: profile, pairwise, public or
	// transient.
	Subject string     `json:"subject"`
	Source  string     `json:"source"`
	Claims  claims.Bag `json:"claims"`
}

// Difference is one value that is another one. Name is a claim's, or subject.
type Difference struct {
	Name string   `json:"name"`
	Was  []string `json:"was"`
	Is   []string `json:"is"`
}

// String is the difference in words.
func (d Difference) String() string {
	words := func(list []string) string {
		if len(list) == 0 {
			return "nothing"
		}
		return strings.Join(list, ", ")
	}
	return fmt.Sprintf("%s was %s, and is %s", d.Name, words(d.Was), words(d.Is))
}

// Subject is the name of the difference by which somebody is another user to the application.
const Subject = "subject"

// Compare holds what an application would get through the new provider against what it got through the old one. The
// order of several values does not count. Random identifiers belong to a person, so they differ exactly when the
// persons do; transient ones are never compared.
func Compare(was, is Given) []Difference {
	out := []Difference{}
	switch is.Source {
	case "transient":
	case "pairwise", "public":
		if was.Person != is.Person || is.Person == "" {
			out = append(
				out,
				Difference{Subject, []string{"that of the person as known here"}, []string{"a new one: this is somebody else here"}},
			)
		}
	default:
		if was.Subject != is.Subject {
			out = append(out, Difference{Subject, []string{was.Subject}, []string{is.Subject}})
		}
	}
	names := was.Claims.Names()
	for _, n := range is.Claims.Names() {
		if !slices.Contains(names, n) {
			names = append(names, n)
		}
	}
	slices.Sort(names)
	for _, n := range names {
		if !sameValues(was.Claims[n], is.Claims[n]) {
			out = append(out, Difference{n, slices.Clone(was.Claims[n]), slices.Clone(is.Claims[n])})
		}
	}
	return out
}

func sameValues(a, b []string) bool {
	a, b = slices.Clone(a), slices.Clone(b)
	slices.Sort(a)
	slices.Sort(b)
	return slices.Equal(a, b)
}

// Limits are how much a wave bears while its window is open: so many failed sign-ins, and so many people for whom
// something differs. The next one sends it back.
type Limits struct {
	Failures    int `json:"failures"`
	Differences int `json:"differences"`
}

// Count is what has come of a wave so far.
type Count struct {
	SignedIn int `json:"signedIn"`
	Failed   int `json:"failed"`
	Differed int `json:"differed"`
}

// Over says why a wave must go back, or nothing.
func (l Limits) Over(c Count) string {
	switch {
	case c.Differed > l.Differences:
		return fmt.Sprintf("something differs for %s; %d at most were to be borne", counted(c.Differed, "person", "people"), l.Differences)
	case c.Failed > l.Failures:
		return fmt.Sprintf(
			"%s failed, against %d that came out well; %d at most were to be borne",
			counted(c.Failed, "sign-in", "sign-ins"), c.SignedIn, l.Failures,
		)
	}
	return ""
}

func counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// How ready an application is.
const (
	Ready   = "ready"
	Look    = "look"    // something should be looked at first
	Blocked = "blocked" // sign-ins would fail
)

// Side is what a provider gives: which attributes of the profile its mapping sets, each with where it comes from, and
// which of them a sign-in fails without.
type Side struct {
	Name     string
	Sets     map[string]string
	Missing  []string // what is missing before it can be used at all
	Open     bool     // it serves people
	Matching []string // the ways by which it finds people who are known, besides links
	Admits   bool     // it makes people who are not known
}

// Need is an attribute that the application is made of.
type Need struct {
	Attribute string `json:"attribute"`
	// As are the claims that are made of it, and subject where it identifies the person.
	As       []string `json:"as"`
	Required bool     `json:"required"`
	// From and To are where the old and the new provider take it from; empty where they don't give it.
	From string `json:"from"`
	To   string `json:"to"`
}

// People is what is known of those who use the application through the old provider.
type People struct {
	All    int `json:"all"`
	Linked int `json:"linked"` // the new provider knows them already: a link is there
	Found  int `json:"found"`  // would be found by value at their first sign-in
	// Strangers would be somebody new, or be refused; Doubtful could be found, but share the value with somebody.
	Strangers int `json:"strangers"`
	Doubtful  int `json:"doubtful"`
}

// Verdict is how ready an application is, and why not more.
type Verdict struct {
	State string   `json:"state"`
	Why   []string `json:"why"`
}

// own are the attributes that the gate itself knows, whatever provider vouches.
var own = []string{"memberships", "person_type", "assigned_roles"}

// Needs lists the attributes that an application's mapping and subject are made of, and which side gives them.
func Needs(mapping claims.Mapping, subjectSource, subjectFrom string, from, to Side) []Need {
	out := []Need{}
	need := func(attribute, as string, required bool) {
		if attribute == "" || slices.Contains(own, attribute) {
			return
		}
		i := slices.IndexFunc(out, func(n Need) bool { return n.Attribute == attribute })
		if i < 0 {
			out = append(out, Need{Attribute: attribute, From: from.Sets[attribute], To: to.Sets[attribute]})
			i = len(out) - 1
		}
		out[i].Required = out[i].Required || required
		if !slices.Contains(out[i].As, as) {
			out[i].As = append(out[i].As, as)
		}
	}
	if subjectSource == "" || subjectSource == "profile" {
		need(subjectFrom, Subject, true)
	}
	for _, r := range mapping {
		for _, name := range r.From {
			need(name, r.Set, r.Required && len(r.From) == 1)
		}
	}
	return out
}

// Judge says how ready an application is.
func Judge(needs []Need, p People, subjectSource string, rulesNaming []string, from, to Side) Verdict {
	v := Verdict{State: Ready, Why: []string{}}
	say := func(state, format string, args ...any) {
		v.Why = append(v.Why, fmt.Sprintf(format, args...))
		if v.State != Blocked {
			v.State = state
		}
	}
	if len(to.Missing) > 0 {
		say(Blocked, "%s is not complete: %s", to.Name, to.Missing[0])
	}
	if !to.Open {
		say(Blocked, "%s does not serve people yet", to.Name)
	}
	for _, n := range needs {
		switch {
		case n.To == "" && n.From != "" && n.Required:
			say(Blocked, "%s gives no %s, which the application can't do without (%s)", to.Name, n.Attribute, strings.Join(n.As, ", "))
		case n.To == "" && n.From != "":
			say(
				Look, "%s gives no %s; %s would stay as it is for people who are known, and be missing for new ones",
				to.Name, n.Attribute, strings.Join(n.As, ", "),
			)
		}
	}
	if p.Strangers > 0 && !to.Admits {
		say(
			Blocked, "%s of %d can't be found when they come from %s, and it admits no strangers",
			counted(p.Strangers, "person", "people"), p.All, to.Name,
		)
	} else if p.Strangers > 0 {
		say(Look, "%s of %d would be somebody new when they come from %s, and another user at the application",
			counted(p.Strangers, "person", "people"), p.All, to.Name)
	}
	if p.Doubtful > 0 {
		say(
			Look, "%s of %d share the value by which they would be found with somebody else",
			counted(p.Doubtful, "person", "people"), p.All,
		)
	}
	for _, r := range rulesNaming {
		say(Look, "%s", r)
	}
	if i := slices.IndexFunc(needs, func(n Need) bool { return slices.Contains(n.As, Subject) && n.To != "" && n.From != "" }); i >= 0 {
		say(
			Look,
			"people are known to the application by %s, which %s sends as well: let some sign in both ways and compare",
			needs[i].Attribute, to.Name,
		)
	}
	return v
}
