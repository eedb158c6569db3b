package store

import "time"

// KeptFinding is what a checkup found and when, and whether somebody accepted it.
type KeptFinding struct {
	ID            string `gorm:"primaryKey"` // made of what it is about, so that the same finding is the same row
	Kind          string `gorm:"index:kept_finding_object"`
	OwnerID       string `gorm:"index:kept_finding_object"`
	Slug          string
	Name          string
	Code          string `gorm:"index"`
	Severity      string
	Body          string // JSON
	FirstSeen     time.Time
	LastSeen      time.Time
	GoneAt        *time.Time `gorm:"index"`
	ToldAt        *time.Time
	AcceptedBy    string
	AcceptedFor   string
	AcceptedUntil *time.Time
}

// OutsideUser is an application or provider that has an address at a host, as the last checkup saw it.
type OutsideUser struct {
	Origin    string `gorm:"primaryKey"`
	OwnerKind string `gorm:"primaryKey"`
	OwnerID   string `gorm:"primaryKey;index"`
}

// OutsideHost is how a partner's host was found when it was last looked at.
type OutsideHost struct {
	Origin       string    `gorm:"primaryKey"` // scheme, host and port
	DueAt        time.Time `gorm:"index"`
	LookedAt     *time.Time
	ReachedAt    *time.Time
	Error        string
	Failures     int
	FailingSince *time.Time
	Millis       int64
	SkewSeconds  *int64 // their clock less ours
	CertEnds     *time.Time
	CertName     string
	CertProblem  string
	History      string // JSON: the newest looks, the newest last
}
