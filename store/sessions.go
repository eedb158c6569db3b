package store

import (
	"time"

	"gorm.io/gorm"
)

// Session is what a browser has at the gate after somebody signed in. Only the hash of its token is kept.
type Session struct {
	ID          string `gorm:"primaryKey"`
	TokenHash   []byte `gorm:"uniqueIndex"`
	PersonID    string
	Person      string // as it is shown
	RehearsalID string // of a rehearsal's own session, which nobody else's browser has
	Address     string
	Device      string
	Sealed      []byte // JSON: what each provider vouched for
	Persistent  bool   // survives the browser
	CreatedAt   time.Time
	LastUsed    time.Time
	ExpiresAt   time.Time `gorm:"index"`
	EndedAt     *time.Time
	EndedBy     string
	ToldAt      *time.Time // when its applications were told that it has ended
}

// SessionProof is one provider's word in a session, laid out so that the provider can take it back.
type SessionProof struct {
	SessionID       string `gorm:"primaryKey"`
	ProviderID      string `gorm:"primaryKey;index:session_proof_subject;index:session_proof_name"`
	Subject         string `gorm:"index:session_proof_subject"`
	NameValue       string `gorm:"index:session_proof_name"` // of the NameID, by which a SAML provider names people
	ProviderSession string
	Strength        string // one or two
	At              time.Time
}

// SessionUse is an application that somebody went to in a session, with what it needs to be told when that ends.
type SessionUse struct {
	SessionID     string `gorm:"primaryKey"`
	ApplicationID string `gorm:"primaryKey;index:session_use_name"`
	NameValue     string `gorm:"index:session_use_name"`
	// Index is the session's name towards this application (SessionIndex), and no other.
	Index   string `gorm:"column:session_index;uniqueIndex"`
	NameID  string // JSON: the identifier that the application got
	FirstAt time.Time
	LastAt  time.Time
	// Told says how telling it came out: told, failed, browser (it can be told by the browser only), nothing (it takes
	// no word), or empty while it was not tried.
	Told string
}

// SignOut is a sign-out on its way through the applications of a session, in one browser.
type SignOut struct {
	ID          string `gorm:"primaryKey"`
	BrowserHash []byte
	Reference   string
	Sealed      []byte
	CreatedAt   time.Time
	ExpiresAt   time.Time `gorm:"index"`
}

func migrateSessions(tx *gorm.DB) error {
	if err := tx.AutoMigrate(&Session{}, &SessionProof{}, &SessionUse{}, &SignOut{}, &ReachChange{}, &GuardTicket{}, &GuardSession{},
		&TileMark{}, &Grant{}, &Rehearsal{}); err != nil {
		return err
	}
	return tx.Exec("CREATE INDEX IF NOT EXISTS grant_session ON grants (session_id) WHERE session_id <> ''").Error
}

// ReachChange is one change of an application's or provider's reach, kept so that it can be taken back.
type ReachChange struct {
	ID       string `gorm:"primaryKey"`
	Kind     string `gorm:"index:reach_change_object"`
	ObjectID string `gorm:"index:reach_change_object"`
	Slug     string
	Before   string // JSON
	After    string // JSON
	By       string
	At       time.Time
	RevertAt *time.Time `gorm:"index"`
	UndoneAt *time.Time
}

// TileMark is a tile that a person has marked as a favourite.
type TileMark struct {
	PersonID      string `gorm:"primaryKey"`
	ApplicationID string `gorm:"primaryKey"`
	Tile          int    `gorm:"primaryKey"`
	At            time.Time
}
