package scim

import (
	"regexp"
	"strings"

	filter "github.com/scim2/filter-parser/v2"
)

// maxPath is the most octets of a path.
const maxPath = 500

// Path leads to a value of a resource (RFC 7644, section 3.10): an attribute, perhaps of another schema, some of its values where it
// has several, and a part of them.
type Path struct {
	// Schema is the URI of a schema that extends the type; empty for the type's own. With no name it stands for the whole of it.
	Schema string
	Name   string
	Filter *Filter
	Sub    string
	// At and Part describe the attribute and its part; Part is nil where the whole attribute is meant.
	At, Part *Attribute
}

// Path reads a path and finds what it leads to.
func (k *Kind) Path(text string) (*Path, *Error) {
	if len(text) > maxPath {
		return nil, bad(InvalidPath, "The path has %d octets; %d are the most.", len(text), maxPath)
	}
	if s := k.extension(text); s != nil {
		return &Path{Schema: s.ID}, nil
	}
	if err := nested(text); err != nil {
		return nil, bad(InvalidPath, "The path can't be read: %s.", err)
	}
	parsed, usual := usualPath(text)
	if !usual {
		var err error
		if parsed, err = filter.ParsePath([]byte(text)); err != nil {
			return nil, bad(InvalidPath, "%q is no path: %s.", text, err)
		}
	}
	p, refused := k.path(parsed.AttributePath)
	if refused != nil {
		return nil, refused
	}
	if parsed.ValueExpression != nil {
		if !p.At.MultiValued {
			return nil, bad(InvalidPath, "%s has one value; it can't be chosen from by a filter.", p.At.Name)
		}
		if p.Filter, refused = k.within(p, parsed.ValueExpression); refused != nil {
			return nil, refused
		}
	}
	if parsed.SubAttribute != nil {
		return p, k.part(p, *parsed.SubAttribute)
	}
	return p, nil
}

// usual are the forms of nearly all paths that are sent: a name, perhaps a choice by one value, perhaps a part. The library takes some
// 15 µs for each octet, and a group loses its members by the thousand.
var usual = regexp.MustCompile(`^([A-Za-z][A-Za-z0-9_-]*)(?:\[([A-Za-z][A-Za-z0-9_-]*) eq "([^"\\]*)"\])?(?:\.([A-Za-z][A-Za-z0-9_-]*))?$`)

// usualPath reads a path of one of those forms; all others are the library's.
func usualPath(text string) (filter.Path, bool) {
	m := usual.FindStringSubmatch(text)
	if m == nil {
		return filter.Path{}, false
	}
	out := filter.Path{AttributePath: filter.AttributePath{AttributeName: m[1]}}
	if m[2] == "" {
		if m[4] != "" {
			out.AttributePath.SubAttribute = &m[4]
		}
		return out, true
	}
	out.ValueExpression = &filter.AttributeExpression{AttributePath: filter.AttributePath{AttributeName: m[2]}, Operator: filter.EQ,
		CompareValue: m[3]}
	if m[4] != "" {
		out.SubAttribute = &m[4]
	}
	return out, true
}

// path finds what the name of an attribute leads to.
func (k *Kind) path(a filter.AttributePath) (*Path, *Error) {
	p := &Path{Name: a.AttributeName}
	if uri := a.URI(); uri != "" && !strings.EqualFold(uri, k.Core.ID) {
		s := k.extension(uri)
		if s == nil {
			return nil, bad(InvalidPath, "The schema %s is not known here.", uri)
		}
		p.Schema = s.ID
	}
	if p.At = k.attribute(p.Schema, p.Name); p.At == nil {
		return nil, bad(InvalidPath, "There is no attribute %s.", a.String())
	}
	p.Name = p.At.Name
	if a.SubAttribute != nil {
		return p, k.part(p, *a.SubAttribute)
	}
	return p, nil
}

func (k *Kind) part(p *Path, name string) *Error {
	if p.Part = p.At.Sub(name); p.Part == nil {
		return bad(InvalidPath, "%s has no part %s.", p.At.Name, name)
	}
	p.Sub = p.Part.Name
	return nil
}

// String writes the path in its canonical form.
func (p *Path) String() string {
	out := p.Name
	switch {
	case p.Schema != "" && p.Name == "":
		return p.Schema
	case p.Schema != "":
		out = p.Schema + ":" + out
	}
	if p.Filter != nil {
		out += "[" + p.Filter.String() + "]"
	}
	if p.Sub != "" {
		out += "." + p.Sub
	}
	return out
}

// Leaf is the attribute whose values the path leads to; nil for a whole schema.
func (p *Path) Leaf() *Attribute {
	if p.Part != nil {
		return p.Part
	}
	return p.At
}

// Top is the attribute as a whole, without a part or a choice of its values.
func (p *Path) Top() *Path { return &Path{Schema: p.Schema, Name: p.Name, At: p.At} }
