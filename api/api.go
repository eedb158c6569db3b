// Package api holds the forms in which the management API speaks: requests, answers and problem details (RFC 9457). The
// service answers in them, the typed client and the command line read them, and the OpenAPI description is made from
// them.
package api

import (
	"fmt"
	"time"

	"innergate/core/checkup"
	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/trace"
)

// Problem is an error (RFC 9457).
type Problem struct {
	Type   string           `json:"type"`
	Title  string           `json:"title"`
	Status int              `json:"status"`
	Detail string           `json:"detail,omitempty"`
	Code   string           `json:"code"`
	Remedy string           `json:"remedy,omitempty"`
	Fields []config.Problem `json:"fields,omitempty"`
	// Meanwhile tells of somebody else's change that a change of one's own would have written over.
	Meanwhile *Meanwhile `json:"meanwhile,omitempty"`
}

// Meanwhile is what somebody else changed since the revision that one's own change was made on.
type Meanwhile struct {
	By     string    `json:"by"`
	At     time.Time `json:"at"`
	Number int       `json:"number"`
	Theirs []Change  `json:"theirs"`
	Mine   []Change  `json:"mine"`
	// Both are the fields that both changed.
	Both []string `json:"both"`
}

// Error is the detail, which says what, why and what to do.
func (p *Problem) Error() string {
	text := p.Detail
	if text == "" {
		text = p.Title
	}
	for _, f := range p.Fields {
		text += "\n  " + f.String()
	}
	if p.Remedy != "" {
		text += "\n" + p.Remedy
	}
	if m := p.Meanwhile; m != nil {
		for _, side := range []struct {
			head string
			list []Change
		}{{"What " + m.By + " changed:", m.Theirs}, {"What you wanted to change:", m.Mine}} {
			text += "\n" + side.head
			for _, c := range side.list[:min(len(side.list), 10)] {
				text += fmt.Sprintf("\n  %s: %.80s → %.80s", c.Field, c.Before, c.After)
			}
		}
	}
	return text
}

// List is one page of a list. Next, if not empty, is the value of "after" for the next page.
type List[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty"`
	// Cut is set where more is found than is looked at: a longer text finds the rest.
	Cut bool `json:"cut,omitempty"`
	// Silent are the nodes that did not answer: what they keep is missing.
	Silent []string `json:"silent,omitempty"`
}

// Finding is something that the checkup found.
type Finding = checkup.Finding

// Station is one place on the passage.
type Station = checkup.Station

// Application is an application with what is known about it.
type Application struct {
	ID string `json:"id"`
	config.Application
	Revision    int                 `json:"revision"`
	Created     time.Time           `json:"created"`
	Updated     time.Time           `json:"updated"`
	LastSignIn  *time.Time          `json:"lastSignIn,omitempty"`
	Missing     []string            `json:"missing"`
	Stations    []Station           `json:"stations,omitempty"`
	Findings    []Finding           `json:"findings,omitempty"`
	Keys        []CertificateDetail `json:"certificateDetails,omitempty"`
	ProvidedBy  []Reference         `json:"providedBy,omitempty"`
	Watch       *Watch              `json:"watch,omitempty"`
	Secrets     []Secret            `json:"secrets,omitempty"`
	StartOurs   string              `json:"startOurs"`
	ProposedURL string              `json:"proposedStartUrl,omitempty"`
}

// Reference names another object.
type Reference struct {
	Slug     string `json:"slug"`
	Name     string `json:"name"`
	Kind     string `json:"kind"`
	Reach    string `json:"reach"`
	EntityID string `json:"entityId,omitempty"`
}

