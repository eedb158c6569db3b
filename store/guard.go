package store

import "time"

// GuardTicket hands a session over to a guarded application's own host, once, to the browser that began there.
type GuardTicket struct {
	ID            string `gorm:"primaryKey"` // of the session that it becomes
	Hash          []byte `gorm:"uniqueIndex"`
	ApplicationID string
	SessionID     string
	Bind          []byte // hash of what that browser keeps at the application's host
	To            string
	Sealed        []byte
	Out           bool       // for signing out
	Ends          *time.Time // of what it becomes, where that is before the session at the gate
	ExpiresAt     time.Time  `gorm:"index"`
}

// GuardSession is a browser's session at a guarded application's host. It ends with the session at the gate.
type GuardSession struct {
	ID            string `gorm:"primaryKey"` // under which the rest is sealed, as guard/ID
	TokenHash     []byte `gorm:"uniqueIndex"`
	SessionID     string `gorm:"index"`
	ApplicationID string
	Sealed        []byte
	CreatedAt     time.Time
	ExpiresAt     time.Time `gorm:"index"`
}
