package xmltree

import (
	"slices"
	"strings"
)

// Canonical appends the exclusive canonical form without comments of the element and all below it (Exclusive XML
// Canonicalization 1.0, section 3), leaving out the subtree skip if it is not nil. The prefixes in inclusive are
// treated by the rules of inclusive canonicalisation; "#default" there names the default namespace.
func (e *Element) Canonical(dst []byte, inclusive []string, skip *Element) []byte {
	c := canonicalizer{out: dst, skip: skip}
	for _, p := range inclusive {
		if p == "#default" {
			p = ""
		}
		c.inclusive = append(c.inclusive, p)
	}
	c.element(e, true)
	return c.out
}

type canonicalizer struct {
	out       []byte
	skip      *Element
	inclusive []string
	rendered  []Declaration // what output ancestors have declared, innermost last
	pending   []Declaration
}

func (c *canonicalizer) binding(prefix string) (string, bool) {
	for i := len(c.rendered) - 1; i >= 0; i-- {
		if c.rendered[i].Prefix == prefix {
			return c.rendered[i].Space, true
		}
	}
	return "", false
}

// use notes that prefix must be declared as space here, unless an output ancestor did it already.
func (c *canonicalizer) use(prefix, space string) {
	if prefix == "xml" {
		return
	}
	for i := range c.pending {
		if c.pending[i].Prefix == prefix {
			return
		}
	}
	now, ok := c.binding(prefix)
	if ok && now == space || !ok && prefix == "" && space == "" {
		return
	}
	c.pending = append(c.pending, Declaration{prefix, space})
}

func (c *canonicalizer) element(e *Element, apex bool) {
	outer := len(c.rendered)
	c.start(e, apex)
	for i := range e.Children {
		switch n := &e.Children[i]; n.Kind {
		case KindText:
			c.out = escapeText(c.out, n.Text)
		case KindElement:
			if n.Element != c.skip {
				c.element(n.Element, false)
			}
		case KindInstruction:
			c.out = appendInstruction(c.out, n.Text)
		}
	}
	c.end(e)
	c.rendered = c.rendered[:outer]
}

// start writes an element's start tag with the declarations that it needs there.
func (c *canonicalizer) start(e *Element, apex bool) {
	c.pending = c.pending[:0]
	c.use(e.Prefix, e.Space)
	for i := range e.Attrs {
		if e.Attrs[i].Prefix != "" {
			c.use(e.Attrs[i].Prefix, e.Attrs[i].Space)
		}
	}
	if len(c.inclusive) > 0 {
		c.useInclusive(e, apex)
	}
	if len(c.pending) > 1 {
		slices.SortFunc(c.pending, func(a, b Declaration) int { return strings.Compare(a.Prefix, b.Prefix) })
	}
	c.out = append(c.out, '<')
	c.name(e.Prefix, e.Local)
	for _, d := range c.pending {
		c.out = append(c.out, " xmlns"...)
		if d.Prefix != "" {
			c.out = append(c.out, ':')
			c.out = append(c.out, d.Prefix...)
		}
		c.out = append(c.out, `="`...)
		c.out = escapeAttr(c.out, d.Space)
		c.out = append(c.out, '"')
	}
	c.rendered = append(c.rendered, c.pending...)
	c.attributes(e)
	c.out = append(c.out, '>')
}

func (c *canonicalizer) end(e *Element) {
	c.out = append(c.out, "</"...)
	c.name(e.Prefix, e.Local)
	c.out = append(c.out, '>')
}

// useInclusive adds the declarations of the PrefixList that are in force at the apex, or made anew further down.
func (c *canonicalizer) useInclusive(e *Element, apex bool) {
	for _, prefix := range c.inclusive {
		if apex {
			if space, ok := e.LookupPrefix(prefix); ok {
				c.use(prefix, space)
			}
			continue
		}
		for _, d := range e.Declarations {
			if d.Prefix == prefix {
				c.use(prefix, d.Space)
			}
		}
	}
}

func (c *canonicalizer) name(prefix, local string) {
	if prefix != "" {
		c.out = append(c.out, prefix...)
		c.out = append(c.out, ':')
	}
	c.out = append(c.out, local...)
}

// attributes writes the attributes sorted by namespace, then local name; those without a namespace come first.
func (c *canonicalizer) attributes(e *Element) {
	attrs := e.Attrs
	less := func(a, b Attr) int {
		if d := strings.Compare(a.Space, b.Space); d != 0 {
			return d
		}
		return strings.Compare(a.Local, b.Local)
	}
	if !slices.IsSortedFunc(attrs, less) {
		attrs = slices.Clone(attrs)
		slices.SortFunc(attrs, less)
	}
	for i := range attrs {
		c.out = append(c.out, ' ')
		c.name(attrs[i].Prefix, attrs[i].Local)
		c.out = append(c.out, `="`...)
		c.out = escapeAttr(c.out, attrs[i].Value)
		c.out = append(c.out, '"')
	}
}

func appendInstruction(out []byte, text string) []byte {
	target, data := text, ""
	if i := strings.IndexAny(text, " \t\r\n"); i >= 0 {
		target, data = text[:i], strings.TrimLeft(text[i:], " \t\r\n")
	}
	out = append(out, "<?"...)
	out = append(out, target...)
	if data != "" {
		out = append(out, ' ')
		out = append(out, newlines(data)...)
	}
	return append(out, "?>"...)
}

func escapeText(out []byte, s string) []byte {
	from := 0
	for i := 0; i < len(s); i++ {
		var esc string
		switch s[i] {
		case '&':
			esc = "&amp;"
		case '<':
			esc = "&lt;"
		case '>':
			esc = "&gt;"
		case '\r':
			esc = "&#xD;"
		default:
			continue
		}
		out = append(out, s[from:i]...)
		out = append(out, esc...)
		from = i + 1
	}
	return append(out, s[from:]...)
}

func escapeAttr(out []byte, s string) []byte {
	from := 0
	for i := 0; i < len(s); i++ {
		var esc string
		switch s[i] {
		case '&':
			esc = "&amp;"
		case '<':
			esc = "&lt;"
		case '"':
			esc = "&quot;"
		case '\t':
			esc = "&#x9;"
		case '\n':
			esc = "&#xA;"
		case '\r':
			esc = "&#xD;"
		default:
			continue
		}
		out = append(out, s[from:i]...)
		out = append(out, esc...)
		from = i + 1
	}
	return append(out, s[from:]...)
}
