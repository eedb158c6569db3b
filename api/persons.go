package api

import (
	"time"

	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/people"
	"innergate/core/trace"
)

// PersonLine is a person in a list.
type PersonLine struct {
	ID       string     `json:"id"`
	Name     string     `json:"name"`
	Email    string     `json:"email,omitempty"`
	Username string     `json:"username,omitempty"`
	Type     string     `json:"type"`
	Active   bool       `json:"active"`
	LastSeen *time.Time `json:"lastSeen,omitempty"`
}

// Person is somebody known to the gate.
type Person struct {
	PersonLine
	Profile claims.Bag `json:"profile"`
	// Sources tell for each attribute whether it was entered at the gate (hand) or which provider sent it.
	Sources     map[string]string `json:"sources"`
	ExternalID  string            `json:"externalId,omitempty"`
	Groups      []PersonGroup     `json:"groups"`
	Links       []PersonLink      `json:"links"`
	Accounts    []PersonAccount   `json:"accounts"`
	Login       string            `json:"login,omitempty"`
	Credentials []Credential      `json:"credentials"`
	Created     time.Time         `json:"created"`
	Updated     time.Time         `json:"updated"`
}

// PersonGroup is a group that a person is in, and what put them there: hand, or providers.
type PersonGroup struct {
	Slug string   `json:"slug"`
	Name string   `json:"name"`
	By   []string `json:"by"`
}

// PersonLink ties a person to a provider's subject.
type PersonLink struct {
	ID        string    `json:"id"`
	Provider  string    `json:"provider"`
	Slug      string    `json:"slug,omitempty"`
	Subject   string    `json:"subject"`
	FirstUsed time.Time `json:"firstUsed"`
	LastUsed  time.Time `json:"lastUsed"`
}

// PersonAccount is what an application knows a person by.
type PersonAccount struct {
	Application string    `json:"application"`
	Slug        string    `json:"slug"`
	Subject     string    `json:"subject"`
	FirstAt     time.Time `json:"firstAt"`
	LastAt      time.Time `json:"lastAt"`
}

// Credential is what a person proves who they are with, without its secret.
type Credential struct {
	ID       string     `json:"id"`
	Kind     string     `json:"kind"` // password, totp, recovery or passkey
	Name     string     `json:"name,omitempty"`
	Left     int        `json:"left,omitempty"` // recovery codes that are not used
	Created  time.Time  `json:"created"`
	LastUsed *time.Time `json:"lastUsed,omitempty"`
}

// SavePerson adds or changes a person. Groups are those given by hand; without them they stay as they are.
type SavePerson struct {
	Type    string     `json:"type,omitempty"`
	Active  *bool      `json:"active,omitempty"`
	Profile claims.Bag `json:"profile"`
	Groups  *[]string  `json:"groups,omitempty"`
	// Login is the name in the gate's own directory; empty for none.
	Login *string `json:"login,omitempty"`
}

// Group is a group with the number of people in it.
type Group struct {
	config.Group
	People  int       `json:"people"`
	More    bool      `json:"more,omitempty"` // than are counted
	Created time.Time `json:"created"`
}

// Assignment lets a person or a group use an application.
type Assignment struct {
	Kind  string    `json:"kind"` // person or group
	Who   string    `json:"who"`  // a person's ID, a group's short name
	Name  string    `json:"name,omitempty"`
	Hint  string    `json:"hint,omitempty"`
	Roles []string  `json:"roles"`
	By    string    `json:"by,omitempty"`
	At    time.Time `json:"at,omitzero"`
}

// AccessQuestion asks whether somebody would get in.
type AccessQuestion struct {
	Person    string     `json:"person"`
	Provider  string     `json:"provider,omitempty"` // empty for the application's first
	Network   string     `json:"network,omitempty"`
	At        *time.Time `json:"at,omitempty"`
	TwoFactor bool       `json:"twoFactor,omitempty"`
	// Access is a draft in place of the policy that is live.
	Access *access.Policy `json:"access,omitempty"`
}

