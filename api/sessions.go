package api

import (
	"time"

	"innergate/core/config"
)

// Session is what a browser has, or had, at the gate.
type Session struct {
	ID       string    `json:"id"`
	PersonID string    `json:"personId,omitempty"`
	Person   string    `json:"person"`
	Address  string    `json:"address"`
	Device   string    `json:"device"` // what the browser says it is, in words
	Began    time.Time `json:"began"`
	LastUsed time.Time `json:"lastUsed"`
	Ends     time.Time `json:"ends"`
	// Persistent sessions outlive the browser.
	Persistent   bool                 `json:"persistent"`
	Providers    []SessionProvider    `json:"providers"`
	Applications []SessionApplication `json:"applications"`
	// Ended and EndedBy are set where it is over.
	Ended   *time.Time `json:"ended,omitempty"`
	EndedBy string     `json:"endedBy,omitempty"`
	// Here is set for the session of the browser that asks.
	Here bool `json:"here,omitempty"`
}

// SessionProvider is who vouched for the person in a session, when, and how strongly: one factor or two.
type SessionProvider struct {
	Name     string    `json:"name"`
	Slug     string    `json:"slug,omitempty"`
	At       time.Time `json:"at"`
	Strength string    `json:"strength"`
}

// SessionApplication is an application that was gone to in a session. Told says how it learnt of the session's end:
// told, failed, browser (by the browser only), nothing (it takes no word of it), or empty.
type SessionApplication struct {
	Name string    `json:"name"`
	Slug string    `json:"slug,omitempty"`
	At   time.Time `json:"at"`
	Told string    `json:"told,omitempty"`
}

// SessionLimits are the gate's own limits for sessions.
type SessionLimits = config.Sessions
