// Package files reads and writes the configuration of the gate as text: YAML files that people keep in a repository,
// review and load. It reads strictly, names file, line and key of everything that is wrong, and compares what stands in
// files with what is held. It touches no disk and no database.
package files

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"innergate/core/access"
	"innergate/core/config"
	"innergate/core/people"
)

// The kinds of objects, as they stand in the journal and in revisions.
const (
	Group       = "group"
	RuleSet     = "rule set"
	Source      = "source"
	Template    = "template"
	Provider    = "provider"
	Application = "application"
	Assignment  = "assignment" // of a group to an application; its name is application/group
	Setting     = "setting"
)

// Kinds lists them in the order in which they can be made: what others name comes first.
var Kinds = []string{Group, RuleSet, Source, Template, Provider, Application, Assignment, Setting}

// The settings, by name.
const (
	SettingPeople   = "people"
	SettingRoutes   = "routes"
	SettingSessions = "sessions"
	SettingConsole  = "console-access"
	SettingMail     = "mail"
	SettingNotices  = "notices"
	SettingTraces   = "traces"
	SettingClients  = "client-registration"
	SettingReview   = "review"
	SettingPages    = "pages"
)

// Form is the form of a configuration file. A file may hold any part of it.
type Form struct {
	Groups       []config.Group           `json:"groups,omitempty"`
	RuleSets     []config.RuleSet         `json:"ruleSets,omitempty"`
	Sources      []config.Source          `json:"sources,omitempty"`
	Templates    []config.Template        `json:"templates,omitempty"`
	Providers    []config.Provider        `json:"providers,omitempty"`
	Applications []config.Application     `json:"applications,omitempty"`
	Assignments  []config.GroupAssignment `json:"assignments,omitempty"`
	People       *people.Settings         `json:"people,omitempty"`
	Routes       *access.Routes           `json:"routes,omitempty"`
	Sessions     *config.Sessions         `json:"sessions,omitempty"`
	Console      *config.Console          `json:"console,omitempty"`
	Mail         *config.Mail             `json:"mail,omitempty"`
	Notices      *config.Notices          `json:"notices,omitempty"`
	Traces       *config.Retention        `json:"traces,omitempty"`
	Clients      *config.Registration     `json:"clientRegistration,omitempty"`
	Review       *config.Review           `json:"review,omitempty"`
	Pages        *config.Pages            `json:"pages,omitempty"`
	// Secrets say where secrets come from; they never stand in a file in clear.
	Secrets []Secret `json:"secrets,omitempty"`
}

// section is one key of a file.
type section struct{ key, kind, setting string }

var sections = []section{
	{
		"groups",
		Group,
		"",
	}, {"ruleSets", RuleSet, ""}, {"sources", Source, ""}, {"templates", Template, ""}, {"providers", Provider, ""},
	{"applications", Application, ""}, {"assignments", Assignment, ""},
	{
		"people",
		Setting,
		SettingPeople,
	}, {"routes", Setting, SettingRoutes}, {"sessions", Setting, SettingSessions}, {"console", Setting, SettingConsole},
	{"mail", Setting, SettingMail}, {"notices", Setting, SettingNotices},
	{"traces", Setting, SettingTraces}, {"clientRegistration", Setting, SettingClients}, {"review", Setting, SettingReview},
	{"pages", Setting, SettingPages},
}

// Place is where something stands.
type Place struct {
	File string `json:"file,omitempty"`
	Line int    `json:"line,omitempty"`
}

func (p Place) String() string {
	if p.File == "" {
		return fmt.Sprintf("line %d", p.Line)
	}
	return fmt.Sprintf("%s:%d", p.File, p.Line)
}

// Object is one thing that is configured. Body is its configuration in JSON, in the one form in which it is also kept,
// so that equal bodies are equal configurations.
type Object struct {
	Kind, Slug, Name string
	Body             string
	At               Place
	ID               string // of its record, for what is held

	read   any    // what body was made of, as a pointer; kept so that it need not be decoded again
	readOf string // the body that read belongs to
}

// Key names an object among all others.
func (o *Object) Key() string { return o.Kind + " " + o.Slug }

// Value reads the body. What it gives may share memory with what it gave before, and is only read.
func Value[T any](o *Object) (T, error) {
	if v, ok := o.read.(*T); ok && o.readOf == o.Body {
		return *v, nil
	}
	var v T
	if err := json.Unmarshal([]byte(o.Body), &v); err != nil {
		return v, fmt.Errorf("the %s can't be read: %w", o.Key(), err)
	}
	return v, nil
}

// Secret says where a secret comes from. Exactly one of Env, File and Sealed is set.
type Secret struct {
	// For is what it belongs to: providers/NAME, applications/NAME, mail or notices.
	For string `json:"for"`
	// Env is the name of an environment variable where the command that loads the file runs.
	Env string `json:"env,omitempty"`
	// File is the path of a file with nothing else in it, from where the configuration file lies.
	File string `json:"file,omitempty"`
	// Sealed is a value that only the gate for which it was sealed can open.
	Sealed string `json:"sealed,omitempty"`
	At     Place  `json:"-"`
}

// Key is under which name a secret's value is handed over beside the files; empty for a sealed one.
func (s Secret) Key() string {
	switch {
	case s.Env != "":
		return "env:" + s.Env
	case s.File != "":
		return "file:" + s.At.File + ":" + s.File
	}
	return ""
}

// Set is what stands in one or more files.
type Set struct {
	Objects []Object
	Secrets []Secret
	// Problems is all that is wrong, in the order of files and lines. A set with problems must not be loaded.
	Problems config.Problems
}

// What becomes of an object.
const (
	Create = "create"
	Update = "update"
	Remove = "remove"
)

// Step is one change that leads from what is held to what stands in the files.
type Step struct {
	Action string
	Object
	Before string // the body that is held
}

// Compare finds the steps from what is held to what is wanted. Held are the bodies by kind and slug; gone says of an
// object that is held and not wanted whether it shall be removed. The order is one in which the steps can be taken:
// what is named is made before what names it, and removed after it. The second value is how many objects are as they
// should be.
func Compare(held map[string]map[string]Object, wanted []Object, gone func(Object) bool) (steps []Step, unchanged int) {
	seen := make(map[string]bool, len(wanted))
	byKind := map[string][]Step{}
	for _, o := range wanted {
		seen[o.Key()] = true
		h, ok := held[o.Kind][o.Slug]
		switch {
		case ok && h.Body == o.Body:
			unchanged++
		case ok:
			byKind[o.Kind] = append(byKind[o.Kind], Step{Action: Update, Object: o, Before: h.Body})
		default:
			byKind[o.Kind] = append(byKind[o.Kind], Step{Action: Create, Object: o})
		}
	}
	for _, kind := range Kinds {
		steps = append(steps, byKind[kind]...)
	}
	if gone == nil {
		return steps, unchanged
	}
	for _, kind := range slices.Backward(Kinds) {
		var over []Step
		for _, h := range held[kind] {
			if !seen[h.Key()] && gone(h) {
				over = append(over, Step{Action: Remove, Object: h, Before: h.Body})
			}
		}
		slices.SortFunc(over, func(a, b Step) int { return strings.Compare(a.Slug, b.Slug) })
		steps = append(steps, over...)
	}
	return steps, unchanged
}