// AccessAnswer says whether somebody gets in, and why.
type AccessAnswer struct {
	access.Decision
	Person PersonLine `json:"person"`
	// Asked says in words what the rules were asked about.
	Asked string `json:"asked"`
	// Before are things that would stop the sign-in before the rules are asked.
	Before []string `json:"before"`
}

// WhoGetsIn is the answer for many people, a page at a time.
type WhoGetsIn struct {
	Items []AccessAnswer `json:"items"`
	Next  string         `json:"next,omitempty"`
	// Everybody is set where everybody is let in for whom a provider vouches, so that the list is not the whole answer.
	Everybody bool     `json:"everybody"`
	Rules     []string `json:"rules"` // the policy in sentences
}

// RuleSet is a rule set with who uses it.
type RuleSet struct {
	config.RuleSet
	Revision int         `json:"revision"`
	Updated  time.Time   `json:"updated"`
	UsedBy   []Reference `json:"usedBy"`
}

// SetEffect is what a change of a rule set does to one of its users.
type SetEffect struct {
	Object  Reference `json:"object"`
	Broken  string    `json:"broken,omitempty"` // why it could not be used any more
	Changes []string  `json:"changes"`
}

// TryMapping applies a mapping to an input.
type TryMapping struct {
	Mapping claims.Mapping `json:"mapping"`
	Input   claims.Bag     `json:"input"`
	// Sample is a trace's number or a pasted assertion, token, claims or list, in place of Input.
	Sample string `json:"sample,omitempty"`
}

// TriedMapping is what a mapping makes of an input.
type TriedMapping struct {
	claims.Attempt
	Input claims.Bag `json:"input"`
}

// Suggest asks for rules. Direction is in (what a provider sends) or out (what an application wants).
type Suggest struct {
	Direction string         `json:"direction"`
	Sample    string         `json:"sample"`
	Mapping   claims.Mapping `json:"mapping"`
}

// Suggested are rules that could be added, and what was understood of the sample.
type Suggested struct {
	claims.Suggestions
	Input  claims.Bag `json:"input"`
	Source string     `json:"source"`
}

// Preview asks what would become of a sign-in. The input is a trace, a person, or typed values. Drafts stand in for
// what is live.
type Preview struct {
	Application string     `json:"application,omitempty"`
	Provider    string     `json:"provider,omitempty"`
	Trace       string     `json:"trace,omitempty"`
	Person      string     `json:"person,omitempty"`
	Input       claims.Bag `json:"input,omitempty"`
	Sample      string     `json:"sample,omitempty"`
	// AsProfile takes input or sample for the profile itself, so that no provider is asked for.
	AsProfile bool `json:"asProfile,omitempty"`
	// DraftProvider and DraftApplication are configurations that are not saved.
	DraftProvider    *config.Provider    `json:"draftProvider,omitempty"`
	DraftApplication *config.Application `json:"draftApplication,omitempty"`
	TwoFactor        bool                `json:"twoFactor,omitempty"`
	Network          string              `json:"network,omitempty"`
	// Account asks for the person's account at the application, rather than for what sign-in hands on.
	Account bool `json:"account,omitempty"`
}

// Previewed is what would become of a sign-in.
type Previewed struct {
	Input       claims.Bag         `json:"input"`
	In          claims.Attempt     `json:"in"`
	Person      string             `json:"person"`
	Decisions   []trace.Decision   `json:"decisions"`
	Refused     *TraceExplanation  `json:"refused,omitempty"`
	Profile     claims.Bag         `json:"profile"`
	Access      *access.Decision   `json:"access,omitempty"`
	Out         *claims.Attempt    `json:"out,omitempty"`
	Subject     string             `json:"subject,omitempty"`
	SubjectWhy  string             `json:"subjectWhy,omitempty"`
	Sent        string             `json:"sent,omitempty"` // the assertion, the claims or the account, as they would be sent
	Differences []PreviewDifferent `json:"differences"`    // from what is live
}

