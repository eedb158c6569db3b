package api

import (
	"fmt"
	"time"

	"innergate/core/config"
	"innergate/core/files"
)

// ConfigFiles is the configuration as files.
type ConfigFiles struct {
	Files []files.Text `json:"files"`
}

// LoadConfig hands files over, to be looked at or loaded.
type LoadConfig struct {
	Files []files.Text `json:"files,omitempty"`
	// Staged are files that were sent beforehand, in parts, because they are many.
	Staged string `json:"staged,omitempty"`
	// Values are the secrets that the files name by reference, such as env:NORTHQUAY_SECRET.
	Values map[string]string `json:"values,omitempty"`
	// RemoveAbsent removes what files once created and these no longer hold.
	RemoveAbsent bool `json:"removeAbsent,omitempty"`
	// Preview tells what would happen, and changes nothing.
	Preview bool `json:"preview,omitempty"`
	// Remark says why; it stands in the history of everything that is changed.
	Remark string `json:"remark,omitempty"`
}

// ConfigResult tells what loading files did, or would do.
type ConfigResult struct {
	Steps     []ConfigStep   `json:"steps"`
	Unchanged int            `json:"unchanged"`
	Effects   []PeopleEffect `json:"effects"`
	// Words are the effects on people as sentences.
	Words []string `json:"words,omitempty"`
}

// Named lists what is created, updated or removed, as kind and short name.
func (r *ConfigResult) Named(action string) []string {
	var out []string
	for _, s := range r.Steps {
		if s.Action == action {
			out = append(out, s.Kind+" "+s.Slug)
		}
	}
	return out
}

// ConfigStep is one change of one object.
type ConfigStep struct {
	Action  string   `json:"action"` // create, update or remove
	Kind    string   `json:"kind"`
	Slug    string   `json:"slug"`
	Name    string   `json:"name"`
	File    string   `json:"file,omitempty"`
	Line    int      `json:"line,omitempty"`
	Changes []Change `json:"changes"`
}

// PeopleEffect is what people would feel of a change at one application.
type PeopleEffect struct {
	Slug string `json:"slug"`
	Name string `json:"name"`
	// Looked is how many people were looked at: those who have used it or are assigned.
	Looked int          `json:"looked"`
	Gains  int          `json:"gains"`
	Loses  int          `json:"loses"`
	Gain   []PersonLine `json:"gain"` // the first of them
	Lose   []PersonLine `json:"lose"`
	// Others is how many would be another user to the application, or could not be told apart any more.
	Others int `json:"others"`
	// More is set where there were more people than are looked at.
	More bool `json:"more,omitempty"`
}

// InWords says it in sentences; nothing where nobody feels anything.
func (e PeopleEffect) InWords() []string {
	var out []string
	people := func(n int, one, many string) string {
		if n == 1 {
			return "1 person " + one
		}
		return fmt.Sprintf("%d people %s", n, many)
	}
	least := ""
	if e.More {
		least = "At least "
	}
	if e.Loses > 0 {
		out = append(out, least+people(e.Loses, "loses", "lose")+" access to "+e.Name+".")
	}
	if e.Gains > 0 {
		out = append(out, least+people(e.Gains, "gets", "get")+" access to "+e.Name+".")
	}
	if e.Others > 0 {
		out = append(out, least+people(e.Others, "becomes", "become")+" another user at "+e.Name+".")
	}
	return out
}

// SealSecret asks for a secret's value to be sealed for this gate, so that it can stand in a file.
type SealSecret struct {
	For   string `json:"for"`
	Value string `json:"value"`
}

// SealedSecret is what can stand in a file.
type SealedSecret struct {
	For    string `json:"for"`
	Sealed string `json:"sealed"`
}

// Staged is a place to which a large configuration is sent in parts before it is looked at or loaded: the JSON of a
// ConfigFiles. It is kept for an hour.
type Staged struct {
	ID   string `json:"id"`
	Size int64  `json:"size"`
}

// Revision is one version of an object, with what it changed.
type Revision struct {
	Kind    string    `json:"kind"`
	Slug    string    `json:"slug"`
	Name    string    `json:"name"`
	Number  int       `json:"number"`
	At      time.Time `json:"at"`
	Author  string    `json:"author"`
	Remark  string    `json:"remark,omitempty"`
	Action  string    `json:"action"` // create, update or remove
	Changes []Change  `json:"changes"`
}

