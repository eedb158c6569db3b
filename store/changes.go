package store

import (
	"time"

	"gorm.io/gorm"
)

// FromFile notes that an object was made by loading a file, so that a later one that no longer holds it may remove it.
type FromFile struct {
	Kind string `gorm:"primaryKey"`
	Slug string `gorm:"primaryKey"`
	At   time.Time
}

// Proposal is a change of an application or provider that is not made yet.
type Proposal struct {
	ID         string `gorm:"primaryKey"`
	Kind       string
	ObjectID   string `gorm:"index"`
	Slug       string
	Name       string
	Base       int // the revision that it was made on
	Before     string
	Body       string
	Remark     string
	By         string
	ByID       string // who is behind it, by ID
	Origin     string // handover/ID, for what the other side left
	Document   []byte // what it left, as it was received
	Source     string
	Beside     string // the certificate that came beside it
	Secret     []byte // a client secret that came with it, sealed; gone once it is decided
	State      string `gorm:"index"` // open, approved, applied, withdrawn or missed
	ApprovedBy string
	ApprovedAt *time.Time
	FromAt     *time.Time // the window in which it is made by itself
	UntilAt    *time.Time
	DecidedBy  string
	DecidedAt  *time.Time
	Note       string
	CreatedAt  time.Time
	UpdatedAt  time.Time
}

// Handover is a link by which the other side's engineer takes our values and leaves theirs.
type Handover struct {
	ID        string `gorm:"primaryKey"`
	TokenHash []byte `gorm:"uniqueIndex"`
	Kind      string `gorm:"index:handover_object"`
	ObjectID  string `gorm:"index:handover_object"`
	Remark    string // what is asked of them
	By        string
	ByID      string // who is behind it, by ID
	Most      int    // browsers that may open it
	CreatedAt time.Time
	ExpiresAt time.Time `gorm:"index"`
	RevokedAt *time.Time
	RevokedBy string
}

// HandoverOpening is one browser that opened a link.
type HandoverOpening struct {
	ID         string `gorm:"primaryKey"`
	HandoverID string `gorm:"index"`
	SecretHash []byte
	Address    string
	Device     string
	FirstAt    time.Time
	LastAt     time.Time
}

// Batch is a list of partners that are to become applications or providers at once.
type Batch struct {
	ID        string `gorm:"primaryKey"`
	Side      string // application or provider
	Source    string // where it came from, in words
	Common    string // JSON: what holds for all of them
	State     string // open, made or given up
	By        string
	CreatedAt time.Time
	UpdatedAt time.Time
}

// BatchRow is one of them.
type BatchRow struct {
	BatchID  string `gorm:"primaryKey"`
	Number   int    `gorm:"primaryKey"`
	Label    string
	URL      string
	Document []byte // compressed
	Values   string // JSON: what was entered for it
	State    string // ready, value, decision, no or made
	Body     string // JSON: what it would become
	Notes    string // JSON: what is wrong or missing
	Slug     string
	Skip     bool
}

func migrateChanges(tx *gorm.DB) error {
	if err := tx.AutoMigrate(&Revision{}, &FromFile{}, &Proposal{}, &Rehearsal{}, &Move{}, &MoveWave{}, &MoveApplication{}, &MoveSample{},
		&MoveComparison{}, &MoveTrial{}, &MoveRun{}, &Handover{}, &HandoverOpening{}, &Batch{}, &BatchRow{}); err != nil {
		return err
	}
	// Revisions of older versions have their short name in the body only, and say nothing of deletions; the journal
	// does.
	for _, stmt := range []string{
		"UPDATE revisions SET slug = coalesce(json_extract(body, '$.slug'), ''), name = coalesce(json_extract(body, '$.name'), '') " +
			"WHERE slug IS NULL OR slug = ''",
		`INSERT INTO revisions (object_id, number, kind, slug, name, body, author, remark, at)
			SELECT j.object_id, (SELECT max(number) + 1 FROM revisions r WHERE r.object_id = j.object_id), j.kind, (SELECT slug FROM
				revisions r WHERE r.object_id = j.object_id LIMIT 1), j.object, '', j.who, '', j.at
			FROM journal_entries j WHERE j.action = 'deleted' AND EXISTS (SELECT 1 FROM revisions r WHERE r.object_id = j.object_id)`,
		// What had no history begins with how it is found.
		"INSERT INTO revisions (object_id, number, kind, slug, name, body, author, remark, at) SELECT id, 1, 'group', slug, name, " +
			"json_object('slug', slug, 'name', name, 'description', description), '', '', created_at FROM groups",
		"INSERT INTO revisions (object_id, number, kind, slug, name, body, author, remark, at) SELECT id, 1, 'template', slug, name, " +
			"body, '', '', created_at FROM templates",
		`INSERT INTO revisions (object_id, number, kind, slug, name, body, author, remark, at) SELECT a.application_id || '/' ||
			a.who_id, 1, 'assignment', p.slug || '/' || g.slug, g.name || ' to ' || p.name,
			json_object('application', p.slug, 'group', g.slug, 'roles', json(a.roles)), a.by, '', a.at FROM assignments a JOIN applications
				p ON p.id = a.application_id JOIN groups g ON g.id = a.who_id WHERE a.kind = 'group'`,
		`INSERT INTO revisions (object_id, number, kind, slug, name, body, author, remark, at) SELECT 'setting/' || name, 1, 'setting',
			name, name,
			CASE name WHEN 'client-registration' THEN json_object('on', json(CASE value WHEN 'on' THEN 'true' ELSE 'false' END)) ELSE
				json_remove(value, '$.sealed', '$.error', '$.failedAt', '$.lastSent') END, '', '', '1970-01-01 00:00:00+00:00'
			FROM settings WHERE name IN
				('people', 'routes', 'sessions', 'console-access', 'mail', 'notices', 'traces', 'client-registration')`,
	} {
		if err := tx.Exec(stmt).Error; err != nil {
			return err
		}
	}
	return nil
}
