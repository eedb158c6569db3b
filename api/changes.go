package api

import (
	"fmt"

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

// Staged is a place to which a large configuration is sent in parts before it is looked at or loaded: the JSON of a ConfigFiles. It is kept for an hour.
type Staged struct {
	ID   string `json:"id"`
	Size int64  `json:"size"`
}