// Provider is a provider with what is known about it.
type Provider struct {
	ID string `json:"id"`
	config.Provider
	Revision   int                 `json:"revision"`
	Created    time.Time           `json:"created"`
	Updated    time.Time           `json:"updated"`
	LastSignIn *time.Time          `json:"lastSignIn,omitempty"`
	Missing    []string            `json:"missing"`
	Stations   []Station           `json:"stations,omitempty"`
	Findings   []Finding           `json:"findings,omitempty"`
	Keys       []CertificateDetail `json:"certificateDetails,omitempty"`
	Serves     []Reference         `json:"serves,omitempty"`
	Watch      *Watch              `json:"watch,omitempty"`
	Secrets    []Secret            `json:"secrets,omitempty"`
}

// CertificateDetail describes a trusted certificate.
type CertificateDetail struct {
	Use string `json:"use"`
	keys.Description
}

// NewRehearsal orders a rehearsal.
type NewRehearsal struct {
	// Application may be empty where a provider is tried alone; then nothing is made of what it sends.
	Application string `json:"application,omitempty"`
	// Provider is needed where the application has several.
	Provider string `json:"provider,omitempty"`
	// Flow is sp (begin at the application) or idp (an unsolicited response).
	Flow string `json:"flow"`
	To   string `json:"to,omitempty"`
	// KeepSession does not demand a fresh sign-in at the provider.
	KeepSession bool `json:"keepSession,omitempty"`
	// Stop ends it at the gate, once everything is known that the application would get; nothing goes to the
	// application.
	Stop bool `json:"stop,omitempty"`
	// Second is an application that is opened after the first one; it must ask nothing.
	Second string `json:"second,omitempty"`
	// SignOut ends it with signing out of everything that it went to.
	SignOut bool `json:"signOut,omitempty"`
	// KeepPerson makes and changes the person as a real sign-in would; otherwise nobody is touched.
	KeepPerson bool `json:"keepPerson,omitempty"`
	// Scopes are asked of an OpenID or OAuth provider in place of those that are set.
	Scopes []string `json:"scopes,omitempty"`
	// Proposal has a proposed change hold in the rehearsal, and nowhere else.
	Proposal string `json:"proposal,omitempty"`
	// Hours is how long the link is good, from 1 (the usual) to 72.
	Hours int `json:"hours,omitempty"`
}

// Rehearsal is a test sign-in. Link is shown once.
type Rehearsal struct {
	ID          string         `json:"id"`
	Application string         `json:"application"`
	Provider    string         `json:"provider,omitempty"`
	Flow        string         `json:"flow"`
	Second      string         `json:"second,omitempty"`
	SignOut     bool           `json:"signOut,omitempty"`
	KeepPerson  bool           `json:"keepPerson,omitempty"`
	By          string         `json:"by"`
	Created     time.Time      `json:"created"`
	Expires     time.Time      `json:"expires"`
	Link        string         `json:"link,omitempty"`
	Traces      []TraceSummary `json:"traces"`
}

// TraceSummary is a trace's line in a list.
type TraceSummary struct {
	// Node is the address of the node that keeps it, where there are some.
	Node            string    `json:"node,omitempty"`
	Reference       string    `json:"reference"`
	Application     string    `json:"application"`
	ApplicationSlug string    `json:"applicationSlug,omitempty"`
	Provider        string    `json:"provider"`
	ProviderSlug    string    `json:"providerSlug,omitempty"`
	Person          string    `json:"person,omitempty"`
	Flow            string    `json:"flow"`
	Outcome         string    `json:"outcome"` // open, waiting, signed-in, not-taken-up, refused, stopped or signed-out
	Code            string    `json:"code,omitempty"`
	Title           string    `json:"title,omitempty"`
	Rehearsal       bool      `json:"rehearsal"`
	Started         time.Time `json:"started"`
	Micros          int64     `json:"micros"`
}

// Trace is the whole record of a sign-in.
type Trace struct {
	TraceSummary
	Entries        []TraceEntry      `json:"entries"`
	Explanation    *TraceExplanation `json:"explanation,omitempty"`
	ProviderMicros int64             `json:"providerMicros"`
}

