package store

import "time"

// Load is a large change of the configuration on its way: it is written a part at a time, so that whoever signs in meanwhile does
// not wait for all of it, and outlives the process.
type Load struct {
	ID        string `gorm:"primaryKey"`
	State     string `gorm:"index"` // noting, running, back (what was written is taken back), done or undone
	Who       string // JSON: whose change it is
	FromFiles bool
	Sealed    []byte // JSON: the secrets that come with it
	Steps     int
	Done      int // steps that are written
	Why       string
	At        time.Time
	// HeldUntil is until when the process that writes it has it for itself.
	HeldUntil time.Time
	EndedAt   *time.Time `gorm:"index"`
}

// LoadStep is one of its steps.
type LoadStep struct {
	LoadID   string `gorm:"primaryKey"`
	Number   int    `gorm:"primaryKey"`
	Action   string
	Kind     string
	Slug     string
	Name     string
	Body     string
	Before   string
	ObjectID string
	File     string
	Line     int
}
