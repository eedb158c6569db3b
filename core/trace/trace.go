// Package trace holds the complete record of one sign-in: every message, check, mapped value and decision in order,
// with times, and the failure that ended it, if one did. A Recorder is handed down through the sign-in; its methods may
// be called on nil, which records nothing.
package trace

import "time"

// Step is the part of the sign-in engine that an entry belongs to.
type Step string

// The steps of a sign-in, in their order.
const (
	Ask     Step = "ask"
	Route   Step = "route"
	Send    Step = "send"
	Receive Step = "receive"
	Match   Step = "match"
	Decide  Step = "decide"
	Issue   Step = "issue"
)

// Steps lists the steps in the order in which a sign-in passes them.
var Steps = []Step{Ask, Route, Send, Receive, Match, Decide, Issue}

// Entry is one thing that happened. Exactly one of the pointers is set.
type Entry struct {
	// At is the time since the sign-in began, in microseconds.
	At       int64     `json:"at"`
	Step     Step      `json:"step"`
	Message  *Message  `json:"message,omitempty"`
	Check    *Check    `json:"check,omitempty"`
	Value    *Value    `json:"value,omitempty"`
	Decision *Decision `json:"decision,omitempty"`
	Failure  *Failure  `json:"failure,omitempty"`
}

// Party names who sends or receives a message.
type Party string

// The parties of a sign-in.
const (
	Application Party = "application"
	Gate        Party = "gate"
	Provider    Party = "provider"
	Person      Party = "person"
)

// Message is something that went between two parties.
type Message struct {
	From    Party  `json:"from"`
	To      Party  `json:"to"`
	Name    string `json:"name"`    // the protocol's own name, such as AuthnRequest
	Binding string `json:"binding"` // such as HTTP-Redirect
	Address string `json:"address,omitempty"`
	// Raw is the document once the binding's own encoding is undone; Opened is what stood inside its encrypted parts.
	Raw        string `json:"raw,omitempty"`
	Opened     string `json:"opened,omitempty"`
	RelayState string `json:"relayState,omitempty"`
	Signature  string `json:"signature,omitempty"` // in words, such as "RSA-SHA256 over the query"
	Size       int    `json:"size"`
}

// Check is one comparison or rule, and how it came out.
type Check struct {
	Name     string `json:"name"` // stable, such as saml.audience
	Text     string `json:"text"`
	Section  string `json:"section"` // of the standard
	Expected string `json:"expected,omitempty"`
	Got      string `json:"got,omitempty"`
	OK       bool   `json:"ok"`
}

// Value is one mapped value: the rule that set it, what went in, what each step made of it and what came out.
type Value struct {
	Direction string     `json:"direction"` // in or out
	Rule      string     `json:"rule"`
	From      string     `json:"from,omitempty"`
	Input     []string   `json:"input"`
	Steps     []StepDone `json:"steps,omitempty"`
	Output    []string   `json:"output"`
	Personal  bool       `json:"personal,omitempty"`
	// Withheld says why the value goes nowhere, or not where this part of the trace is about; empty where it goes.
	Withheld string `json:"withheld,omitempty"`
}

// StepDone is one step of a mapping rule and the values after it.
type StepDone struct {
	Step   string   `json:"step"`
	Values []string `json:"values"`
}

// Decision is a choice that the gate made, by which rule, and what was passed over.
type Decision struct {
	About  string   `json:"about"` // provider, person, access, subject, rehearsal
	Result string   `json:"result"`
	By     string   `json:"by,omitempty"`
	Passed []string `json:"passed,omitempty"`
}

// Failure names the explanation for what ended the sign-in.
type Failure struct {
	Code     string     `json:"code"`
	Partner  string     `json:"partner,omitempty"`
	Evidence []Evidence `json:"evidence,omitempty"`
}

// Evidence is one pair of values that should have agreed, or one fact (Expected empty).
type Evidence struct {
	Label    string `json:"label"`
	Expected string `json:"expected,omitempty"`
	Got      string `json:"got,omitempty"`
}

// Recorder collects the entries of one sign-in. It is not safe for use by several goroutines at once.
type Recorder struct {
	begin   time.Time
	now     func() time.Time
	step    Step
	entries []Entry
}

// NewRecorder starts a record. Begin is when the sign-in began, which may have been in an earlier request.
func NewRecorder(begin time.Time, now func() time.Time) *Recorder {
	return &Recorder{begin: begin, now: now, step: Ask, entries: make([]Entry, 0, 48)}
}

// Begin enters a step; what follows belongs to it.
func (r *Recorder) Begin(s Step) {
	if r != nil {
		r.step = s
	}
}

// Step is the step that the sign-in is in.
func (r *Recorder) Step() Step {
	if r == nil {
		return ""
	}
	return r.step
}

// Entries returns what was recorded so far.
func (r *Recorder) Entries() []Entry {
	if r == nil {
		return nil
	}
	return r.entries
}

func (r *Recorder) add(e Entry) {
	if r == nil {
		return
	}
	e.At, e.Step = r.now().Sub(r.begin).Microseconds(), r.step
	r.entries = append(r.entries, e)
}

// Message records a message.
func (r *Recorder) Message(m Message) {
	if r == nil {
		return
	}
	m.Size = len(m.Raw)
	r.add(Entry{Message: &m})
}

// Check records a check and returns whether it held.
func (r *Recorder) Check(c Check) bool {
	if r != nil {
		r.add(Entry{Check: &c})
	}
	return c.OK
}

// Value records a mapped value. It must not change afterwards.
func (r *Recorder) Value(v *Value) {
	if r != nil {
		r.add(Entry{Value: v})
	}
}

// Withhold marks the value that a rule of a direction gave last as one that is not sent, and why.
func (r *Recorder) Withhold(direction, rule, why string) {
	if r == nil {
		return
	}
	for i := len(r.entries) - 1; i >= 0; i-- {
		if v := r.entries[i].Value; v != nil && v.Direction == direction && v.Rule == rule {
			marked := *v
			marked.Withheld = why
			r.entries[i].Value = &marked
			return
		}
	}
}

// Decide records a decision.
func (r *Recorder) Decide(d Decision) {
	if r != nil {
		r.add(Entry{Decision: &d})
	}
}

// Fail records what ended the sign-in.
func (r *Recorder) Fail(f Failure) {
	if r != nil {
		r.add(Entry{Failure: &f})
	}
}

// Resume puts the entries of an earlier part of the same sign-in before what is recorded from now on.
func (r *Recorder) Resume(earlier []Entry) {
	if r != nil {
		r.entries = append(earlier, r.entries...)
	}
}
