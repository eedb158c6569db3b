package store

import "time"

// Notice is word of new findings on its way to one recipient.
type Notice struct {
	ID        string `gorm:"primaryKey"`
	Recipient string `gorm:"index"` // webhook, or a mail address
	Body      string // JSON: what is told
	CreatedAt time.Time
	// NextAt is when it is tried next; whoever tries moves it on first, so that nobody else does.
	NextAt time.Time `gorm:"index"`
	Tries  int
	Error  string
	SentAt *time.Time `gorm:"index"`
	LostAt *time.Time // when it was given up
}
