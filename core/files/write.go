package files

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// Write writes objects as one file that Read reads, in the order of the sections. Remarks stand at its head, a line each.
func Write(objects []Object, secrets []Secret, remarks ...string) (string, error) {
	root := &yaml.Node{Kind: yaml.MappingNode}
	for _, s := range sections {
		list := &yaml.Node{Kind: yaml.SequenceNode}
		for _, o := range objects {
			if o.Kind != s.kind || s.kind == Setting && o.Slug != s.setting {
				continue
			}
			n, err := nodeOf(o.Body)
			if err != nil {
				return "", fmt.Errorf("the %s can't be written: %w", o.Key(), err)
			}
			if s.kind == Setting {
				list = n
				break
			}
			list.Content = append(list.Content, n)
		}
		if len(list.Content) > 0 {
			root.Content = append(root.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: s.key}, list)
		}
	}
	if len(secrets) > 0 {
		var list yaml.Node
		if err := list.Encode(secretMaps(secrets)); err != nil {
			return "", err
		}
		root.Content = append(root.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: "secrets"}, &list)
	}
	var b bytes.Buffer
	for _, r := range remarks {
		b.WriteString("# " + r + "\n")
	}
	if len(root.Content) == 0 {
		return b.String(), nil
	}
	enc := yaml.NewEncoder(&b)
	enc.SetIndent(2)
	if err := enc.Encode(root); err != nil {
		return "", err
	}
	return b.String(), enc.Close()
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

// WriteFolder writes objects as a folder of files: one for each application and provider, one for each other section, and one for the settings.
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

// nodeOf reads a body (JSON is YAML) and lays it out as people write it, without what is the default anyway.
func nodeOf(body string) (*yaml.Node, error) {
	var doc yaml.Node
	if err := yaml.Unmarshal([]byte(body), &doc); err != nil {
		return nil, err
	}
	if len(doc.Content) == 0 {
		return &yaml.Node{Kind: yaml.MappingNode}, nil
	}
	n := doc.Content[0]
	terse(n)
	return n, nil
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
			if value.Kind == yaml.ScalarNode && (tag == "!!null" || tag == "!!bool" && value.Value == "false" || tag == "!!str" && value.Value == "") || key.Value == "service" {
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
