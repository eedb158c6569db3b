package api

import (
	"time"

	"innergate/core/config"
)

// Source is a source of metadata with what is known about it.
type Source struct {
	ID string `json:"id"`
	config.Source
	Revision      int        `json:"revision"`
	Entities      int        `json:"entities"`
	PublishedName string     `json:"publishedName,omitempty"` // what the document calls itself
	Checked       *time.Time `json:"checked,omitempty"`
	Due           *time.Time `json:"due,omitempty"`
	ValidUntil    *time.Time `json:"validUntil,omitempty"`
	Failures      int        `json:"failures"`
	FailingSince  *time.Time `json:"failingSince,omitempty"`
	Error         string     `json:"error,omitempty"`
	Code          string     `json:"code,omitempty"`
	Pinned        string     `json:"pinned,omitempty"` // fingerprint
	Job           *SourceJob `json:"job,omitempty"`
	Findings      []Finding  `json:"findings"`
}

// SourceJob is how far a reading that is under way is.
type SourceJob struct {
	// Stage is fetching, verifying or storing.
	Stage    string    `json:"stage"`
	Have     int64     `json:"have"` // bytes
	All      int64     `json:"all"`  // bytes, or -1 where that is not known
	Entities int       `json:"entities"`
	Begun    time.Time `json:"begun"`
}

// SourceEntity is one entity of a source.
type SourceEntity struct {
	EntityID    string     `json:"entityId"`
	DisplayName string     `json:"displayName"`
	Roles       []string   `json:"roles"`
	Problems    int        `json:"problems"`
	ValidUntil  *time.Time `json:"validUntil,omitempty"`
	Changed     time.Time  `json:"changed"`
	// Held is the application or provider that has this entity ID already.
	Held *Reference `json:"held,omitempty"`
}

// Adopt makes drafts of entities of a source.
type Adopt struct {
	EntityIDs []string `json:"entityIds"`
	// As is application or provider.
	As string `json:"as"`
}

// Adopted tells what became of one of them.
type Adopted struct {
	EntityID string `json:"entityId"`
	Slug     string `json:"slug,omitempty"`
	Name     string `json:"name,omitempty"`
	// Outcome is created, there (it is there already and stays as it is) or refused.
	Outcome string `json:"outcome"`
	Reason  string `json:"reason,omitempty"`
}

// LookUp asks a metadata query service for one entity.
type LookUp struct {
	EntityID string `json:"entityId"`
}
