// Package journal is the chain of lines that tells who changed what. Each line's hash (SHA-256) covers its content and
// the hash of the line before, so that no line can be changed or taken out without every later one telling.
package journal

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"
)

// Line is one line as it is exported: one JSON object per line of the file.
type Line struct {
	Number   int64     `json:"number"`
	At       time.Time `json:"at"`
	Who      string    `json:"who"`
	WhoID    string    `json:"whoId,omitempty"` // who it was, whatever they were called
	From     string    `json:"from,omitempty"`  // network address
	Action   string    `json:"action"`
	Kind     string    `json:"kind"`
	ObjectID string    `json:"objectId,omitempty"`
	Object   string    `json:"object"`
	Before   string    `json:"before,omitempty"`
	After    string    `json:"after,omitempty"`
	Previous string    `json:"previous"` // the hash of the line before; empty for the first
	Hash     string    `json:"hash"`     // in hex
}

// Sum is the hash that the line must have: over its fields, without the number, as a JSON list of texts.
func (l *Line) Sum() string {
	list := []string{l.Previous, l.At.UTC().Format(time.RFC3339Nano), l.Who, l.From, l.Action, l.Kind, l.ObjectID, l.Object, l.Before,
		l.After}
	if l.WhoID != "" { // lines of before have none
		list = append(list, l.WhoID)
	}
	parts, err := json.Marshal(list)
	if err != nil {
		panic(err) // strings always marshal
	}
	sum := sha256.Sum256(parts)
	return hex.EncodeToString(sum[:])
}

// Chain walks along lines in their order. Its zero value begins at the first line; one whose Last is set goes on behind
// a line with that hash.
type Chain struct {
	Last  string
	Lines int64
	begun bool
	next  int64
}

// BrokenError tells of the first line that does not fit.
type BrokenError struct {
	Number int64
	Why    string
}

func (e *BrokenError) Error() string {
	return fmt.Sprintf("line %d of the journal %s", e.Number, e.Why)
}

// Add takes the next line, or says how it does not fit the one before.
func (c *Chain) Add(l *Line) error {
	switch {
	case c.begun && l.Number <= c.next-1:
		return &BrokenError{l.Number, fmt.Sprintf("stands behind line %d", c.next-1)}
	case l.Hash != l.Sum():
		return &BrokenError{l.Number, "was changed: its hash does not cover what it says"}
	case l.Previous != c.Last && !c.begun && c.Last == "":
		return &BrokenError{l.Number, "is not the first one: what came before it is missing"}
	case l.Previous != c.Last:
		return &BrokenError{l.Number, "does not follow the one before: a line between them was taken out, or put in"}
	}
	c.begun, c.Last, c.next = true, l.Hash, l.Number+1
	c.Lines++
	return nil
}
