package trace

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Row is one line of a comparison: what stands at the same place of two records.
type Row struct {
	Step Step   `json:"step"`
	Kind string `json:"kind"` // message, check, value, decision or failure
	Name string `json:"name"`
	A    *Entry `json:"a,omitempty"`
	B    *Entry `json:"b,omitempty"`
	// Difference says in a sentence what differs; empty where nothing does.
	Difference string `json:"difference,omitempty"`
	// Matters is set where the difference can be why one sign-in went otherwise than the other; times, identifiers and
	// the persons' own values don't.
	Matters bool `json:"matters"`
}

// Compare lays two records side by side. Other persons is set where they are of different people, whose values differ
// by nature. The second result is the first row that matters, or -1.
func Compare(a, b []Entry, otherPersons bool) ([]Row, int) {
	keysA, keysB := keysOf(a), keysOf(b)
	inB := make(map[string]int, len(keysB))
	for i, k := range keysB {
		inB[k] = i
	}
	inA := make(map[string]bool, len(keysA))
	for _, k := range keysA {
		inA[k] = true
	}
	var rows []Row
	next := 0 // in b
	only := func(until int) {
		for ; next < until; next++ {
			if !inA[keysB[next]] {
				rows = append(rows, pair(nil, &b[next], otherPersons))
			}
		}
	}
	for i, k := range keysA {
		j, both := inB[k]
		if !both {
			rows = append(rows, pair(&a[i], nil, otherPersons))
			continue
		}
		if j >= next {
			only(j)
			next = j + 1
		}
		rows = append(rows, pair(&a[i], &b[j], otherPersons))
	}
	only(len(keysB))
	return rows, firstThatMatters(rows)
}

// firstThatMatters is the first row that can be why the two went apart: where only one of them failed, that is in the
// step in which it did; else the first of all.
func firstThatMatters(rows []Row) int {
	at := slices.IndexFunc(rows, func(r Row) bool { return r.Kind == "failure" && (r.A == nil) != (r.B == nil) })
	if at >= 0 {
		if i := slices.IndexFunc(rows, func(r Row) bool { return r.Matters && r.Step == rows[at].Step }); i >= 0 {
			return i
		}
	}
	return slices.IndexFunc(rows, func(r Row) bool { return r.Matters })
}

// keysOf names each entry by what it is about, and counts those that stand more than once.
func keysOf(list []Entry) []string {
	seen := map[string]int{}
	var out []string
	for i := range list {
		kind, name := list[i].about()
		k := strings.Join([]string{string(list[i].Step), kind, name}, "\x1f")
		seen[k]++
		out = append(out, fmt.Sprintf("%s\x1f%d", k, seen[k]))
	}
	return out
}

func (e *Entry) about() (kind, name string) {
	switch {
	case e.Message != nil:
		return "message", e.Message.Name + " from " + string(e.Message.From) + " to " + string(e.Message.To)
	case e.Check != nil:
		return "check", e.Check.Name
	case e.Value != nil:
		return "value", e.Value.Rule + " (" + e.Value.Direction + ")"
	case e.Decision != nil:
		return "decision", e.Decision.About
	}
	return "failure", "failure"
}

