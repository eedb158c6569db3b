package api

import (
	"time"

	"innergate/core/access"
	"innergate/core/moves"
)

// NewMove plans a move of applications from one provider to another.
type NewMove struct {
	Name   string `json:"name"`
	Slug   string `json:"slug,omitempty"`
	From   string `json:"from"`
	To     string `json:"to"`
	Remark string `json:"remark,omitempty"`
	// Circle is whose sign-ins both ways count; without it everybody's.
	Circle *access.Circle `json:"circle,omitempty"`
	// Applications by short name; without them all that people sign in to with the old provider. They are in wave 1
	// until they are put elsewhere.
	Applications []string `json:"applications,omitempty"`
}

// MoveLine is a move in a list.
type MoveLine struct {
	Slug    string    `json:"slug"`
	Name    string    `json:"name"`
	From    Reference `json:"from"`
	To      Reference `json:"to"`
	State   string    `json:"state"`
	By      string    `json:"by"`
	Created time.Time `json:"created"`
	// Applications is how many there are, Moved how many sign in with the new provider.
	Applications int `json:"applications"`
	Moved        int `json:"moved"`
}

// Move is one move whole.
type Move struct {
	MoveLine
	Remark string            `json:"remark,omitempty"`
	Circle *access.Circle    `json:"circle,omitempty"`
	Waves  []Wave            `json:"waves"`
	Apps   []MoveApplication `json:"apps"`
}

// Wave is one batch of a move.
type Wave struct {
	Number      int          `json:"number"`
	State       string       `json:"state"` // planned, open, settled or back
	Opens       *time.Time   `json:"opens,omitempty"`
	Closes      *time.Time   `json:"closes,omitempty"`
	Limits      moves.Limits `json:"limits"`
	Count       moves.Count  `json:"count"`
	PlannedBy   string       `json:"plannedBy,omitempty"`
	ApprovedBy  string       `json:"approvedBy,omitempty"`
	NeedsSecond bool         `json:"needsSecond,omitempty"`
	Opened      *time.Time   `json:"opened,omitempty"`
	Ended       *time.Time   `json:"ended,omitempty"`
	Note        string       `json:"note,omitempty"`
}

// MoveApplication is one application of a move: how it is used, how ready it is, and what was compared.
type MoveApplication struct {
	Slug  string `json:"slug"`
	Name  string `json:"name"`
	Kind  string `json:"kind"`
	Reach string `json:"reach"`
	Wave  int    `json:"wave"`
	State string `json:"state"` // waiting, moved or back

	// Usage: people who ever used it, sign-ins with the old provider in the last 30 days, and the last of all.
	Users      int64      `json:"users"`
	SignIns    int64      `json:"signIns"`
	LastSignIn *time.Time `json:"lastSignIn,omitempty"`

	Verdict moves.Verdict `json:"verdict"`
	People  moves.People  `json:"people"`
	Needs   []moves.Need  `json:"needs"`
	// Compared counts comparisons by result.
	Compared map[string]int `json:"compared"`
}

// MoveComparison is what came of somebody's signing in both ways.
type MoveComparison struct {
	Application string             `json:"application"`
	Person      string             `json:"person"`
	How         string             `json:"how"` // both ways, or live
	Result      string             `json:"result"`
	Code        string             `json:"code,omitempty"`
	Differences []moves.Difference `json:"differences"`
	Reference   string             `json:"reference,omitempty"`
	At          time.Time          `json:"at"`
}

// PlanWave says which applications are in a wave, when it opens and closes, and what it bears. What is not named stays.
type PlanWave struct {
	Applications []string      `json:"applications,omitempty"`
	Opens        *time.Time    `json:"opens,omitempty"`
	Closes       *time.Time    `json:"closes,omitempty"`
	Limits       *moves.Limits `json:"limits,omitempty"`
}

// OpenWave opens a wave at once: for an hour, or as long as is said.
type OpenWave struct {
	Minutes int `json:"minutes,omitempty"`
	// Anyway opens it although an application is not ready.
	Anyway bool `json:"anyway,omitempty"`
}

// BackWave takes a wave back.
type BackWave struct {
	Reason string `json:"reason,omitempty"`
}

// NewTrial orders a link by which people sign in both ways.
type NewTrial struct {
	Application string `json:"application"`
	People      int    `json:"people,omitempty"` // how many may use it, 20 unless it is said
	Hours       int    `json:"hours,omitempty"`  // how long it is good, 72 unless it is said
}

// Trial is such a link; it is shown once.
type Trial struct {
	Link    string    `json:"link"`
	Expires time.Time `json:"expires"`
	People  int       `json:"people"`
}

// StillUses is what keeps a provider from being closed.
type StillUses struct {
	Provider Reference  `json:"provider"`
	Closable bool       `json:"closable"`
	Words    []string   `json:"words"` // what stands in the way, or that nothing does
	Apps     []LeftApp  `json:"apps"`
	Routes   []string   `json:"routes"`
	Rules    []string   `json:"rules"` // of access, for the console, and of circles
	People   int64      `json:"people"`
	Only     int64      `json:"only"` // people whom no other provider knows
	SignIns  int64      `json:"signIns"`
	Last     *time.Time `json:"last,omitempty"`
	Sessions int64      `json:"sessions"` // open ones that rest on it
	// More is set where people were counted to the end of what is counted: there are more.
	More bool `json:"more,omitempty"`
}

// LeftApp is an application that still has the provider.
type LeftApp struct {
	Reference
	Others  int   `json:"others"`  // providers that it has besides
	SignIns int64 `json:"signIns"` // with the provider, in the last 30 days
}
