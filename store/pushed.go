package store

import (
	"time"

	"gorm.io/gorm"
)

// PushedPerson is an account that a provider pushes, and the person whom it means.
type PushedPerson struct {
	ID         string `gorm:"primaryKey;index:pushed_page,priority:2"`
	ProviderID string `gorm:"uniqueIndex:pushed_name;index:pushed_page,priority:1;index:pushed_changed;index:pushed_subject"`
	UserKey    string `gorm:"uniqueIndex:pushed_name"` // userName, folded
	PersonID   string `gorm:"index"`
	Subject    string `gorm:"index:pushed_subject"` // by which the person comes at sign-in
	Active     bool
	Body       string // the resource, without what we alone set
	Version    int
	// GoneAt is when the person was made inactive since the provider said so.
	GoneAt *time.Time
	// Stale is set where the person's groups changed and that is not worked out yet.
	Stale     bool `gorm:"index"`
	Problem   string
	CreatedAt time.Time
	UpdatedAt time.Time `gorm:"index:pushed_changed"`
}

// PushedKey is a value by which a pushed account is found, folded unless the attribute is case-exact.
type PushedKey struct {
	ProviderID string `gorm:"primaryKey"`
	Name       string `gorm:"primaryKey"`
	Value      string `gorm:"primaryKey"`
	PushedID   string `gorm:"primaryKey;index"`
}

// PushedGroup is a group that a provider pushes.
type PushedGroup struct {
	ID         string `gorm:"primaryKey"`
	ProviderID string `gorm:"uniqueIndex:pushed_group_name"`
	NameKey    string `gorm:"uniqueIndex:pushed_group_name"`
	Name       string
	ExternalID string `gorm:"index"`
	Version    int
	CreatedAt  time.Time
	UpdatedAt  time.Time
}

// PushedMember puts a pushed account into a pushed group.
type PushedMember struct {
	GroupID  string `gorm:"primaryKey"`
	PushedID string `gorm:"primaryKey;index"`
}

// PushToken lets a provider push.
type PushToken struct {
	ID         string `gorm:"primaryKey"`
	ProviderID string `gorm:"index"`
	Hash       []byte `gorm:"uniqueIndex"`
	Hint       string
	By         string
	CreatedAt  time.Time
	ExpiresAt  *time.Time
	LastUsed   *time.Time
}

func migratePushed(tx *gorm.DB) error {
	if err := tx.AutoMigrate(&PushedPerson{}, &PushedKey{}, &PushedGroup{}, &PushedMember{}, &PushToken{}); err != nil {
		return err
	}
	return tx.Exec("CREATE INDEX link_shown ON links (provider_id, shown)").Error
}
