package files

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
	"golang.org/x/sync/errgroup"
)

// Write writes objects as one file that Read reads, in the order of the sections. Remarks stand at its head, a line
// each.
func Write(objects []Object, secrets []Secret, remarks ...string) (string, error) {
	var b strings.Builder
	err := Each(objects, secrets, func(text string) error {
		b.WriteString(text)
		return nil
	}, remarks...)
	return b.String(), err
}

// Each is Write for files that are too large to be held: f is given one part of the text after the other.
func Each(objects []Object, secrets []Secret, f func(text string) error, remarks ...string) error {
	for _, r := range remarks {
		if err := f("# " + r + "\n"); err != nil {
			return err
		}
	}
	var parts []part
	for _, s := range sections {
		var list []Object
		for _, o := range objects {
			if o.Kind == s.kind && (s.kind != Setting || o.Slug == s.setting) {
				list = append(list, o)
			}
		}
		for i, some := range slices.Collect(slices.Chunk(list, inOnePart)) {
			parts = append(parts, part{key: s.key, objects: some, one: s.kind == Setting, goesOn: i > 0})
		}
	}
	if len(secrets) > 0 {
		parts = append(parts, part{key: "secrets", secrets: secrets})
	}
	for some := range slices.Chunk(parts, sideBySide()) {
		var work errgroup.Group
		for i := range some {
			work.Go(func() error { return some[i].write() })
		}
		if err := work.Wait(); err != nil {
			return err
		}
		for i := range some {
			if err := f(some[i].text); err != nil {
				return err
			}
			some[i] = part{}
		}
	}
	return nil
}

// inOnePart is how many objects are written at once; the parts of a long list are written side by side.
const inOnePart = 100

// part is a section of a file, or a piece of its list.
type part struct {
	key     string
	objects []Object
	secrets []Secret
	one     bool // it holds the object itself, no list
	goesOn  bool // the list began in the part before
	text    string
}

func (p *part) write() error {
	value := &yaml.Node{Kind: yaml.SequenceNode}
	for _, o := range p.objects {
		n, err := nodeOf(o.Body)
		if err != nil {
			return fmt.Errorf("the %s can't be written: %w", o.Key(), err)
		}
		if value.Content = append(value.Content, n); p.one {
			value = n
		}
	}
	if p.secrets != nil {
		if err := value.Encode(secretMaps(p.secrets)); err != nil {
			return err
		}
	}
	var b bytes.Buffer
	enc := yaml.NewEncoder(&b)
	enc.SetIndent(2)
	if err := enc.Encode(&yaml.Node{Kind: yaml.MappingNode,
		Content: []*yaml.Node{{Kind: yaml.ScalarNode, Value: p.key}, value}}); err != nil {
		return err
	}
	if err := enc.Close(); err != nil {
		return err
	}
	p.text = b.String()
	if p.goesOn {
		_, p.text, _ = strings.Cut(p.text, "\n")
	}
	return nil
}

func secretMaps(list []Secret) []map[string]string {
	var out []map[string]string
	for _, s := range list {
		m := map[string]string{"for": s.For}
		for k, v := range map[string]string{"env": s.Env, "file": s.File, "sealed": s.Sealed} {
			if v != "" {
				m[k] = v
			}
		}
		out = append(out, m)
	}
	return out
}

// WriteFolder writes objects as a folder of files: one for each application and provider, one for each other section,
// and one for the settings.
func WriteFolder(objects []Object, secrets []Secret, remarks ...string) ([]Text, error) {
	parts := map[string][]Object{}
	for _, o := range objects {
		name := "settings.yaml"
		switch o.Kind {
		case Application, Provider:
			name = o.Kind + "s/" + o.Slug + ".yaml"
		case Setting:
		default:
			name = strings.ReplaceAll(o.Kind, " ", "-") + "s.yaml"
		}
		parts[name] = append(parts[name], o)
	}
	if len(secrets) > 0 && parts["secrets.yaml"] == nil {
		parts["secrets.yaml"] = nil
	}
	var out []Text
	for name, list := range parts {
		var own []Secret
		if name == "secrets.yaml" {
			own = secrets
		}
		text, err := Write(list, own, remarks...)
		if err != nil {
			return nil, err
		}
		out = append(out, Text{name, text})
	}
	slices.SortFunc(out, func(a, b Text) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// nodeOf reads a body and lays it out as people write it, without what is the default anyway.
func nodeOf(body string) (*yaml.Node, error) {
	dec := json.NewDecoder(strings.NewReader(body))
	dec.UseNumber()
	n, err := nodeFrom(dec)
	if err != nil {
		return nil, err
	}
	if n.Kind == yaml.ScalarNode {
		return &yaml.Node{Kind: yaml.MappingNode}, nil
	}
	terse(n)
	return n, nil
}

func nodeFrom(dec *json.Decoder) (*yaml.Node, error) {
	token, err := dec.Token()
	if err != nil {
		return nil, err
	}
	switch v := token.(type) {
	case string:
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: v}, nil
	case json.Number:
		return &yaml.Node{Kind: yaml.ScalarNode, Value: v.String()}, nil
	case bool:
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!bool", Value: strconv.FormatBool(v)}, nil
	case json.Delim:
		n := &yaml.Node{Kind: yaml.MappingNode}
		if v == '[' {
			n.Kind = yaml.SequenceNode
		}
		for dec.More() {
			one, err := nodeFrom(dec)
			if err != nil {
				return nil, err
			}
			n.Content = append(n.Content, one)
		}
		_, err := dec.Token()
		return n, err
	}
	return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!null", Value: "null"}, nil
}

// terse leaves out nothing, false, empty texts, and an endpoint's service, which its list tells.
func terse(n *yaml.Node) {
	n.Style, n.Line, n.Column = 0, 0, 0
	switch n.Kind {
	case yaml.MappingNode:
		var kept []*yaml.Node
		for i := 0; i < len(n.Content); i += 2 {
			key, value := n.Content[i], n.Content[i+1]
			tag := value.ShortTag()
			if value.Kind == yaml.ScalarNode &&
				(tag == "!!null" || tag == "!!bool" && value.Value == "false" || tag == "!!str" && value.Value == "") ||
				key.Value == "service" {
				continue
			}
			terse(key)
			terse(value)
			kept = append(kept, key, value)
		}
		if n.Content = kept; kept == nil {
			n.Style = yaml.FlowStyle
		}
	case yaml.SequenceNode:
		plain := len(n.Content) > 0
		length := 0
		for _, item := range n.Content {
			terse(item)
			length += len(item.Value) + 2
			plain = plain && item.Kind == yaml.ScalarNode
		}
		if len(n.Content) == 0 || plain && length < 100 {
			n.Style = yaml.FlowStyle
		}
	case yaml.ScalarNode:
		if strings.Contains(n.Value, "\n") {
			n.Style = yaml.LiteralStyle
		}
	}
}
