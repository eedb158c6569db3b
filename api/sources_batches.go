package api

import (
	"time"

	"innergate/core/files"
)

// NewBatch takes many partners at once. It comes from files, from a list in CSV, or from a source.
type NewBatch struct {
	Side     string       `json:"side"` // application or provider
	Files    []files.Text `json:"files,omitempty"`
	List     string       `json:"list,omitempty"`
	Source   string       `json:"source,omitempty"`   // a source's short name
	Search   string       `json:"search,omitempty"`   // part of a name or entity ID in the source
	Entities []string     `json:"entities,omitempty"` // entity IDs in the source
	Common   BatchCommon  `json:"common,omitzero"`
}

// BatchCommon is what holds for all of a batch, where a row says nothing else.
type BatchCommon struct {
	Providers   []string `json:"providers,omitempty"`
	Access      string   `json:"access,omitempty"` // assigned or everybody
	Admission   string   `json:"admission,omitempty"`
	Description string   `json:"description,omitempty"`
	Contact     string   `json:"contact,omitempty"`
	Tags        []string `json:"tags,omitempty"`
}

// BatchValues is what was entered for one row.
type BatchValues struct {
	Name        string   `json:"name,omitempty"`
	Slug        string   `json:"slug,omitempty"`
	Description string   `json:"description,omitempty"`
	Contact     string   `json:"contact,omitempty"`
	StartURL    string   `json:"startUrl,omitempty"`
	EntityID    string   `json:"entityId,omitempty"`
	ClientID    string   `json:"clientId,omitempty"`
	Providers   []string `json:"providers,omitempty"`
}

// Batch is a batch whole.
type Batch struct {
	ID      string         `json:"id"`
	Side    string         `json:"side"`
	From    string         `json:"from"`
	State   string         `json:"state"` // open or made
	By      string         `json:"by"`
	Created time.Time      `json:"created"`
	Looking bool           `json:"looking,omitempty"` // rows are being looked at
	Common  BatchCommon    `json:"common"`
	Counts  map[string]int `json:"counts"` // of rows, by state
	Rows    []BatchRow     `json:"rows"`
}

// BatchRow is one partner: new, ready, value (one is missing), decision (somebody has to choose), no (it can't be), or
// made.
type BatchRow struct {
	Number    int         `json:"number"`
	Label     string      `json:"label"`
	URL       string      `json:"url,omitempty"`
	State     string      `json:"state"`
	Notes     []string    `json:"notes"`
	Values    BatchValues `json:"values"`
	Slug      string      `json:"slug,omitempty"`
	Name      string      `json:"name,omitempty"`
	StartURL  string      `json:"startUrl,omitempty"`
	Providers []string    `json:"providers,omitempty"`
	Skip      bool        `json:"skip,omitempty"`
}

// BatchLine is a batch in a list.
type BatchLine struct {
	ID      string    `json:"id"`
	Side    string    `json:"side"`
	From    string    `json:"from"`
	State   string    `json:"state"`
	By      string    `json:"by"`
	Created time.Time `json:"created"`
	Rows    int       `json:"rows"`
	Made    int       `json:"made"`
}

// ChangeBatch changes what holds for all rows, or some rows.
type ChangeBatch struct {
	Common *BatchCommon     `json:"common,omitempty"`
	Rows   []BatchRowChange `json:"rows,omitempty"`
}

// BatchRowChange changes one row.
type BatchRowChange struct {
	Number int          `json:"number"`
	Values *BatchValues `json:"values,omitempty"`
	Skip   bool         `json:"skip,omitempty"`
}
