package api

import "time"

// NewReading begins a reading of a directory's people: it looks what would come of it, or, with Write, writes. Changed reads those only
// whose entry changed since the last time.
type NewReading struct {
	Write   bool `json:"write,omitempty"`
	Changed bool `json:"changed,omitempty"`
}

// Reading is one reading of a directory's people, and what came of it: looking, looked, writing, asking, done, stopped or cancelled.
type Reading struct {
	ID      string `json:"id"`
	State   string `json:"state"`
	Changed bool   `json:"changed,omitempty"`
	Since   string `json:"since,omitempty"`
	By      string `json:"by"`
	// Entries were read. Of these people were made, changed, as they were, active again, or not taken.
	Entries int `json:"entries"`
	Made    int `json:"made"`
	Updated int `json:"updated"`
	Same    int `json:"same"`
	Back    int `json:"back"`
	Bad     int `json:"bad"`
	// Gone are those whom the directory no longer has, of so many who were Known; Elsewhere stay active, since they come another way too.
	Gone      int              `json:"gone"`
	Elsewhere int              `json:"elsewhere"`
	Known     int              `json:"known"`
	GoneNames []string         `json:"goneNames"`
	Problems  []ReadingProblem `json:"problems"`
	Note      string           `json:"note,omitempty"`
	Started   time.Time        `json:"started"`
	Touched   time.Time        `json:"touched"`
}

// ReadingProblem is why somebody was not taken.
type ReadingProblem struct {
	Entry string `json:"entry"`
	Code  string `json:"code"`
	Text  string `json:"text"`
}