// TraceEntry is an entry with its messages made readable.
type TraceEntry struct {
	trace.Entry
	Decoded string `json:"decoded,omitempty"`
	Opened  string `json:"opened,omitempty"`
}

// TraceExplanation explains what ended a sign-in, with the differences between values that should have been equal.
type TraceExplanation struct {
	explain.Explanation
	Evidence    []trace.Evidence     `json:"evidence"`
	Differences []explain.Difference `json:"differences"`
}

// JournalEntry is a line of the journal.
type JournalEntry struct {
	Number int64     `json:"number"`
	At     time.Time `json:"at"`
	Who    string    `json:"who"`
	WhoID  string    `json:"whoId,omitempty"` // who it was, whatever they were called
	From   string    `json:"from"`
	Action string    `json:"action"`
	Kind   string    `json:"kind"`
	Object string    `json:"object"`
	Before string    `json:"before,omitempty"`
	After  string    `json:"after,omitempty"`
	Hash   string    `json:"hash"`
}

// Administrator may use the console.
type Administrator struct {
	ID         string     `json:"id"`
	Name       string     `json:"name"`
	Role       string     `json:"role"`
	Created    time.Time  `json:"created"`
	LastSignIn *time.Time `json:"lastSignIn,omitempty"`
	// Applications are those that an assigner may assign people to, by short name.
	Applications []string `json:"applications,omitempty"`
}

// NewAdministrator adds one.
type NewAdministrator struct {
	Name     string `json:"name"`
	Role     string `json:"role"`
	Password string `json:"password"`
	// Applications are those that an assigner may assign people to, by short name.
	Applications []string `json:"applications,omitempty"`
}

// ChangeAdministrator changes the fields that are set.
type ChangeAdministrator struct {
	Role     string `json:"role,omitempty"`
	Password string `json:"password,omitempty"`
	// Applications are those that an assigner may assign people to, by short name.
	Applications []string `json:"applications,omitempty"`
}

// Token is an API token. Secret is shown once.
type Token struct {
	ID       string     `json:"id"`
	Name     string     `json:"name"`
	Role     string     `json:"role"`
	By       string     `json:"by"`
	Created  time.Time  `json:"created"`
	Expires  *time.Time `json:"expires,omitempty"`
	LastUsed *time.Time `json:"lastUsed,omitempty"`
	Secret   string     `json:"secret,omitempty"`
	// Applications are those that an assigner may assign people to, by short name.
	Applications []string `json:"applications,omitempty"`
}

// NewToken makes one. Days is its life; 0 means no end.
type NewToken struct {
	Name string `json:"name"`
	Role string `json:"role"`
	Days int    `json:"days,omitempty"`
	// Applications are those that an assigner may assign people to, by short name.
	Applications []string `json:"applications,omitempty"`
}

// Setup makes the first administrator, with the one-time token that the service printed.
type Setup struct {
	Token    string `json:"token"`
	Name     string `json:"name"`
	Password string `json:"password"`
}

// SignIn is an administrator's sign-in.
type SignIn struct {
	Name     string `json:"name"`
	Password string `json:"password"`
}

// Me is who is asking.
type Me struct {
	Name string `json:"name"`
	Role string `json:"role"`
	// CSRF must come back in the header X-Innergate-CSRF with every changing call that is made with a cookie.
	CSRF string `json:"csrf,omitempty"`
	Kind string `json:"kind"` // administrator or token
	// Applications are those that an assigner may assign people to, by short name.
	Applications []string `json:"applications,omitempty"`
}

// Overview is the console's first page.
type Overview struct {
	PublicURL    string            `json:"publicUrl"`
	Version      string            `json:"version"`
	Applications int               `json:"applications"`
	Providers    int               `json:"providers"`
	More         bool              `json:"more"` // the counts are only the first thousand
	Recent       []TraceSummary    `json:"recent"`
	Findings     []OverviewFinding `json:"findings"`
	SignedIn     int               `json:"signedIn"` // in the last day, at most a thousand looked at
	Refused      int               `json:"refused"`
}

