package api

import (
	"time"

	"innergate/core/trace"
)

// Accounts is how keeping an application's accounts stands as a whole.
type Accounts struct {
	On         bool       `json:"on"`
	ComparedAt *time.Time `json:"comparedAt,omitempty"`
	// Counts are how many accounts stand how: step, approval, due, failed (with those that are tried again), foreign, ignored, drifted.
	Counts map[string]int `json:"counts"`
	// Can is what the application says that it can do; nothing where it was not asked yet.
	Can *AccountAbilities `json:"can,omitempty"`
	// Settable are the names that the mapping's rules can set: paths of attributes, those of the application's own schemas too.
	Settable []string `json:"settable"`
	// PausedUntil is set where nothing is sent for some time; Code, Reason and Remedy say why.
	PausedUntil *time.Time `json:"pausedUntil,omitempty"`
	Code        string     `json:"code,omitempty"`
	Reason      string     `json:"reason,omitempty"`
	Remedy      string     `json:"remedy,omitempty"`
	// Asking is how many accounts would be taken away at once, more than may be, until somebody agrees; Names are of whom.
	Asking int      `json:"asking,omitempty"`
	Names  []string `json:"names,omitempty"`
	// Comparison is the last one, or the one at work.
	Comparison *AccountComparison `json:"comparison,omitempty"`
	Secrets    []Secret           `json:"secrets"`
	// Subject says where what signs in and the account's names would not meet; empty where they do.
	Subject string `json:"subject,omitempty"`
	// Open says that changes are still being worked out.
	Open bool `json:"open,omitempty"`
}

// AccountAbilities are what an application's SCIM service can do (RFC 7643, section 5).
type AccountAbilities struct {
	At         time.Time `json:"at"`
	Patch      bool      `json:"patch"`
	Filter     bool      `json:"filter"`
	Bulk       bool      `json:"bulk"`
	Sort       bool      `json:"sort"`
	ETag       bool      `json:"etag"`
	Cursor     bool      `json:"cursor"`
	MaxResults int       `json:"maxResults,omitempty"`
	// Schemas are the URIs of those that it adds to users, Paths the attributes that can be set besides those of the standard.
	Schemas []string `json:"schemas"`
	Paths   []string `json:"paths"`
}

// Account is one account, or a group, at an application.
type Account struct {
	ID   string `json:"id"`
	Kind string `json:"kind"` // person, group or foreign
	// Who is the person's ID or the group's short name; empty for an account of nobody known here.
	Who  string `json:"who,omitempty"`
	Name string `json:"name"`
	// State is step, approval, due, failed, foreign or ignored; Would is what is to be sent.
	State      string     `json:"state"`
	Would      string     `json:"would,omitempty"`
	Wanted     bool       `json:"wanted"`
	RemoteID   string     `json:"remoteId,omitempty"`
	RemoteName string     `json:"remoteName,omitempty"`
	There      string     `json:"there,omitempty"` // active, inactive, or empty for none
	Code       string     `json:"code,omitempty"`
	Reason     string     `json:"reason,omitempty"`
	NextTry    *time.Time `json:"nextTry,omitempty"`
	Tries      int        `json:"tries,omitempty"`
	// Drift is where it was found otherwise than it should be, Unkept the paths that the application does not keep, Accepted those that
	// were left to it.
	Drift    []AccountDifference `json:"drift,omitempty"`
	Unkept   []string            `json:"unkept,omitempty"`
	Accepted []string            `json:"accepted,omitempty"`
	By       string              `json:"by,omitempty"`
	Updated  time.Time           `json:"updated"`
}

// AccountDifference is a value that differs there.
type AccountDifference struct {
	Path   string `json:"path"`
	Ours   string `json:"ours"`
	Theirs string `json:"theirs"`
}

// AccountDetail is one account with what decides about it, what it should be, and what went between the gate and the application.
type AccountDetail struct {
	Account
	// Why says why there should be an account, or why not.
	Why string `json:"why"`
	// Values are what it should be, by path.
	Values []AccountValue `json:"values"`
	// Remedy and Side are what to do where it failed, and who.
	Remedy string        `json:"remedy,omitempty"`
	Side   string        `json:"side,omitempty"`
	Talks  []AccountTalk `json:"talks"`
	// Silent are the nodes that did not answer: what they sent is missing among the talks.
	Silent []string `json:"silent,omitempty"`
}

// AccountValue is one value that an account should have.
type AccountValue struct {
	Path  string `json:"path"`
	Value string `json:"value"`
}

// AccountTalk is one step of keeping an account: requests and answers, with what came of them.
type AccountTalk struct {
	ID      string        `json:"id"`
	At      time.Time     `json:"at"`
	What    string        `json:"what"`
	Result  string        `json:"result"`
	Code    string        `json:"code,omitempty"`
	Micros  int64         `json:"micros"`
	Entries []trace.Entry `json:"entries"`
}

// AccountComparison is one comparison of all accounts of an application: working, done or stopped.
type AccountComparison struct {
	ID    string `json:"id"`
	State string `json:"state"`
	By    string `json:"by"`
	// There are the accounts that are there, Groups the groups; of our people Same are as they should be, Create would be made, Change
	// changed, Remove taken away; Foreign are of nobody known here. Drifted were changed by the application.
	There   int       `json:"there"`
	Groups  int       `json:"groups"`
	Same    int       `json:"same"`
	Create  int       `json:"create"`
	Change  int       `json:"change"`
	Remove  int       `json:"remove"`
	Foreign int       `json:"foreign"`
	Drifted int       `json:"drifted"`
	Note    string    `json:"note,omitempty"`
	Started time.Time `json:"started"`
	Touched time.Time `json:"touched"`
}

// AccountAct does something with accounts: approve, retry, leave, keep (no longer leave), adopt, correct (set drift right) or accept (leave
// drift). IDs are whose; none are all for which it makes sense.
type AccountAct struct {
	Do  string   `json:"do"`
	IDs []string `json:"ids,omitempty"`
	// Person is whose an account of nobody becomes, for adopt.
	Person string `json:"person,omitempty"`
}

// AccountActed is how many accounts something was done with.
type AccountActed struct {
	Count int `json:"count"`
}

// AccountAgree agrees that so many accounts are taken away.
type AccountAgree struct {
	Count int `json:"count"`
}

// TriedAccounts is what came of trying an application's SCIM service without changing anything there.
type TriedAccounts struct {
	OK      bool              `json:"ok"`
	Text    string            `json:"text"`
	Code    string            `json:"code,omitempty"`
	Remedy  string            `json:"remedy,omitempty"`
	Remarks []string          `json:"remarks"`
	Users   int               `json:"users"`
	Can     *AccountAbilities `json:"can,omitempty"`
	Entries []trace.Entry     `json:"entries"`
}
