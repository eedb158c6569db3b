package config

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"innergate/core/access"
)

// Template is a connection with blanks, from which others are started. A blank stands as {{name}} wherever its value
// belongs.
type Template struct {
	Slug        string `json:"slug"`
	Name        string `json:"name"`
	Description string `json:"description,omitempty"`
	// Side is application or provider.
	Side   string  `json:"side"`
	Blanks []Blank `json:"blanks,omitempty"`
	// Steps are what the other side's engineer has to do, in order. {{our.entity-id}}, {{our.sso}}, {{our.acs}},
	// {{our.metadata}}, {{our.issuer}} and {{our.redirect}} stand for our values.
	Steps       []string     `json:"steps,omitempty"`
	Application *Application `json:"application,omitempty"`
	Provider    *Provider    `json:"provider,omitempty"`
	// Shipped is set for those that come with the program.
	Shipped bool `json:"shipped,omitempty"`
}

// Blank is a value that is different for each connection.
type Blank struct {
	Name   string `json:"name"`
	Hint   string `json:"hint,omitempty"`
	Sample string `json:"sample,omitempty"`
}

var (
	blankName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,31}$`)
	blankForm = regexp.MustCompile(`\{\{([a-z][a-z0-9.-]*)\}\}`)
)

//go:embed templates.yaml
var shippedTemplates []byte

// ShippedTemplates are those that come with the program.
func ShippedTemplates() []Template {
	var out []Template
	doc, err := yaml.YAMLToJSON(shippedTemplates)
	if err == nil {
		err = json.Unmarshal(doc, &out)
	}
	if err != nil {
		panic(err) // a file of ours, held by a test
	}
	for i := range out {
		out[i].Shipped = true
	}
	return out
}

// Validate says what is wrong.
func (t *Template) Validate() error {
	v := &validator{}
	v.common(t.Slug, t.Name, t.Description, "", nil, access.Draft)
	v.oneOf("side", t.Side, Allowed["Template.side"]...)
	v.steps(t.Steps)
	if (t.Side == "application") != (t.Application != nil) || (t.Side == "provider") != (t.Provider != nil) {
		v.add("side", "a template holds what its side says, and nothing else")
	}
	known := map[string]bool{}
	for i, b := range t.Blanks {
		if !blankName.MatchString(b.Name) || known[b.Name] {
			v.add(
				fmt.Sprintf("blanks[%d].name", i),
				"%q is no name for a blank, or stands twice; use small letters, digits and dashes", b.Name,
			)
		}
		known[b.Name] = true
	}
	for _, name := range t.used() {
		if !known[name] && !strings.HasPrefix(name, "our.") {
			v.add("blanks", "{{%s}} is used, and there is no such blank", name)
		}
	}
	return v.err()
}

// used lists the blanks that stand in the template.
func (t *Template) used() []string {
	var out []string
	for _, m := range blankForm.FindAllStringSubmatch(string(mustMarshal(struct {
		A *Application
		P *Provider
		S []string
	}{t.Application, t.Provider, t.Steps})), -1) {
		if !slices.Contains(out, m[1]) {
			out = append(out, m[1])
		}
	}
	return out
}

func mustMarshal(v any) []byte {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // our own types always marshal
	}
	return b
}

// Fill makes the connection: every blank gets its value. What is missing or can't be is told for all of them at once.
func (t *Template) Fill(values map[string]string) (*Application, *Provider, error) {
	v := &validator{}
	for _, b := range t.Blanks {
		value := values[b.Name]
		switch {
		case strings.TrimSpace(value) == "":
			v.add("values."+b.Name, "it is missing: %s", b.Hint)
		case strings.TrimSpace(value) != value || len(value) > 500 || strings.ContainsFunc(value, func(r rune) bool {
			return r < 0x20 || r == 0x7F
		}):
			v.add("values."+b.Name, "%q can't be used; it begins or ends with white space, is too long, or holds control characters", value)
		}
	}
	for name := range values {
		if !slices.ContainsFunc(t.Blanks, func(b Blank) bool { return b.Name == name }) {
			v.add("values."+name, "the template has no such blank")
		}
	}
	if err := v.err(); err != nil {
		return nil, nil, err
	}
	fill := func(in any, out any) error {
		text := blankForm.ReplaceAllStringFunc(string(mustMarshal(in)), func(m string) string {
			name := m[2 : len(m)-2]
			if strings.HasPrefix(name, "our.") {
				return m
			}
			quoted := mustMarshal(values[name])
			return string(quoted[1 : len(quoted)-1])
		})
		return json.Unmarshal([]byte(text), out)
	}
	if t.Side == "application" {
		a := &Application{}
		if err := fill(t.Application, a); err != nil {
			return nil, nil, err
		}
		err := fill(t.Steps, &a.Steps)
		a.Reach = access.Draft
		return a, nil, err
	}
	p := &Provider{}
	if err := fill(t.Provider, p); err != nil {
		return nil, nil, err
	}
	err := fill(t.Steps, &p.Steps)
	p.Reach = access.Draft
	return nil, p, err
}

// NewTemplate makes a template of a connection. Values that differ from one to the next become blanks wherever they
// stand; certificates, the metadata address, and what belongs to this one connection alone are left out.
func NewTemplate(name string, a *Application, p *Provider, blanks []Blank) (*Template, error) {
	t := &Template{Name: name, Slug: Slug(name), Side: "application", Application: a, Provider: p}
	if p != nil {
		t.Side = "provider"
	}
	text := string(mustMarshal(t))
	for _, b := range blanks {
		if b.Sample == "" {
			return nil, Problems{{Field: "blanks", Message: fmt.Sprintf("for the blank %s no value of this connection is given", b.Name)}}
		}
		quoted := mustMarshal(b.Sample)
		inner := string(quoted[1 : len(quoted)-1])
		if !strings.Contains(text, inner) {
			return nil, Problems{
				{
					Field:   "blanks",
					Message: fmt.Sprintf("%q, which should become the blank %s, stands nowhere in this connection", b.Sample, b.Name),
				},
			}
		}
		text = strings.ReplaceAll(text, inner, "{{"+b.Name+"}}")
	}
	out := &Template{}
	if err := json.Unmarshal([]byte(text), out); err != nil {
		return nil, err
	}
	out.Name, out.Slug, out.Blanks = name, Slug(name), blanks
	if out.Application != nil {
		out.Steps = out.Application.Steps
		out.Application.Name, out.Application.Slug, out.Application.Reach, out.Application.Steps, out.Application.Contact = "", "", "",
			nil, ""
		if s := out.Application.SAML; s != nil {
			s.Certificates, s.Metadata, s.Encrypt = nil, nil, ""
		}
		if s := out.Application.OIDC; s != nil {
			s.ClientID, s.Keys = "", ""
		}
	} else {
		out.Steps = out.Provider.Steps
		out.Provider.Name, out.Provider.Slug, out.Provider.Reach, out.Provider.Steps, out.Provider.Contact = "", "", "", nil, ""
		if s := out.Provider.SAML; s != nil {
			s.Certificates, s.Metadata = nil, nil
		}
		if s := out.Provider.OIDC; s != nil {
			s.ClientID = ""
		}
	}
	return out, out.Validate()
}