func pair(a, b *Entry, otherPersons bool) Row {
	one := a
	if one == nil {
		one = b
	}
	kind, name := one.about()
	r := Row{Step: one.Step, Kind: kind, Name: name, A: a, B: b}
	switch {
	case b == nil:
		r.Difference, r.Matters = "It stands in the first only.", kind != "value" || !otherPersons
	case a == nil:
		r.Difference, r.Matters = "It stands in the second only.", kind != "value" || !otherPersons
		if b.Failure != nil {
			r.Difference = "The second ended with " + b.Failure.Code + "."
		}
		if b.Check != nil && !b.Check.OK {
			r.Difference = "The second failed this check; the first has none."
		}
	case a.Message != nil:
		r.messages(a.Message, b.Message)
	case a.Check != nil:
		r.checks(a.Check, b.Check)
	case a.Value != nil:
		if !slices.Equal(a.Value.Output, b.Value.Output) {
			r.Difference, r.Matters = "The values differ: "+shown(
				a.Value.Output,
			)+", then "+shown(
				b.Value.Output,
			)+".", !otherPersons || len(a.Value.Output) == 0 ||
				len(b.Value.Output) == 0
		}
	case a.Decision != nil:
		if a.Decision.Result != b.Decision.Result {
			personal := slices.Contains([]string{"person", "subject", "profile", "groups"}, a.Decision.About)
			r.Difference, r.Matters = "Decided otherwise: "+quoted(
				a.Decision.Result,
			)+", then "+quoted(
				b.Decision.Result,
			)+".", !personal ||
				!otherPersons && a.Decision.About != "profile"
		} else if a.Decision.By != b.Decision.By && a.Decision.By != "" && b.Decision.By != "" {
			r.Difference = "The same, for another reason: " + a.Decision.By + ", then " + b.Decision.By + "."
		}
	case a.Failure.Code != b.Failure.Code:
		r.Difference, r.Matters = "They failed otherwise: "+a.Failure.Code+", then "+b.Failure.Code+".", true
	}
	return r
}

func (r *Row) messages(a, b *Message) {
	for _, f := range [][3]string{{"binding", a.Binding, b.Binding}, {"signature", a.Signature, b.Signature},
		{"address", withoutQuery(a.Address), withoutQuery(b.Address)}} {
		if f[1] != f[2] {
			r.Difference, r.Matters = "Another "+f[0]+": "+quoted(f[1])+", then "+quoted(f[2])+".", true
			return
		}
	}
	if (a.Opened == "") != (b.Opened == "") {
		r.Difference, r.Matters = "One of them was encrypted, the other not.", true
	}
}

func (r *Row) checks(a, b *Check) {
	switch {
	case a.OK && !b.OK:
		r.Difference, r.Matters = "It held in the first, and failed in the second"+cameOf(b)+".", true
	case !a.OK && b.OK:
		r.Difference, r.Matters = "It failed in the first"+cameOf(a)+", and held in the second.", true
	case a.Expected != b.Expected && !volatile(a.Name) && !newEachTime(a.Expected, b.Expected):
		r.Difference = "Something else was expected: " + quoted(a.Expected) + ", then " + quoted(b.Expected) + "."
	case a.Got != b.Got && !volatile(a.Name) && !newEachTime(a.Got, b.Got):
		r.Difference = "Something else came, and was right both times: " + quoted(a.Got) + ", then " + quoted(b.Got) + "."
	}
}

func cameOf(c *Check) string {
	switch {
	case c.Expected != "" && c.Got != "":
		return ": " + quoted(c.Expected) + " was expected, " + quoted(c.Got) + " came"
	case c.Got != "":
		return ": " + quoted(c.Got) + " came"
	case c.Expected != "":
		return ": " + quoted(c.Expected) + " was expected"
	}
	return ""
}

// volatile are checks whose values are new in each sign-in.
func volatile(name string) bool {
	for _, part := range []string{"time", "issued", "expir", "not-before", "not-on", "in-response", "nonce", "state", "replay", "once",
		"hash", "valid"} {
		if strings.Contains(name, part) {
			return true
		}
	}
	return false
}

// newEachTime says of two values that both are times, or identifiers of messages.
func newEachTime(a, b string) bool {
	_, errA := time.Parse(time.RFC3339, a)
	_, errB := time.Parse(time.RFC3339, b)
	return errA == nil && errB == nil || len(a) > 20 && len(b) > 20 && strings.HasPrefix(a, "_") && strings.HasPrefix(b, "_")
}

func withoutQuery(address string) string {
	before, _, _ := strings.Cut(address, "?")
	return before
}

func quoted(s string) string {
	if s == "" {
		return "nothing"
	}
	if r := []rune(s); len(r) > 120 {
		s = string(r[:120]) + "…"
	}
	return "“" + s + "”"
}

func shown(list []string) string {
	if len(list) == 0 {
		return "nothing"
	}
	return quoted(strings.Join(list, ", "))
}