// PreviewDifferent is one value that a draft changes.
type PreviewDifferent struct {
	Where string   `json:"where"` // profile, sent or access
	Name  string   `json:"name"`
	Live  []string `json:"live"`
	Draft []string `json:"draft"`
}

// AccountCheck compares an application's own list of accounts with the identifiers that a subject rule would send.
type AccountCheck struct {
	Subject config.Subject `json:"subject"`
	// Accounts is the list as text: one identifier a line, or CSV with the identifier in the column that Column names
	// (the first without it).
	Accounts string `json:"accounts"`
	Column   string `json:"column,omitempty"`
}

// AccountChecked is what came of the comparison.
type AccountChecked struct {
	Column    string        `json:"column,omitempty"`
	Accounts  int           `json:"accounts"`
	People    int           `json:"people"`
	Matching  int           `json:"matching"`
	Missing   []string      `json:"missing"` // accounts that nobody here would get
	Newcomers []AccountLine `json:"newcomers"`
	Doubled   []AccountLine `json:"doubled"`
	Differing []AccountLine `json:"differing"`
	Unfit     []AccountLine `json:"unfit"`
	Remark    string        `json:"remark,omitempty"`
	// Counts are the whole numbers where a list is cut at its first thousand.
	Counts map[string]int `json:"counts"`
}

// AccountLine is one account or person of a comparison.
type AccountLine struct {
	Account string `json:"account,omitempty"`
	Value   string `json:"value,omitempty"` // what would be sent
	Person  string `json:"person,omitempty"`
	ID      string `json:"id,omitempty"`
	Why     string `json:"why,omitempty"`
}

// SubjectChange tells who would become another user at an application with another subject rule.
type SubjectChange struct {
	Known    int           `json:"known"` // people whom the application knows
	Same     int           `json:"same"`
	Changed  []AccountLine `json:"changed"` // Account is what it knows them by now
	Failing  []AccountLine `json:"failing"`
	Doubled  []AccountLine `json:"doubled"`
	Sentence string        `json:"sentence"`
}

// Attributes is the table of names that the gate knows.
type Attributes struct {
	Names    []claims.Attribute `json:"names"`
	Families []claims.Family    `json:"families"` // outbound mappings under the usual families of names
	Settings people.Settings    `json:"settings"`
}

// NewImport opens an import. The same file, by its hash, that was not finished is taken up again.
type NewImport struct {
	// Form is csv or jsonl.
	Form string `json:"form"`
	// By is what people in the file are known by: external_id (the usual), email, preferred_username or id.
	By      string `json:"by,omitempty"`
	SkipBad bool   `json:"skipBad,omitempty"`
	SHA256  string `json:"sha256,omitempty"`
}

// Import is an import of people, under way or over.
type Import struct {
	ID string `json:"id"`
	// State is open, running, checked, stopped or done.
	State     string          `json:"state"`
	By        string          `json:"by"`
	KnownBy   string          `json:"knownBy"`
	Size      int64           `json:"size"`
	Checked   bool            `json:"checked"`
	Writing   bool            `json:"writing"`
	Lines     int             `json:"lines"`
	Created   int             `json:"created"`
	Updated   int             `json:"updated"`
	Unchanged int             `json:"unchanged"`
	Bad       int             `json:"bad"`
	Percent   int             `json:"percent"`
	Problems  []ImportProblem `json:"problems"`
	Note      string          `json:"note,omitempty"`
	Started   time.Time       `json:"started"`
	Touched   time.Time       `json:"touched"`
}

// ImportProblem is what is wrong with one line.
type ImportProblem struct {
	Line    int    `json:"line"`
	Message string `json:"message"`
}

// LinkPerson links a person to the subject of a sign-in.
type LinkPerson struct {
	// Reference is the sign-in's reference number.
	Reference string `json:"reference"`
}

// PersonLinkMade is a one-time link for a person. It is shown once.
type PersonLinkMade struct {
	Link    string    `json:"link"`
	Expires time.Time `json:"expires"`
}
