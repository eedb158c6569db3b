package store

import "time"

// Object is what the records of applications and providers have in common. Body is the configuration in JSON; the other
// columns are for finding and sorting.
type Object struct {
	ID         string `gorm:"primaryKey"`
	Slug       string `gorm:"uniqueIndex;not null"`
	Name       string `gorm:"index;not null"`
	Kind       string
	Reach      string
	EntityID   *string `gorm:"uniqueIndex"`
	Body       string
	Revision   int
	CreatedAt  time.Time
	UpdatedAt  time.Time
	LastSignIn *time.Time
}

// Application is an application's record.
type Application struct{ Object }

// Provider is a provider's record.
type Provider struct{ Object }

// PartnerDocument is a version of a partner's metadata, as it was received.
type PartnerDocument struct {
	ID         string `gorm:"primaryKey"`
	OwnerKind  string `gorm:"index:partner_document_owner"`
	OwnerID    string `gorm:"index:partner_document_owner"`
	Source     string // an address, or how it came
	SHA256     string
	Document   []byte
	CreatedAt  time.Time
	Content    string // hash of the values that count, whatever else changed
	Verdict    string // used, waiting, dismissed or refused
	Reason     string // why it was refused
	Changes    string // JSON: what it changed, or would
	SignedBy   string // fingerprint of the pinned certificate that verified it
	ValidUntil *time.Time
	DecidedBy  string
	DecidedAt  *time.Time
}

// PartnerWatch is the state of looking after a partner's metadata address.
type PartnerWatch struct {
	OwnerID      string `gorm:"primaryKey"`
	OwnerKind    string
	URL          string
	DueAt        time.Time `gorm:"index"`
	CheckedAt    *time.Time
	ChangedAt    *time.Time
	ETag         string
	LastModified string
	Failures     int
	FailingSince *time.Time
	Error        string
	Code         string
	ValidUntil   *time.Time
}

// Source is an aggregate of metadata, a metadata query service, or an uploaded file of many entities.
type Source struct {
	ID            string `gorm:"primaryKey"`
	Slug          string `gorm:"uniqueIndex;not null"`
	Name          string `gorm:"index;not null"`
	Kind          string
	Body          string
	Revision      int
	CreatedAt     time.Time
	UpdatedAt     time.Time
	DueAt         *time.Time `gorm:"index"`
	CheckedAt     *time.Time
	ETag          string
	LastModified  string
	Failures      int
	FailingSince  *time.Time
	Error         string
	Code          string
	ValidUntil    *time.Time
	CacheSeconds  int64
	Entities      int
	SHA256        string
	PublishedName string
}

// SourceEntity is one entity of a source.
type SourceEntity struct {
	SourceID    string `gorm:"primaryKey"`
	EntityID    string `gorm:"primaryKey;index:source_entity_lookup"`
	DisplayName string
	Roles       string
	Problems    int
	ValidUntil  *time.Time
	SHA256      string
	Document    []byte // compressed
	ChangedAt   time.Time
	Round       int64 // of the reading that saw it last
}

// Key is a key of the gate's own, or of the gate's towards one partner. Sealed is the private part.
type Key struct {
	ID          string `gorm:"primaryKey"`
	Purpose     string `gorm:"index"` // saml-signing or saml-encryption
	Kind        string
	State       string
	Certificate []byte
	Sealed      []byte
	CreatedAt   time.Time
	OwnerKind   string
	OwnerID     string `gorm:"index"`
	Chain       string // PEM: the certificates above
	PublishedAt *time.Time
	SwitchAt    *time.Time `gorm:"index"`
	// SwitchAnyway is set where the planned switch waits for nobody.
	SwitchAnyway bool `gorm:"not null;default:false"`
	SwitchedAt   *time.Time
	RetiredAt    *time.Time
	LastUsed     *time.Time
}

// KeyHolder notes that a partner has one of our certificates: it fetched metadata that holds it, or somebody confirmed
// it.
type KeyHolder struct {
	KeyID     string `gorm:"primaryKey"`
	OwnerKind string `gorm:"primaryKey"`
	OwnerID   string `gorm:"primaryKey"`
	How       string // fetched or confirmed
	By        string
	At        time.Time
}

// TrustedCertificate is a certificate of a partner's that is held, laid out for finding and sorting.
type TrustedCertificate struct {
	OwnerKind   string `gorm:"primaryKey"`
	OwnerID     string `gorm:"primaryKey"`
	Fingerprint string `gorm:"primaryKey;index"` // of the certificate, SHA-256
	Use         string `gorm:"primaryKey"`
	Subject     string
	Kind        string
	NotBefore   time.Time
	NotAfter    time.Time `gorm:"index"`
	HeldSince   time.Time
	Origin      string // where it came from
	LastUsed    *time.Time
}

