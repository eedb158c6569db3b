package store

import "time"

// Reading is one reading of a directory's people.
type Reading struct {
	ID         string `gorm:"primaryKey"`
	ProviderID string `gorm:"index"`
	State      string // looking, looked, writing, asking, done, stopped or cancelled
	// OnlyChanged is set where only those were read whose entry changed since Since, as the directory writes times; Newest is the latest
	// change that was seen.
	OnlyChanged   bool
	Since, Newest string
	By            string
	// Entries were read; of these the people were made, changed, as they were, active again, or could not be taken.
	Entries, Made, Updated, Same, Back, Bad int
	// Gone are no longer there; Elsewhere of those not made inactive, since they come another way as well. Known is how many there were.
	Gone, Elsewhere, Known int
	Problems, GoneNames    string // JSON
	Agreed                 int    // to how many gone somebody agreed
	Note                   string
	StartedAt              time.Time
	UpdatedAt              time.Time
}

// ReadingGone is somebody who was made inactive since a directory no longer has them. Whoever is there again is active again.
type ReadingGone struct {
	PersonID   string `gorm:"primaryKey"`
	ProviderID string `gorm:"primaryKey"`
	At         time.Time
}
