package xmltree

import (
	"errors"
	"io"
	"slices"
	"strings"
)

// ErrGrown tells that a canonical form became much larger than its document, as none does that was made to be read: it
// repeats a namespace at each element that uses it, so that a short document can ask for any amount of it.
var ErrGrown = errors.New("the canonical form is far larger than the document, as it is where a document was made to exhaust its reader")

// CanonicalBudget is how many octets the canonical form of a document of a size may have: four times as many, and some
// for what a small part of one takes along from outside.
func CanonicalBudget(document int64) int64 { return 4*document + 16<<10 }

// Canonical appends the exclusive canonical form without comments of the element and all below it (Exclusive XML
// Canonicalization 1.0, section 3), leaving out the subtree skip if it is not nil. The prefixes in inclusive are
// treated by the rules of inclusive canonicalisation; "#default" there names the default namespace. It has no limit,
// and is for what was made here; what others sent goes through WriteCanonical.
func (e *Element) Canonical(dst []byte, inclusive []string, skip *Element) []byte {
	c := canonicalizer{out: dst, skip: skip, inclusive: prefixList(inclusive)}
	c.element(e, true)
	return c.out
}

// WriteCanonical writes what Canonical appends, part by part. It ends with ErrGrown where that becomes larger than
// CanonicalBudget of the document that the element was read from.
func (e *Element) WriteCanonical(w io.Writer, inclusive []string, skip *Element) error {
	var buf [2048]byte
	c := canonicalizer{
		w: w, out: buf[:0], budget: CanonicalBudget(int64(e.Root().size)), skip: skip, inclusive: prefixList(inclusive),
	}
	c.element(e, true)
	return c.flush()
}

// prefixList is a PrefixList with the default namespace as the empty prefix.
func prefixList(inclusive []string) []string {
	var out []string
	for _, p := range inclusive {
		if p == "#default" {
			p = ""
		}
		out = append(out, p)
	}
	return out
}

type canonicalizer struct {
	w         io.Writer // where out goes, or nil where out is the result
	out       []byte
	written   int64
	budget    int64
	err       error
	skip      *Element
	inclusive []string
	rendered  scope // what output ancestors have declared
	pending   []Declaration
}

// flush writes what has been put together. After the first error nothing is written any more.
func (c *canonicalizer) flush() error {
	if c.w == nil || c.err != nil {
		return c.err
	}
	if c.written += int64(len(c.out)); c.written > c.budget {
		c.err = ErrGrown
	} else {
		_, c.err = c.w.Write(c.out)
	}
	c.out = c.out[:0]
	return c.err
}

// full writes what has been put together once that is a good part, and reports whether to go on.
func (c *canonicalizer) full() bool {
	if c.w != nil && len(c.out) >= 1024 {
		return c.flush() == nil
	}
	return c.err == nil
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
	now, ok := c.rendered.find(prefix)
	if ok && now == space || !ok && prefix == "" && space == "" {
		return
	}
	c.pending = append(c.pending, Declaration{prefix, space})
}

func (c *canonicalizer) element(e *Element, apex bool) {
	outer := len(c.rendered.held)
	c.start(e, apex)
	for i := range e.Children {
		if !c.full() {
			return
		}
		switch n := &e.Children[i]; n.Kind {
		case KindText:
			c.text(n.Text)
		case KindElement:
			if n.Element != c.skip {
				c.element(n.Element, false)
			}
		case KindInstruction:
			c.out = appendInstruction(c.out, n.Text)
		}
	}
	c.end(e)
	c.rendered.cut(outer)
}

// text writes character data, a long one in parts.
func (c *canonicalizer) text(s string) {
	const part = 8 << 10
	for ; len(s) > part && c.full(); s = s[part:] {
		c.out = escapeText(c.out, s[:part])
	}
	if c.full() {
		c.out = escapeText(c.out, s)
	}
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
	for _, d := range c.pending {
		c.rendered.push(d)
	}
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
	if apex {
		for _, prefix := range c.inclusive {
			if space, ok := e.LookupPrefix(prefix); ok {
				c.use(prefix, space)
			}
		}
		return
	}
	for _, d := range e.Declarations {
		if slices.Contains(c.inclusive, d.Prefix) {
			c.use(d.Prefix, d.Space)
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

// textEscapes and attributeEscapes are what characters become in text and in attribute values (Canonical XML 1.0, section 2.3).
var (
	textEscapes      = [256]string{'&': "&amp;", '<': "&lt;", '>': "&gt;", '\r': "&#xD;"}
	attributeEscapes = [256]string{'&': "&amp;", '<': "&lt;", '"': "&quot;", '\t': "&#x9;", '\n': "&#xA;", '\r': "&#xD;"}
)

func escapeText(out []byte, s string) []byte { return escape(out, s, &textEscapes) }

func escapeAttr(out []byte, s string) []byte { return escape(out, s, &attributeEscapes) }

func escape(out []byte, s string, escapes *[256]string) []byte {
	from := 0
	for i := 0; i < len(s); i++ {
		if e := escapes[s[i]]; e != "" {
			out = append(append(out, s[from:i]...), e...)
			from = i + 1
		}
	}
	return append(out, s[from:]...)
}