// HandOut notes what was handed out to a partner's side, when, and by whom.
type HandOut struct {
	ID        string `gorm:"primaryKey"`
	OwnerKind string `gorm:"index:hand_out_owner"`
	OwnerID   string `gorm:"index:hand_out_owner"`
	What      string // metadata or sheet
	Hash      string
	Body      string // JSON: the values
	By        string
	FirstAt   time.Time
	LastAt    time.Time
	Count     int
}

// Artifact is a message that waits to be fetched by its addressee, once.
type Artifact struct {
	Handle        string `gorm:"primaryKey"`
	ApplicationID string
	Sealed        []byte
	ExpiresAt     time.Time `gorm:"index"`
}

// Template is a connection with blanks, from which others are started.
type Template struct {
	ID        string `gorm:"primaryKey"`
	Slug      string `gorm:"uniqueIndex;not null"`
	Name      string
	Body      string
	CreatedAt time.Time
	UpdatedAt time.Time
}

// SubjectValue is the random identifier of a person at an application. It is never given to another person.
type SubjectValue struct {
	Value         string `gorm:"primaryKey"`
	PersonID      string `gorm:"uniqueIndex:subject_value_pair"`
	ApplicationID string `gorm:"uniqueIndex:subject_value_pair"`
	CreatedAt     time.Time
}

// SignIn is a sign-in in flight.
type SignIn struct {
	ID          string `gorm:"primaryKey"`
	Reference   string
	BrowserHash []byte
	Address     string // with an index over those that are not finished
	// Network is what Address counts for; Vouched is set once a provider vouched for somebody. Those of which neither is
	// known count against the network's budget, ended or not; an index is over them.
	Network       string
	Vouched       bool   `gorm:"not null;default:false"`
	ApplicationID string `gorm:"uniqueIndex:sign_in_request"`
	RequestID     string `gorm:"uniqueIndex:sign_in_request"` // unsolicited: our own ID
	ProviderID    string
	Flow          string
	State         []byte // sealed JSON of what the engine must know when the answer comes
	OurRequestID  string
	RehearsalID   string `gorm:"index"`
	CreatedAt     time.Time
	ExpiresAt     time.Time `gorm:"index"`
	FinishedAt    *time.Time
}

// UsedID is the ID of something that must not come again.
type UsedID struct {
	Issuer    string    `gorm:"primaryKey"`
	Value     string    `gorm:"primaryKey"`
	ExpiresAt time.Time `gorm:"index"`
}

// Rehearsal is a test sign-in's order.
type Rehearsal struct {
	ID            string `gorm:"primaryKey"`
	TokenHash     []byte `gorm:"uniqueIndex"`
	ApplicationID string
	ProviderID    string
	Flow          string
	To            string
	Fresh         bool
	Stop          bool // at the gate, before the application
	// Second is the application that is opened after the first one and must ask nothing; Keeps has it make and change
	// people as a real sign-in does.
	Second      string
	Keeps       bool
	Out         bool   // ends with signing out
	Scope       string // asked of the provider in place of what is set
	About       string `gorm:"index"` // what it was ordered for: proposal/ID, move/ID or handover/ID
	Override    string // JSON: the configuration of an application or provider that holds in it in place of what is set
	By          string
	CreatedAt   time.Time
	ExpiresAt   time.Time `gorm:"index"`
	BrowserHash []byte
}

// Trace is the record of one sign-in.
type Trace struct {
	ID            string `gorm:"primaryKey"`
	Reference     string `gorm:"uniqueIndex"`
	ApplicationID string
	ProviderID    string
	Application   string
	Provider      string
	PersonID      string
	Person        string
	Flow          string
	Outcome       string
	Code          string
	RehearsalID   string `gorm:"index"`
	Subject       string // what the provider vouched for, as links hold it; empty until then, and where it can't be known again
	SubjectShown  string
	Stranger      bool   `gorm:"not null;default:false"` // nobody has authenticated in it; with an index over these
	Entries       []byte // compressed, then sealed
	StartedAt     time.Time
	Micros        int64
}

// Revision is one version of an object's configuration.
type Revision struct {
	ObjectID string `gorm:"primaryKey"`
	Number   int    `gorm:"primaryKey"`
	Kind     string `gorm:"index:revision_object"`
	Slug     string `gorm:"index:revision_object"`
	Name     string
	Body     string // empty for its deletion
	Author   string
	Remark   string
	At       time.Time `gorm:"index"`
}

// JournalEntry is one line of the append-only journal; Hash covers it and the hash before.
type JournalEntry struct {
	Number   int64 `gorm:"primaryKey;autoIncrement"`
	At       time.Time
	Who      string `gorm:"index"`
	WhoID    string // who it was, whatever they were called
	From     string
	Action   string
	Kind     string `gorm:"index:journal_object"`
	ObjectID string `gorm:"index:journal_object"`
	Object   string
	Before   string
	After    string
	Previous string
	Hash     string
}

