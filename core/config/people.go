package config

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/people"
	"innergate/core/saml"
)

// DirectoryProvider holds the options of the gate's own people, who sign in with a password and a second factor. Their
// credentials are kept beside it.
type DirectoryProvider struct {
	// SecondFactor is offered (who has enrolled one is asked for it; the default) or required (everybody has to enrol
	// one).
	SecondFactor string `json:"secondFactor,omitempty"`
	// Passkeys are off (no new ones are set up), second (as the second factor) or alone (also as the only step, without
	// a name and a password; the default). They need a public URL with a host name.
	Passkeys string `json:"passkeys,omitempty"`
	// Help tells people where to ask, on the page.
	Help string `json:"help,omitempty"`
}

// PasskeyUse is Passkeys with its default.
func (d *DirectoryProvider) PasskeyUse() string {
	if d.Passkeys == "" {
		return "alone"
	}
	return d.Passkeys
}

func (p *Provider) validateDirectory(v *validator) {
	if p.Directory == nil {
		p.Directory = &DirectoryProvider{}
	}
	d := p.Directory
	if d.SecondFactor == "" {
		d.SecondFactor = "offered"
	}
	d.Passkeys = d.PasskeyUse()
	v.oneOf("directory.passkeys", d.Passkeys, Allowed["DirectoryProvider.passkeys"]...)
	v.oneOf("directory.secondFactor", d.SecondFactor, Allowed["DirectoryProvider.secondFactor"]...)
	if len(d.Help) > 500 {
		v.add("directory.help", "it has more than 500 characters")
	}
	if len(p.Mapping) > 0 || p.Matching != nil || p.Admission != "refuse" {
		v.add("admission", "the gate's own people are known already; there is nothing to map, match or admit")
	}
}

// RuleSet is a mapping or a list of access rules with a name of its own, used by many.
type RuleSet struct {
	Slug        string `json:"slug"`
	Name        string `json:"name"`
	Description string `json:"description,omitempty"`
	// Kind is mapping or access.
	Kind    string         `json:"kind"`
	Mapping claims.Mapping `json:"mapping,omitempty"`
	Rules   []access.Rule  `json:"rules,omitempty"`
}

// Kinds of rule sets.
const (
	SetMapping = "mapping"
	SetAccess  = "access"
)

// Validate says what is wrong.
func (r *RuleSet) Validate() error {
	v := &validator{}
	v.common(r.Slug, r.Name, r.Description, "", nil, access.Draft)
	v.oneOf("kind", r.Kind, Allowed["RuleSet.kind"]...)
	if r.Kind == SetMapping {
		r.Rules = nil
		v.mapping(r.Mapping)
		if u := r.Mapping.Uses(); len(u) > 0 {
			v.add("mapping", "it uses the rule set %s; a set can't use another one", u[0])
		}
	} else {
		r.Mapping = nil
		if err := access.CheckRules(r.Rules); err != nil {
			v.add("rules", "%s", err)
		}
		if slices.ContainsFunc(r.Rules, func(r access.Rule) bool { return r.Use != "" }) {
			v.add("rules", "a set can't use another one")
		}
	}
	return v.err()
}

// Group is a group of people at the gate.
type Group struct {
	Slug        string `json:"slug"`
	Name        string `json:"name"`
	Description string `json:"description,omitempty"`
}

// Validate says what is wrong.
func (g *Group) Validate() error {
	v := &validator{}
	v.common(g.Slug, g.Name, g.Description, "", nil, access.Draft)
	return v.err()
}

func (v *validator) mapping(m claims.Mapping) {
	if err := m.Check(); err != nil {
		v.add("mapping", "%s", err)
	}
}

func (v *validator) access(p *access.Policy) {
	if p.To == "" {
		p.To = access.Assigned
	}
	if p.Otherwise == "" {
		p.Otherwise = access.Allow
	}
	v.oneOf("access.to", p.To, Allowed["Policy.to"]...)
	v.oneOf("access.otherwise", p.Otherwise, Allowed["Policy.otherwise"]...)
	if len(p.Requires) > 200 ||
		slices.ContainsFunc(p.Requires, func(s string) bool { return strings.TrimSpace(s) == "" || len(s) > 1000 }) {
		v.add("access.requires", "up to 200 names of groups can be required, none of them empty")
	}
	if err := access.CheckRules(p.Rules); err != nil {
		v.add("access.rules", "%s", err)
	}
}

