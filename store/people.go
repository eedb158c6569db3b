package store

import (
	"encoding/json"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/core/people"
)

// Person is somebody known to the gate. The keys are what values are looked for by; see people.Key.
type Person struct {
	ID          string `gorm:"primaryKey"`
	Name        string
	Email       string
	Active      bool
	Profile     string // JSON: name → values
	Sources     string // JSON: name → provider's ID, or hand
	Type        string
	Username    string
	UsernameKey string `gorm:"index"`
	ExternalID  string
	ExternalKey string `gorm:"index"`
	EmailKey    string `gorm:"index"`
	// NameKey and LastKey are the name, and its last word, folded, for sorting and searching.
	NameKey string
	LastKey string `gorm:"index"`
	// Login is the name in the gate's own directory, folded; nil for whoever has none.
	Login     *string `gorm:"uniqueIndex"`
	CreatedAt time.Time
	UpdatedAt time.Time
}

// Link ties a person to a provider's subject, byte for byte.
type Link struct {
	ID         string `gorm:"primaryKey"`
	PersonID   string `gorm:"index"`
	ProviderID string `gorm:"uniqueIndex:link_subject"`
	Subject    string `gorm:"uniqueIndex:link_subject"` // format, qualifiers and value, joined unambiguously
	Shown      string
	FirstUsed  time.Time
	LastUsed   time.Time
}

// Group is a group of people at the gate.
type Group struct {
	ID          string `gorm:"primaryKey"`
	Slug        string `gorm:"uniqueIndex;not null"`
	Name        string `gorm:"index"`
	Description string
	CreatedAt   time.Time
	UpdatedAt   time.Time
}

// Membership puts a person into a group: by hand, or because a provider's grants say so.
type Membership struct {
	PersonID string `gorm:"primaryKey"`
	GroupID  string `gorm:"primaryKey"`
	Giver    string `gorm:"primaryKey"` // hand, or the provider's ID
	At       time.Time
}

// Assignment lets a person or a group use an application.
type Assignment struct {
	ApplicationID string `gorm:"primaryKey"`
	Kind          string `gorm:"primaryKey"` // person or group
	WhoID         string `gorm:"primaryKey;index"`
	Roles         string // JSON: the application's own roles
	By            string
	At            time.Time
}

// Account is what is known of a person at an application: the identifier that it got.
type Account struct {
	ApplicationID string `gorm:"primaryKey"`
	PersonID      string `gorm:"primaryKey;index"`
	Subject       string
	FirstAt       time.Time
	LastAt        time.Time
}

// RuleSet is a mapping or a list of access rules with a name of its own.
type RuleSet struct {
	ID        string `gorm:"primaryKey"`
	Slug      string `gorm:"uniqueIndex;not null"`
	Name      string
	Kind      string
	Body      string
	Revision  int
	CreatedAt time.Time
	UpdatedAt time.Time
}

// Credential is what a person of the gate's own directory proves who they are with.
type Credential struct {
	ID        string `gorm:"primaryKey"`
	PersonID  string `gorm:"index"`
	Kind      string // password, totp, recovery or passkey
	Name      string // of a passkey, given by the person
	Lookup    []byte `gorm:"index"` // of a passkey: its ID
	Secret    string // a password's hash in its own notation
	Sealed    []byte // a TOTP secret, a passkey's public part, recovery codes' hashes
	Counter   int64  // the last TOTP step or the passkey's counter
	CreatedAt time.Time
	LastUsed  *time.Time
}

// OneTimeLink lets a person set a password or enrol a second factor, once.
type OneTimeLink struct {
	TokenHash []byte `gorm:"primaryKey"`
	PersonID  string `gorm:"index"`
	What      string // password
	By        string
	CreatedAt time.Time
	ExpiresAt time.Time `gorm:"index"`
}

// ImportJob is an import of people under way, so that it can be taken up again.
type ImportJob struct {
	ID        string `gorm:"primaryKey"`
	State     string // running, done, stopped or failed
	By        string
	SHA256    string
	Form      string
	Options   string // JSON
	Size      int64
	Offset    int64 // of the first line that is not written yet
	Lines     int
	Created   int
	Updated   int
	Unchanged int
	Bad       int
	Problems  string // JSON: the first of them
	Note      string
	StartedAt time.Time
	UpdatedAt time.Time
}

func migratePeople(tx *gorm.DB) error {
	if err := tx.AutoMigrate(&Person{}, &Link{}, &Group{}, &Membership{}, &Assignment{}, &Account{}, &RuleSet{}, &Credential{},
		&OneTimeLink{}, &ImportJob{}, &Administrator{}, &APIToken{}); err != nil {
		return err
	}
	if err := tx.Exec("UPDATE people SET sources = '{}', type = 'staff', username = '', username_key = '', external_id = '', " +
		"external_key = '', email_key = '', name_key = '', last_key = ''").Error; err != nil {
		return err
	}
	// Whoever could use an application yesterday can do so today.
	if err := tx.Exec(`UPDATE applications SET body = json_set(body, '$.access', json('{"to":"everybody","otherwise":"allow"}')) ` +
		`WHERE json_extract(body, '$.access') IS NULL`).Error; err != nil {
		return err
	}
	var after string
	for {
		var rows []Person
		if err := tx.Where("id > ?", after).Order("id").Limit(1000).Find(&rows).Error; err != nil || len(rows) == 0 {
			return err
		}
		for _, p := range rows {
			var profile map[string][]string
			if err := json.Unmarshal([]byte(p.Profile), &profile); err != nil {
				return err
			}
			p.SetKeys(profile)
			if err := tx.Exec("UPDATE people SET username = ?, username_key = ?, external_id = ?, external_key = ?, email_key = ?, "+
				"name_key = ?, last_key = ? WHERE id = ?", p.Username, p.UsernameKey, p.ExternalID, p.ExternalKey, p.EmailKey, p.NameKey,
				p.LastKey, p.ID).Error; err != nil {
				return err
			}
			after = p.ID
		}
	}
}

// SetKeys takes what people are looked for by out of their name and profile.
func (p *Person) SetKeys(profile map[string][]string) {
	first := func(name string) string {
		if v := profile[name]; len(v) > 0 {
			return v[0]
		}
		return ""
	}
	p.Email, p.Username, p.ExternalID = first(people.Mail), first(people.Username), first(people.ExternalID)
	p.EmailKey, p.UsernameKey, p.ExternalKey = people.Key(p.Email), people.Key(p.Username), people.Key(p.ExternalID)
	p.NameKey = people.SortKey(p.Name)
	words := strings.Fields(p.NameKey)
	if p.LastKey = ""; len(words) > 0 {
		p.LastKey = words[len(words)-1]
	}
}