// OverviewFinding is a finding with the object that it is about.
type OverviewFinding struct {
	Finding
	Kind string `json:"kind"` // application, provider or key
	Slug string `json:"slug"`
	Name string `json:"name"`
}

// Compare asks for the exact comparison of two values.
type Compare struct {
	Ours   string `json:"ours"`
	Theirs string `json:"theirs"`
}

// Decode asks to make a message readable.
type Decode struct {
	Text string `json:"text"`
}

// Decoded is a message made readable. Nothing in it was verified.
type Decoded struct {
	Kind       string            `json:"kind"`
	Binding    string            `json:"binding,omitempty"`
	Message    string            `json:"message,omitempty"`
	Text       string            `json:"text"`
	RelayState string            `json:"relayState,omitempty"`
	Signed     string            `json:"signed,omitempty"`
	Notes      []string          `json:"notes,omitempty"`
	Parameters map[string]string `json:"parameters,omitempty"`
}

// FoundItem is one answer of the search over everything.
type FoundItem struct {
	Kind string `json:"kind"`
	Name string `json:"name"`
	Hint string `json:"hint"`
	Path string `json:"path"` // in the console
}

// NotFound reports whether the problem is that something is not there.
func (p *Problem) NotFound() bool { return p.Status == 404 }

// Secret is a client secret: one of ours, given to an application, or one that a provider gave us. The secret itself
// stands in it only once, when one of ours has been made.
type Secret struct {
	ID       string     `json:"id"`
	State    string     `json:"state"`
	Secret   string     `json:"secret,omitempty"`
	Hint     string     `json:"hint,omitempty"`
	By       string     `json:"by"`
	Created  time.Time  `json:"created"`
	Expires  *time.Time `json:"expires,omitempty"`
	LastUsed *time.Time `json:"lastUsed,omitempty"`
	TriedAt  *time.Time `json:"triedAt,omitempty"`
	Tried    string     `json:"tried,omitempty"`
	// Keytab is what a Kerberos keytab holds, without its keys.
	Keytab []KeytabKey `json:"keytab,omitempty"`
}

// KeytabKey is what may be shown of one key of a keytab; Unfit says why nothing is opened with it.
type KeytabKey struct {
	Service    string    `json:"service"`
	Realm      string    `json:"realm"`
	Version    int       `json:"version"`
	Encryption string    `json:"encryption"`
	Made       time.Time `json:"made"`
	Unfit      string    `json:"unfit,omitempty"`
}

// NewSecret orders a client secret for an application; 0 days is without an end.
type NewSecret struct {
	Days int `json:"days,omitempty"`
}

// TheirSecret is a secret that a provider gave us.
type TheirSecret struct {
	Value   string     `json:"value"`
	Expires *time.Time `json:"expires,omitempty"`
}

// TriedSecret tells what came of trying a secret: taken, refused or unclear.
type TriedSecret struct {
	Result string `json:"result"`
	Text   string `json:"text"`
	Code   string `json:"code,omitempty"`
	Remedy string `json:"remedy,omitempty"`
}

// ConsoleAccess says who may come in to the console and the command line through providers. Without a rule that fits,
// nobody does.
type ConsoleAccess struct {
	Rules []AccessRule `json:"rules"`
	// Unconfirmed are providers that give no role, since somebody who is no owner has changed them. Saving the rules again
	// confirms them. It is told, and not taken.
	Unconfirmed []string `json:"unconfirmed,omitempty"`
}

// AccessRule gives a role to everybody for whom a provider vouches and whose profile has a value.
type AccessRule struct {
	Provider  string `json:"provider"`
	Attribute string `json:"attribute"`
	Value     string `json:"value"`
	Role      string `json:"role"`
}

// Switch is a setting that is on or off.
type Switch struct {
	On bool `json:"on"`
}
