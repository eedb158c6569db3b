package api

import (
	"time"

	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/saml"
)

// TakeIn is what the other side handed over: a file's content or pasted text, or an address to fetch it from.
type TakeIn struct {
	Text string `json:"text,omitempty"`
	URL  string `json:"url,omitempty"`
	// EntityID chooses one of several entities, or is the one that was lost where a role was cut out of its entity.
	EntityID string `json:"entityId,omitempty"`
	// Certificate is a certificate file that came beside the metadata.
	Certificate string `json:"certificate,omitempty"`
}

// Understood is what was understood of it, before anything is stored.
type Understood struct {
	Entities []EntityChoice      `json:"entities"`
	Problems []saml.Problem      `json:"problems"`
	Chosen   string              `json:"chosen,omitempty"`
	Role     string              `json:"role,omitempty"`
	Remark   string              `json:"remark,omitempty"`
	Changes  []Change            `json:"changes,omitempty"`
	Metadata *saml.Document      `json:"metadata,omitempty"`
	App      *config.Application `json:"application,omitempty"`
	Provider *config.Provider    `json:"provider,omitempty"`
	// Proposed is set where a value was not in what came and is our proposal, by field.
	Proposed map[string]string `json:"proposed,omitempty"`
	// NeedsEntityID is set where the entity ID is missing and must be entered by hand.
	NeedsEntityID bool `json:"needsEntityId,omitempty"`
	// Beside tells how a certificate that came beside the metadata relates to it: same, newer or conflicting.
	Beside string `json:"beside,omitempty"`
	// Signed tells whether the document carries a signature, and SignedBy whose it is, if the pinned certificate made
	// it.
	Signed   bool   `json:"signed,omitempty"`
	SignedBy string `json:"signedBy,omitempty"`
}

// EntityChoice is one entity in a document.
type EntityChoice struct {
	EntityID    string   `json:"entityId"`
	DisplayName string   `json:"displayName"`
	Roles       []string `json:"roles"`
	Usable      bool     `json:"usable"`
}

// Change is one difference to what is held.
type Change struct {
	Field  string `json:"field"`
	Before string `json:"before"`
	After  string `json:"after"`
}

// Value is one line of an exchange sheet.
type Value struct {
	Name  string `json:"name"` // the standard's name
	Hint  string `json:"hint"` // what it is usually called elsewhere, in plain words
	Value string `json:"value"`
	Kind  string `json:"kind"`            // text, url, certificate, fingerprint, or note for what nobody copies
	Field string `json:"field,omitempty"` // what it is compared as: entity, acs, sso, slo, certificate, format
}

// ExchangeSheet is all that the other side's engineer needs from us.
type ExchangeSheet struct {
	Title      string           `json:"title"`
	Role       string           `json:"role"`
	Values     []Value          `json:"values"`
	Metadata   string           `json:"metadata"` // address
	Markdown   string           `json:"markdown"`
	Attributes []SheetAttribute `json:"attributes"`
	// Requested are the attributes in the form of metadata, as RequestedAttribute elements (SAML Metadata, section
	// 2.4.4.2).
	Requested string      `json:"requested,omitempty"`
	Downloads []Download  `json:"downloads"`
	HandedOut []HandedOut `json:"handedOut"`
	// Steps are what the other side's engineer does, in order.
	Steps []string `json:"steps"`
}

// Download is a file of the exchange sheet.
type Download struct {
	Name string `json:"name"`
	Hint string `json:"hint"`
	URL  string `json:"url"`
	File string `json:"file"`
}

// HandedOut is what a partner's side was given, and when.
type HandedOut struct {
	What  string    `json:"what"` // metadata or sheet
	By    string    `json:"by"`
	First time.Time `json:"first"`
	Last  time.Time `json:"last"`
	Count int       `json:"count"`
	// Current tells whether all of it still holds; Differences name what does not.
	Current     bool     `json:"current"`
	Differences []Change `json:"differences"`
}

// CompareSheet is what the other side's form or file shows.
type CompareSheet struct {
	Text string `json:"text"`
}

// ComparedSheet holds it against the exchange sheet.
type ComparedSheet struct {
	Values []ComparedValue `json:"values"`
	// Absent are values of the sheet that were not in what was pasted.
	Absent []string `json:"absent"`
	Equal  bool     `json:"equal"`
}

// ComparedValue is one value of theirs beside ours.
type ComparedValue struct {
	Label      string             `json:"label"` // what they call it
	Name       string             `json:"name"`  // what the standard calls it
	Ours       string             `json:"ours"`
	Theirs     string             `json:"theirs"`
	Difference explain.Difference `json:"difference"`
}

// SheetAttribute is one attribute that is sent or wanted.
type SheetAttribute struct {
	Name         string `json:"name"`
	FriendlyName string `json:"friendlyName,omitempty"`
	NameFormat   string `json:"nameFormat,omitempty"`
	Required     bool   `json:"required,omitempty"`
	Meaning      string `json:"meaning"`
	Sample       string `json:"sample,omitempty"`
}

// Document is a version of a partner's metadata, as it was received.
type Document struct {
	ID       string    `json:"id"`
	Received time.Time `json:"received"`
	Source   string    `json:"source"` // an address, or text
	Bytes    int       `json:"bytes"`
	SHA256   string    `json:"sha256"`
	// Verdict is used, waiting, dismissed or refused.
	Verdict    string     `json:"verdict"`
	Reason     string     `json:"reason,omitempty"`
	Changes    []Change   `json:"changes"`
	Sentences  []string   `json:"sentences"`
	SignedBy   string     `json:"signedBy,omitempty"`
	ValidUntil *time.Time `json:"validUntil,omitempty"`
	DecidedBy  string     `json:"decidedBy,omitempty"`
	Decided    *time.Time `json:"decided,omitempty"`
}

// Watch is how looking after a partner's metadata address goes.
type Watch struct {
	URL          string     `json:"url"`
	Policy       string     `json:"policy"` // the one that counts
	Pinned       string     `json:"pinned,omitempty"`
	Due          time.Time  `json:"due"`
	Checked      *time.Time `json:"checked,omitempty"`
	Changed      *time.Time `json:"changed,omitempty"`
	Failures     int        `json:"failures"`
	FailingSince *time.Time `json:"failingSince,omitempty"`
	Error        string     `json:"error,omitempty"`
	Code         string     `json:"code,omitempty"`
	ValidUntil   *time.Time `json:"validUntil,omitempty"`
	Waiting      *Document  `json:"waiting,omitempty"`
}

// Refreshed is what one look at a partner's metadata address gave.
type Refreshed struct {
	// Outcome is unchanged, applied, waiting, partly (certificates were applied, the rest waits) or failed.
	Outcome   string   `json:"outcome"`
	Changes   []Change `json:"changes"`
	Sentences []string `json:"sentences"`
	Document  string   `json:"document,omitempty"`
	Error     string   `json:"error,omitempty"`
	Code      string   `json:"code,omitempty"`
}