// RevisionView is one version whole, held against another one: the newest, unless one is named.
type RevisionView struct {
	Revision
	Text        string   `json:"text"` // as it stands in a file; empty for a deletion
	Against     int      `json:"against"`
	Differences []Change `json:"differences"`
}

// Restore brings one object back to a revision, or the whole configuration to a time.
type Restore struct {
	Kind   string     `json:"kind,omitempty"`
	Slug   string     `json:"slug,omitempty"`
	Number int        `json:"number,omitempty"`
	At     *time.Time `json:"at,omitempty"`
	// Preview tells what would happen, and changes nothing.
	Preview bool   `json:"preview,omitempty"`
	Remark  string `json:"remark,omitempty"`
}

// NewProposal proposes a change: the whole configuration of an application or provider as it shall be.
type NewProposal struct {
	Kind        string              `json:"kind"` // application or provider
	Slug        string              `json:"slug,omitempty"`
	Application *config.Application `json:"application,omitempty"`
	Provider    *config.Provider    `json:"provider,omitempty"`
	Remark      string              `json:"remark,omitempty"`
}

// Proposal is a change that is not made yet. It can be rehearsed, approved by a second person, and applied at once or
// in a window.
type Proposal struct {
	ID      string    `json:"id"`
	Kind    string    `json:"kind"`
	Slug    string    `json:"slug"`
	Name    string    `json:"name"`
	Base    int       `json:"base"` // the revision that it was made on
	Remark  string    `json:"remark,omitempty"`
	By      string    `json:"by"`
	Theirs  bool      `json:"theirs,omitempty"` // the other side left it through a handover link
	Secret  bool      `json:"secret,omitempty"` // a client secret came with it, which nobody sees; it counts from when the change is made
	State   string    `json:"state"`            // open, approved, applied, withdrawn or missed
	Created time.Time `json:"created"`
	Updated time.Time `json:"updated"`

	NeedsSecond bool       `json:"needsSecond"`
	ApprovedBy  string     `json:"approvedBy,omitempty"`
	ApprovedAt  *time.Time `json:"approvedAt,omitempty"`
	From        *time.Time `json:"from,omitempty"`
	Until       *time.Time `json:"until,omitempty"`
	DecidedBy   string     `json:"decidedBy,omitempty"`
	DecidedAt   *time.Time `json:"decidedAt,omitempty"`
	Note        string     `json:"note,omitempty"`

	Changes []Change `json:"changes"`
	// Effects are what people would feel, in words. Broken says why it can't be made as things are now.
	Effects   []string   `json:"effects"`
	Broken    string     `json:"broken,omitempty"`
	Meanwhile *Meanwhile `json:"meanwhile,omitempty"`
}

// ApplyProposal makes a change now, or in a window: an hour from its beginning, unless its end is named.
type ApplyProposal struct {
	From  *time.Time `json:"from,omitempty"`
	Until *time.Time `json:"until,omitempty"`
}

// WithdrawProposal ends a proposal, with a reason.
type WithdrawProposal struct {
	Note string `json:"note,omitempty"`
}

// JournalVerdict is what a walk along the journal's chain found.
type JournalVerdict struct {
	Whole bool `json:"whole"`
	// Lines is how many fit; Last is the hash of the last of them, to be kept elsewhere and compared.
	Lines  int64  `json:"lines"`
	Last   string `json:"last"`
	Broken string `json:"broken,omitempty"`
}

// NewHandover orders a handover link. Nothing said: a week, three browsers.
type NewHandover struct {
	Hours    int    `json:"hours,omitempty"`
	Openings int    `json:"openings,omitempty"`
	Remark   string `json:"remark,omitempty"` // what the other side is asked for
}

// Handover is a link by which the other side's engineer takes our values and leaves theirs. Link is shown once.
type Handover struct {
	ID         string            `json:"id"`
	Link       string            `json:"link,omitempty"`
	State      string            `json:"state"` // open, used up, over or revoked
	Remark     string            `json:"remark,omitempty"`
	By         string            `json:"by"`
	Created    time.Time         `json:"created"`
	Expires    time.Time         `json:"expires"`
	Most       int               `json:"most"`
	Openings   []HandoverOpening `json:"openings"`
	Left       []string          `json:"left"` // IDs of proposals
	Rehearsals []TraceSummary    `json:"rehearsals"`
}

// HandoverOpening is one browser in which a link was opened.
type HandoverOpening struct {
	At      time.Time `json:"at"`
	Last    time.Time `json:"last"`
	Address string    `json:"address"`
	Device  string    `json:"device"`
}
