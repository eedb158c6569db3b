package xmltree

// Bytes writes the element as a document of its own: every declaration where it was made, comments and instructions
// kept, no white space added. What was parsed and is written reads the same again. A fragment's root also gets the
// declarations that it used from outside.
func (e *Element) Bytes() []byte {
	return e.appendTo(make([]byte, 0, 4096), true)
}

func (e *Element) appendTo(out []byte, root bool) []byte {
	out = append(out, '<')
	out = appendName(out, e.Prefix, e.Local)
	decls := e.Declarations
	if root && (e.Parent != nil || len(e.scope) > 0) {
		decls = e.Scope()
	}
	for _, d := range decls {
		if d.Prefix == "xml" {
			continue
		}
		out = append(out, " xmlns"...)
		if d.Prefix != "" {
			out = append(out, ':')
			out = append(out, d.Prefix...)
		}
		out = append(out, `="`...)
		out = escapeAttr(out, d.Space)
		out = append(out, '"')
	}
	for i := range e.Attrs {
		out = append(out, ' ')
		out = appendName(out, e.Attrs[i].Prefix, e.Attrs[i].Local)
		out = append(out, `="`...)
		out = escapeAttr(out, e.Attrs[i].Value)
		out = append(out, '"')
	}
	if len(e.Children) == 0 {
		return append(out, "/>"...)
	}
	out = append(out, '>')
	for i := range e.Children {
		switch n := &e.Children[i]; n.Kind {
		case KindText:
			out = escapeText(out, n.Text)
		case KindElement:
			out = n.Element.appendTo(out, false)
		case KindComment:
			out = append(out, "<!--"...)
			out = append(out, n.Text...)
			out = append(out, "-->"...)
		case KindInstruction:
			out = appendInstruction(out, n.Text)
		}
	}
	out = append(out, "</"...)
	out = appendName(out, e.Prefix, e.Local)
	return append(out, '>')
}

// Indented writes the element for people to read: one element a line, two spaces a level. It is not for machines, since
// white space that was added would break a signature.
func (e *Element) Indented() string {
	return string(e.indented(nil, ""))
}

func (e *Element) indented(out []byte, pad string) []byte {
	leaf := true
	for i := range e.Children {
		leaf = leaf && e.Children[i].Kind == KindText
	}
	out = append(out, pad...)
	if leaf {
		return append(e.appendTo(out, false), '\n')
	}
	open := *e
	open.Children = []Node{{Kind: KindText, Text: "\x00"}}
	tag := open.appendTo(nil, false)
	cut := len(tag) - len("\x00</>") - len(e.Name())
	out = append(append(out, tag[:cut]...), '\n')
	for i := range e.Children {
		switch n := &e.Children[i]; n.Kind {
		case KindElement:
			out = n.Element.indented(out, pad+"  ")
		case KindText:
			if trimmed := trimSpace(n.Text); trimmed != "" {
				out = append(escapeText(append(out, pad+"  "...), trimmed), '\n')
			}
		case KindComment:
			out = append(out, pad+"  <!--"+n.Text+"-->\n"...)
		}
	}
	out = append(out, pad+"</"...)
	out = appendName(out, e.Prefix, e.Local)
	return append(out, ">\n"...)
}

func trimSpace(s string) string {
	for len(s) > 0 && isSpace(s[0]) {
		s = s[1:]
	}
	for len(s) > 0 && isSpace(s[len(s)-1]) {
		s = s[:len(s)-1]
	}
	return s
}

func appendName(out []byte, prefix, local string) []byte {
	if prefix != "" {
		out = append(out, prefix...)
		out = append(out, ':')
	}
	return append(out, local...)
}
