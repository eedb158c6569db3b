// Package people decides whom an incoming subject means, what becomes of a person's profile at a sign-in, and which
// groups and person type follow from it. It works on values: what is in the store is handed in, what should be written
// is handed back.
package people

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"innergate/core/claims"
)

// Attribute says how an attribute of the profile is treated. Attributes that are not defined are text, kept, and seen
// by nobody but engineers.
type Attribute struct {
	Name  string `json:"name"`
	Words string `json:"words,omitempty"`
	// Type is text (the default), list, number, yes-no, date, mail or address.
	Type string `json:"type,omitempty"`
	// Session keeps the value for the sign-in only; it is never stored.
	Session bool `json:"session,omitempty"`
	// Visible shows it to the person, Editable lets the person change it.
	Visible  bool `json:"visible,omitempty"`
	Editable bool `json:"editable,omitempty"`
}

// AttributeTypes are the types of attributes.
var AttributeTypes = []string{"text", "list", "number", "yes-no", "date", "mail", "address"}

// Settings are what holds for all people.
type Settings struct {
	// Types are the person types, the usual one first.
	Types      []string    `json:"types"`
	Attributes []Attribute `json:"attributes"`
}

// DefaultSettings are those of a new gate.
func DefaultSettings() Settings {
	return Settings{Types: []string{"staff", "partner", "guest"}, Attributes: []Attribute{
		{
			Name:     "name",
			Type:     "text",
			Visible:  true,
			Editable: true,
		}, {Name: "given_name", Type: "text", Visible: true, Editable: true},
		{Name: "family_name", Type: "text", Visible: true, Editable: true},
		{
			Name:     "email",
			Type:     "mail",
			Visible:  true,
			Editable: true,
		}, {Name: "phone_number", Type: "text", Visible: true, Editable: true}, {Name: "preferred_username", Type: "text", Visible: true},
		{Name: "groups", Type: "list"},
	}}
}

// Reserved are names in a profile that the gate itself sets for outbound mappings.
const (
	Memberships   = "memberships"    // the gate's groups, by short name
	PersonType    = "person_type"    // the person's type
	AssignedRoles = "assigned_roles" // the application's roles, by assignment
	Username      = "preferred_username"
	ExternalID    = "external_id"
	Mail          = "email"
)

var (
	typeForm = regexp.MustCompile(`^[a-z][a-z0-9-]{0,31}$`)
	nameForm = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_.:-]{0,199}$`)
	dateForm = regexp.MustCompile(`^\d{4}-\d{2}-\d{2}$`)
	numForm  = regexp.MustCompile(`^-?\d{1,18}(\.\d{1,9})?$`)
)

// Check says what is wrong with settings, or returns nil.
func (s Settings) Check() error {
	if len(s.Types) == 0 || len(s.Types) > 50 || len(s.Attributes) > 200 {
		return fmt.Errorf("1 to 50 person types and at most 200 attributes can be")
	}
	for i, t := range s.Types {
		if !typeForm.MatchString(t) {
			return fmt.Errorf("%q is no person type; it has small letters, digits and dashes", t)
		}
		if slices.Contains(s.Types[:i], t) {
			return fmt.Errorf("the person type %q stands twice", t)
		}
	}
	seen := map[string]bool{Memberships: true, PersonType: true, AssignedRoles: true}
	for _, a := range s.Attributes {
		switch {
		case !nameForm.MatchString(a.Name):
			return fmt.Errorf("%q is no name of an attribute; it has letters, digits and _ . : -", a.Name)
		case seen[a.Name]:
			return fmt.Errorf("the attribute %q stands twice, or is one that the gate sets itself", a.Name)
		case a.Type != "" && !slices.Contains(AttributeTypes, a.Type):
			return fmt.Errorf("%q is no type for the attribute %s; %s are", a.Type, a.Name, strings.Join(AttributeTypes, ", "))
		case a.Editable && (!a.Visible || a.Session):
			return fmt.Errorf("the attribute %s can't be edited by people, because they can't see it or it is not kept", a.Name)
		}
		seen[a.Name] = true
	}
	return nil
}

// Of finds how an attribute is treated.
func (s Settings) Of(name string) Attribute {
	i := slices.IndexFunc(s.Attributes, func(a Attribute) bool { return a.Name == name })
	if i < 0 {
		return Attribute{Name: name, Type: "text"}
	}
	return s.Attributes[i]
}

// Limits of a profile.
const (
	maxNames  = 200
	maxValues = 2000
	maxLength = 4096
)

// CheckProfile says what is wrong with a profile that somebody entered, or returns nil.
func (s Settings) CheckProfile(profile claims.Bag) error {
	if len(profile) > maxNames {
		return fmt.Errorf("the profile has %d attributes; %d are the most", len(profile), maxNames)
	}
	for _, name := range slices.Sorted(maps.Keys(profile)) {
		if err := s.CheckValues(name, profile[name]); err != nil {
			return err
		}
	}
	return nil
}

// CheckValues says what is wrong with the values of one attribute.
func (s Settings) CheckValues(name string, values []string) error {
	a := s.Of(name)
	words := a.Words
	if words == "" {
		words = claims.InWords(name)
	}
	switch {
	case !nameForm.MatchString(name):
		return fmt.Errorf("%q is no name of an attribute; it has letters, digits and _ . : -", name)
	case name == Memberships || name == PersonType || name == AssignedRoles:
		return fmt.Errorf("the attribute %s is set by the gate itself", name)
	case len(values) > maxValues:
		return fmt.Errorf("%s has %d values; %d are the most", words, len(values), maxValues)
	}
	for _, v := range values {
		switch {
		case len(v) > maxLength:
			return fmt.Errorf("%s has a value of %d bytes, which begins %q; %d are the most", words, len(v), v[:24], maxLength)
		case strings.ContainsFunc(v, func(r rune) bool { return r < ' ' || r == 0x7f }):
			return fmt.Errorf("%s has a control character in %q", words, v)
		case a.Type == "mail" && !IsMail(v):
			return fmt.Errorf("%q is no mail address", v)
		case a.Type == "number" && !numForm.MatchString(v):
			return fmt.Errorf("%s: %q is no number", words, v)
		case a.Type == "yes-no" && v != "true" && v != "false":
			return fmt.Errorf("%s: %q is neither true nor false", words, v)
		case a.Type == "date" && !dateForm.MatchString(v):
			return fmt.Errorf("%s: %q is no date such as 2026-11-23", words, v)
		}
	}
	return nil
}

var mailForm = regexp.MustCompile(`^[^@\s<>"(),:;\\]{1,64}@([^@\s<>"(),:;\\.]{1,63}\.)+[^@\s<>"(),:;\\.]{1,63}$`)

// IsMail says whether a text has the form of a mail address.
func IsMail(v string) bool { return len(v) <= 254 && mailForm.MatchString(v) }

// Domain is the domain of a mail address or of a scoped identifier, in small letters, or "".
func Domain(v string) string {
	if i := strings.LastIndexByte(v, '@'); i >= 0 {
		return strings.ToLower(v[i+1:])
	}
	return ""
}
