package store

import "time"

// NodeInvitation lets one machine become a node, once.
type NodeInvitation struct {
	ID        string    `gorm:"primaryKey"`
	Sealed    []byte    // the secret that both sides prove to know
	ExpiresAt time.Time `gorm:"index"`
}

// NodeMember is a certificate that was given to a node, with what the node has said of itself since.
type NodeMember struct {
	Serial    string    `gorm:"primaryKey"` // of the certificate, in hexadecimal digits
	Address   string    `gorm:"index"`      // at which the engine is reached
	Errands   string    // at which it is asked
	Ends      time.Time // the certificate
	Withdrawn *time.Time
}

// NodeWrite is there if a transaction was written whose outcome is not known to whom it was for. It is kept for some minutes.
type NodeWrite struct {
	ID string    `gorm:"primaryKey"`
	At time.Time `gorm:"index"`
}
