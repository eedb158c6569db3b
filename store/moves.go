package store

import "time"

// Move is a plan to take applications from one provider to another.
type Move struct {
	ID        string `gorm:"primaryKey"`
	Slug      string `gorm:"uniqueIndex;not null"`
	Name      string
	Remark    string
	FromID    string
	ToID      string
	Circle    string // JSON: whose sign-ins side by side count; empty for everybody's
	State     string // open, done or given up
	By        string
	CreatedAt time.Time
	EndedAt   *time.Time
}

// MoveWave is one batch of a move.
type MoveWave struct {
	MoveID      string `gorm:"primaryKey"`
	Number      int    `gorm:"primaryKey"`
	State       string // planned, approved, open, settled or back
	OpensAt     *time.Time
	ClosesAt    *time.Time
	Failures    int // most failed sign-ins, and people for whom something differs, that it bears
	Differences int
	SignedIn    int
	Failed      int
	Differed    int
	PlannedBy   string
	PlannedByID string
	ApprovedBy  string
	OpenedAt    *time.Time
	EndedAt     *time.Time
	Note        string
}

// MoveApplication is one application in a move.
type MoveApplication struct {
	MoveID        string `gorm:"primaryKey"`
	ApplicationID string `gorm:"primaryKey;index"`
	Wave          int
	State         string // waiting, moved or back
	Before        string // JSON: its providers before it moved
	MovedAt       *time.Time
}

// MoveSample is what an application got, or would have got, of a person through one of the two providers. Run names a
// sign-in both ways; it is empty for real ones.
type MoveSample struct {
	ID            string `gorm:"primaryKey"`
	MoveID        string `gorm:"uniqueIndex:move_sample_of"`
	ApplicationID string `gorm:"uniqueIndex:move_sample_of"`
	Who           string `gorm:"uniqueIndex:move_sample_of"` // the person, or the run
	ProviderID    string `gorm:"uniqueIndex:move_sample_of"`
	Sealed        []byte
	Reference     string
	At            time.Time
}

// MoveComparison is what came of comparing the two.
type MoveComparison struct {
	ID            string `gorm:"primaryKey"`
	MoveID        string `gorm:"uniqueIndex:move_comparison_of"`
	ApplicationID string `gorm:"uniqueIndex:move_comparison_of"`
	Who           string `gorm:"uniqueIndex:move_comparison_of"`
	Wave          int
	Person        string // as shown
	How           string // both ways, or live
	Result        string // same, differs, alone (there was nothing to compare with) or failed
	Code          string
	Sealed        []byte // JSON: the differences
	Reference     string
	At            time.Time
}

// MoveTrial is a link by which people sign in both ways, once at each provider, without anything reaching the
// application.
type MoveTrial struct {
	ID            string `gorm:"primaryKey"`
	MoveID        string `gorm:"index"`
	ApplicationID string
	TokenHash     []byte `gorm:"uniqueIndex"`
	Most          int
	Used          int
	By            string
	CreatedAt     time.Time
	ExpiresAt     time.Time `gorm:"index"`
}

// MoveRun is one browser's way through a trial.
type MoveRun struct {
	ID          string `gorm:"primaryKey"`
	TrialID     string `gorm:"index"`
	BrowserHash []byte
	Old         string // the rehearsal at the old provider, and at the new one
	New         string
	ExpiresAt   time.Time `gorm:"index"`
}