// Admissions are what can happen to a subject that matches nobody.
var Admissions = []string{"refuse", "create", "ask", "pass"}

func (v *validator) people(p *Provider) {
	v.oneOf("admission", p.Admission, Allowed["Provider.admission"]...)
	if err := p.Matching.Check(); err != nil {
		v.add("matching", "%s", err)
	}
	if err := people.CheckGrants(p.Grants); err != nil {
		v.add("grants", "%s", err)
	}
	if err := people.CheckKeep(p.Keep); err != nil {
		v.add("keep", "%s", err)
	}
	if p.Admit != nil {
		if err := p.Admit.Defaults.Check(); err != nil {
			v.add("admit.defaults", "%s", err)
		}
		if len(p.Admit.Groups) > 100 {
			v.add("admit.groups", "100 groups are the most")
		}
	}
	if p.Admission == "pass" && (p.Matching != nil && len(p.Matching.By) > 0 || len(p.Grants) > 0 || p.Admit != nil || len(p.Keep) > 0) {
		v.add("admission", "with pass nobody is stored, so there is nothing to match, grant or keep")
	}
	p.checkContexts(v)
	if len(p.Stronger) > 500 || len(p.TwoFactorContexts) > 50 {
		v.add("stronger", "a context has up to 500 characters, and 50 of them can be listed")
	}
}

// Limit is the most characters that an application takes as an identifier.
func (a *Application) Limit() int {
	if a.Subject.MaxLength > 0 {
		return a.Subject.MaxLength
	}
	if a.Kind == KindOIDC {
		return 255
	}
	return 256
}

// Form is the form that an application takes, or nil for any.
func (s Subject) Form() *regexp.Regexp {
	if s.Pattern == "" {
		return nil
	}
	re, err := regexp.Compile(`^(?:` + s.Pattern + `)$`)
	if err != nil {
		return nil
	}
	return re
}

func (v *validator) subject(s Subject, kind string) {
	if kind == KindOIDC {
		v.oneOf("subject.source", s.Source, "profile", "pairwise", "public")
		v.oneOf("subject.format", s.Format, "")
		v.oneOf("subject.attribute", s.Attribute, "")
	} else {
		v.oneOf("subject.source", s.Source, "profile", "pairwise", "transient")
		if s.Source == "transient" && s.Format != "" && s.Format != saml.FormatTransient {
			v.add("subject.format", "a transient subject has the transient format")
		}
		if s.Attribute != "" && s.Source == "transient" {
			v.add("subject.attribute", "a transient identifier has no use in an attribute")
		}
	}
	if s.MaxLength < 0 || s.MaxLength > 1024 || s.MaxLength != 0 && s.MaxLength < 4 {
		v.add("subject.maxLength", "it must be between 4 and 1024, or 0 for what the standard allows")
	}
	if s.Pattern == "" {
		return
	}
	if len(s.Pattern) > 500 || s.Form() == nil {
		v.add("subject.pattern", "%q is no pattern, or is longer than 500 characters", s.Pattern)
	}
}

// SubjectProblem says why a value can't be the identifier of somebody at the application, or nothing.
func (a *Application) SubjectProblem(value string) string {
	n := len([]rune(value))
	switch {
	case n > a.Limit():
		return fmt.Sprintf("it has %d characters; %d are the most", n, a.Limit())
	case strings.ContainsFunc(value, func(r rune) bool { return r < ' ' || r == 0x7f }):
		return "it has a control character"
	case strings.TrimSpace(value) != value:
		return "it has spaces around it"
	case a.Kind == KindOIDC && strings.ContainsFunc(value, func(r rune) bool { return r > '~' }):
		return "it has letters beyond ASCII, which sub can't have"
	}
	if re := a.Subject.Form(); re != nil && !re.MatchString(value) {
		return "it has another form than " + a.Subject.Pattern
	}
	return ""
}