// Administrator may use the console.
type Administrator struct {
	ID           string `gorm:"primaryKey"`
	Name         string `gorm:"uniqueIndex"`
	Role         string
	PasswordHash string
	CreatedAt    time.Time
	LastSignIn   *time.Time
	Applications string // JSON: of an assigner
}

// ConsoleSession is an administrator's session.
type ConsoleSession struct {
	TokenHash       []byte `gorm:"primaryKey"`
	AdministratorID string `gorm:"index"`
	GrantID         string // in its place, of one who came in through a provider
	CSRF            string
	CreatedAt       time.Time
	LastUsed        time.Time
	ExpiresAt       time.Time `gorm:"index"`
}

// APIToken is a token for programs. Only its hash is kept.
type APIToken struct {
	ID        string `gorm:"primaryKey"`
	Name      string
	Role      string
	TokenHash []byte `gorm:"uniqueIndex"`
	By        string
	ByID      string `gorm:"index"` // who made it, by ID
	CreatedAt time.Time
	ExpiresAt *time.Time
	LastUsed  *time.Time

	Applications string // JSON: of an assigner
}

// Guess counts failed attempts under a name such as "password:mira" or "address:192.0.2.7".
type Guess struct {
	Name    string `gorm:"primaryKey"`
	Count   int
	FirstAt time.Time
}

// Setting is one value of the service's own.
type Setting struct {
	Name  string `gorm:"primaryKey"`
	Value string
}

// Secret is a client secret: one of ours, given to an application and kept as a hash, or one of a provider's, kept
// sealed.
type Secret struct {
	ID        string `gorm:"primaryKey"`
	OwnerKind string
	OwnerID   string `gorm:"index"`
	State     string // active, or next for one of a provider's that is not used yet
	Hash      []byte
	Sealed    []byte
	Hint      string // how it begins, for people who compare
	By        string
	CreatedAt time.Time
	ExpiresAt *time.Time `gorm:"index"`
	LastUsed  *time.Time
	TriedAt   *time.Time
	Tried     string // what came of trying it
}

// Grant is one sign-in of a person to an OpenID Connect application, from which its tokens come.
type Grant struct {
	ID              string `gorm:"primaryKey"` // also the session ID (sid) in ID tokens
	ApplicationID   string `gorm:"index"`
	ProviderID      string `gorm:"index:grant_provider"`
	ProviderSubject string `gorm:"index:grant_provider"`
	ProviderSession string
	SessionID       string // the session at the gate that it ends with
	PersonID        string `gorm:"index"`
	Subject         string
	TraceID         string
	Sealed          []byte // JSON of what the tokens say
	CodeHash        []byte `gorm:"uniqueIndex"`
	CodeEnds        time.Time
	CodeUsedAt      *time.Time
	Offline         bool
	Rehearsal       bool
	CreatedAt       time.Time
	ExpiresAt       time.Time `gorm:"index"`
	EndedAt         *time.Time
	EndedBy         string
}

// Token is an access or refresh token. Only its hash is kept.
type Token struct {
	Hash      []byte `gorm:"primaryKey"`
	GrantID   string `gorm:"index"`
	Kind      string // access or refresh
	Scope     string
	CreatedAt time.Time
	ExpiresAt time.Time `gorm:"index"`
	UsedAt    *time.Time
}

// PushedRequest is an authorization request that a client handed over beforehand (RFC 9126).
type PushedRequest struct {
	Handle        string `gorm:"primaryKey"`
	ApplicationID string
	Sealed        []byte
	ExpiresAt     time.Time `gorm:"index"`
}

// DeviceCode is a sign-in on another device (RFC 8628).
type DeviceCode struct {
	Hash          []byte `gorm:"primaryKey"`
	UserCode      string `gorm:"uniqueIndex"`
	ApplicationID string
	Scope         string
	State         string // waiting, granted or denied
	GrantID       string
	PolledAt      *time.Time
	Interval      int
	CreatedAt     time.Time
	ExpiresAt     time.Time `gorm:"index"`
}

// Consent is what a person agreed to hand on to an application.
type Consent struct {
	PersonID      string `gorm:"primaryKey"`
	ApplicationID string `gorm:"primaryKey"`
	Scope         string
	At            time.Time
}

// TraceAddition is what happened on the back channel after a sign-in's trace was kept.
type TraceAddition struct {
	ID      string `gorm:"primaryKey"`
	TraceID string `gorm:"index"`
	Code    string `gorm:"not null;default:''"` // of what was refused; with an index over these
	Entries []byte // sealed
	At      time.Time
}
