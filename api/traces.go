package api

import (
	"time"

	"innergate/core/config"
	"innergate/core/refused"
	"innergate/core/trace"
)

// TraceComparison is two traces side by side, the elder first.
type TraceComparison struct {
	A    TraceSummary  `json:"a"`
	B    TraceSummary  `json:"b"`
	Rows []ComparedRow `json:"rows"`
	// First is the row of the first difference that matters, or -1; Words say it.
	First int    `json:"first"`
	Words string `json:"words"`
	// Configuration is what was changed between the two.
	Configuration []ConfigurationChange `json:"configuration"`
}

// ComparedRow is what stands at the same place of two records.
type ComparedRow struct {
	Step       trace.Step  `json:"step"`
	Kind       string      `json:"kind"` // message, check, value, decision or failure
	Name       string      `json:"name"`
	A          *TraceEntry `json:"a,omitempty"`
	B          *TraceEntry `json:"b,omitempty"`
	Difference string      `json:"difference,omitempty"`
	// Matters is set where the difference can be why one went otherwise than the other.
	Matters bool `json:"matters"`
}

// ConfigurationChange is one revision of an object.
type ConfigurationChange struct {
	Object   Reference `json:"object"`
	Revision int       `json:"revision"`
	By       string    `json:"by"`
	At       time.Time `json:"at"`
	Changes  []Change  `json:"changes"`
}

// FollowedTrace is what is new of a trace that somebody follows.
type FollowedTrace struct {
	TraceSummary
	Entries     []TraceEntry      `json:"entries"`
	Explanation *TraceExplanation `json:"explanation,omitempty"`
}

// TraceRetention is how long traces are kept: by age and by count, whichever is reached first.
type TraceRetention struct {
	Days   int        `json:"days"`
	Count  int        `json:"count"`
	Oldest *time.Time `json:"oldest,omitempty"`
}

// Statistics count sign-ins that have ended; rehearsals are left out.
type Statistics struct {
	// Silent are the nodes that did not answer: what they keep is missing.
	Silent   []string  `json:"silent,omitempty"`
	From     time.Time `json:"from"`
	Until    time.Time `json:"until"`
	SignedIn int64     `json:"signedIn"`
	Refused  int64     `json:"refused"`
	// RateNow is the share of refused sign-ins of the last day, RateUsual that of the days before.
	RateNow      *float64      `json:"rateNow,omitempty"`
	RateUsual    *float64      `json:"rateUsual,omitempty"`
	Bucket       string        `json:"bucket"` // hour or day
	Buckets      []CountBucket `json:"buckets"`
	Applications []CountLine   `json:"applications"`
	Providers    []CountLine   `json:"providers"`
	Codes        []CountLine   `json:"codes"`
}

// CountBucket is a span of time.
type CountBucket struct {
	At       time.Time `json:"at"`
	SignedIn int64     `json:"signedIn"`
	Refused  int64     `json:"refused"`
}

// CountLine counts for one application, provider or code.
type CountLine struct {
	Name        string     `json:"name"`
	Slug        string     `json:"slug,omitempty"`
	Title       string     `json:"title,omitempty"`
	SignedIn    int64      `json:"signedIn"`
	Refused     int64      `json:"refused"`
	LastSuccess *time.Time `json:"lastSuccess,omitempty"`
}

// BundleQuestion says what a bundle is about: one sign-in by its reference number, or one application or provider by
// its short name.
type BundleQuestion struct {
	Reference string `json:"reference,omitempty"`
	Kind      string `json:"kind,omitempty"` // application or provider
	Slug      string `json:"slug,omitempty"`
	// Personal leaves names, identifiers and the text of messages in.
	Personal bool `json:"personal,omitempty"`
}

// Bundle is what somebody needs to help with a sign-in or a partner.
type Bundle struct {
	About    string       `json:"about"`
	Made     time.Time    `json:"made"`
	By       string       `json:"by"`
	Gate     string       `json:"gate"`
	Version  string       `json:"version"`
	Runtime  string       `json:"runtime"`
	Personal bool         `json:"personal"`
	Contents []BundlePart `json:"contents"`
	Trace    *Trace       `json:"trace,omitempty"`
	// Application and Provider are the configuration involved.
	Application *config.Application `json:"application,omitempty"`
	Provider    *config.Provider    `json:"provider,omitempty"`
	Findings    []KeptFinding       `json:"findings"`
}

// BundlePart is one thing in a bundle, and what was taken out of it.
type BundlePart struct {
	Name     string `json:"name"`
	What     string `json:"what"`
	Redacted string `json:"redacted"`
}

// Judge asks what would become of a SAML response: one that was pasted, or the one of a trace.
type Judge struct {
	// Message is a SAML response or request (XML, base64, or an address or form that holds it), an ID token, an address
	// with an authentication request or its answer, or a browser's archive of requests (HAR) of up to 2 MiB.
	Message string `json:"message,omitempty"`
	// Trace is a reference number, in place of Message.
	Trace string `json:"trace,omitempty"`
	// Provider and Application are short names; without a provider, the response's issuer tells.
	Provider    string `json:"provider,omitempty"`
	Application string `json:"application,omitempty"`
	// At is the time at which it is judged: a trace's own, or now, without it.
	At *time.Time `json:"at,omitempty"`
	// DraftProvider and DraftApplication stand in for what is live.
	DraftProvider    *config.Provider    `json:"draftProvider,omitempty"`
	DraftApplication *config.Application `json:"draftApplication,omitempty"`
}

// Judged is what would become of it.
type Judged struct {
	// Kind is what it was taken for: SAML response, ID token, AuthnRequest, authentication request or authentication
	// response.
	Kind        string            `json:"kind"`
	Good        bool              `json:"good"`
	At          time.Time         `json:"at"`
	Provider    string            `json:"provider,omitempty"`
	Application string            `json:"application,omitempty"`
	Entries     []TraceEntry      `json:"entries"`
	Explanation *TraceExplanation `json:"explanation,omitempty"`
	// Then is what would follow once every check of the message held.
	Then *Previewed `json:"then,omitempty"`
}

// RefusedThere is what to look at where an application refused what it was sent.
type RefusedThere struct {
	Compare  []refused.Line    `json:"compare"`
	Messages []refused.Message `json:"messages"` // those that fit what it said come first
}
