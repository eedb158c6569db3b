package api

import (
	"time"

	"innergate/core/checkup"
)

// KeptFinding is what a checkup found.
type KeptFinding struct {
	checkup.Finding
	ID   string `json:"id"`
	Kind string `json:"kind"` // application, provider, source or key
	Slug string `json:"slug"`
	Name string `json:"name"`
	// FirstSeen and LastSeen are times of checkups.
	FirstSeen time.Time `json:"firstSeen"`
	LastSeen  time.Time `json:"lastSeen"`
	Accepted  *Accepted `json:"accepted,omitempty"`
	// Correctable tells that the gate knows a change that would settle it.
	Correctable bool `json:"correctable"`
}

// Accepted says who lives with a finding, why and until when.
type Accepted struct {
	By     string    `json:"by"`
	Reason string    `json:"reason"`
	Until  time.Time `json:"until"`
}

// AcceptFinding accepts a finding.
type AcceptFinding struct {
	Reason string `json:"reason"`
	// Until is at most a year ahead.
	Until time.Time `json:"until"`
}

// CheckupResult is what a checkup of the whole configuration found.
type CheckupResult struct {
	At      time.Time `json:"at"`
	Objects int       `json:"objects"`
	Millis  int64     `json:"millis"`
	// Broken, Attention and Remarks count the findings that nobody accepted.
	Broken    int           `json:"broken"`
	Attention int           `json:"attention"`
	Remarks   int           `json:"remarks"`
	Accepted  int           `json:"accepted"`
	Findings  []KeptFinding `json:"findings"`
}

// Correction is a change that would settle a finding.
type Correction struct {
	Words   string   `json:"words"`
	Changes []Change `json:"changes"`
	// Revision is the object's, to be given back when the correction is made.
	Revision int `json:"revision"`
}

// Correct makes a correction that was looked at.
type Correct struct {
	Revision int `json:"revision"`
}

// OutsideHost is how a partner's host was found.
type OutsideHost struct {
	Origin   string      `json:"origin"`
	UsedBy   []Reference `json:"usedBy"`
	Looked   *time.Time  `json:"looked,omitempty"`
	Reached  *time.Time  `json:"reached,omitempty"`
	Error    string      `json:"error,omitempty"`
	Failures int         `json:"failures"`
	Millis   int64       `json:"millis"`
	// SkewSeconds is how far its clock is ahead of ours.
	SkewSeconds *int64        `json:"skewSeconds,omitempty"`
	CertEnds    *time.Time    `json:"certEnds,omitempty"`
	CertName    string        `json:"certName,omitempty"`
	History     []OutsideLook `json:"history"`
}

// OutsideLook is one look at a host.
type OutsideLook struct {
	At     time.Time `json:"at"`
	Millis int64     `json:"millis"`
	OK     bool      `json:"ok"`
}

// Notices say whom the gate tells about new findings.
type Notices struct {
	// Webhook takes a POST with the findings as JSON; the header X-Innergate-Signature holds the HMAC-SHA-256 of the
	// body, in hex, with the secret.
	Webhook string `json:"webhook,omitempty"`
	// Mail takes a mail.
	Mail []string `json:"mail,omitempty"`
	// From is the mildest severity that is told: broken, attention (the default) or remark.
	From string `json:"from,omitempty"`
}

// NoticesView are the notices as they are kept.
type NoticesView struct {
	Notices
	HasSecret bool `json:"hasSecret"`
	// Error is why the newest notice could not be sent.
	Error string `json:"error,omitempty"`
	// LastSent is when the newest notice went out.
	LastSent *time.Time `json:"lastSent,omitempty"`
	// Deliveries are how telling stands with each recipient.
	Deliveries []Delivery `json:"deliveries"`
}

// Delivery is how telling stands with one recipient: the webhook, or a mail address.
type Delivery struct {
	To      string `json:"to"`
	Waiting int    `json:"waiting"` // notices that are not told yet
	// Tries, Error and Next are of the one that is tried next.
	Tries    int        `json:"tries,omitempty"`
	Error    string     `json:"error,omitempty"`
	Next     *time.Time `json:"next,omitempty"`
	LastSent *time.Time `json:"lastSent,omitempty"`
}

// SaveNotices changes them. The secret stays where it is left out, as long as the webhook stays.
type SaveNotices struct {
	Notices
	Secret *string `json:"secret,omitempty"`
}

// LookOutside asks for a look at a host that is watched.
type LookOutside struct {
	Origin string `json:"origin"`
}
