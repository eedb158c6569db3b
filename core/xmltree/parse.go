package xmltree

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Limits bounds what Parse accepts. The zero value means the defaults given with each field.
type Limits struct {
	Bytes    int // whole document, default 1 MiB
	Depth    int // nested elements, default 64
	Elements int // elements in all, default 20,000
	Attrs    int // attributes and declarations of one element, default 64
	Name     int // bytes of one qualified name, default 512
	Space    int // bytes of one namespace URI, default 1,024
	Scope    int // namespace declarations in force at one place, default 256
}

func (l Limits) withDefaults() Limits {
	set := func(v *int, d int) {
		if *v == 0 {
			*v = d
		}
	}
	set(&l.Bytes, 1<<20)
	set(&l.Depth, 64)
	set(&l.Elements, 20000)
	set(&l.Attrs, 64)
	set(&l.Name, 512)
	set(&l.Space, 1024)
	set(&l.Scope, 256)
	return l
}

// SyntaxError says why a document can't be read, and where: Offset counts bytes, Line counts from 1.
type SyntaxError struct {
	Offset, Line int
	Reason       string
}

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("line %d: %s", e.Line, e.Reason)
}

// Parse reads one whole document in UTF-8 (a byte order mark is allowed) and returns its root element. The error is a
// *SyntaxError.
func Parse(document []byte, limits Limits) (*Element, error) {
	return parse(document, limits, nil, true)
}

// ParseFragment reads one element that was cut out of another document, such as a decrypted one. The declarations in
// scope are those in force where it belongs (XML Encryption 1.1, section 4.4).
func ParseFragment(fragment []byte, scope []Declaration, limits Limits) (*Element, error) {
	root, err := parse(fragment, limits, newLayer(nil, scope), false)
	if err == nil {
		root.scope = append([]Declaration(nil), scope...)
	}
	return root, err
}

type parser struct {
	src      string
	at       int
	limits   Limits
	elements int
	sections int // CDATA sections read so far
	scope    scope
	slab     []Element
	nodes    []Node // children of the open elements, innermost last
	attrs    []Attr // attributes of all elements read so far
	decls    []Declaration
}

type syntaxPanic struct{ reason string }

func parse(document []byte, limits Limits, outside *layer, whole bool) (*Element, error) {
	p := &parser{
		slab: make([]Element, 0, 32), attrs: make([]Attr, 0, 64), decls: make([]Declaration, 0, 16), nodes: make([]Node, 0, 32),
	}
	return p.read(document, limits, outside, whole)
}

// read reads one document or fragment. A parser may read one after the other: what it made stays as it is, and the room
// left over is used for the next.
func (p *parser) read(document []byte, limits Limits, outside *layer, whole bool) (root *Element, err error) {
	limits = limits.withDefaults()
	if len(document) > limits.Bytes {
		return nil, &SyntaxError{0, 1, fmt.Sprintf("the document is larger than the %d bytes allowed", limits.Bytes)}
	}
	if !utf8.Valid(document) {
		return nil, &SyntaxError{0, 1, "the document is not valid UTF-8"}
	}
	*p = parser{
		src: string(document), limits: limits, scope: scope{outside: outside, held: p.scope.held[:0]},
		slab: p.slab, nodes: p.nodes[:0], attrs: p.attrs[len(p.attrs):], decls: p.decls[len(p.decls):],
	}
	defer func() {
		if r := recover(); r != nil {
			sp, ok := r.(syntaxPanic)
			if !ok {
				panic(r)
			}
			at := min(p.at, len(p.src))
			root, err = nil, &SyntaxError{at, 1 + strings.Count(p.src[:at], "\n"), sp.reason}
		}
	}()
	root = p.document(whole)
	root.size = len(document)
	return root, nil
}

func (p *parser) fail(format string, args ...any) {
	panic(syntaxPanic{fmt.Sprintf(format, args...)})
}

func (p *parser) document(whole bool) *Element {
	p.src = strings.TrimPrefix(p.src, "\ufeff")
	if whole && strings.HasPrefix(p.src, "<?xml") && len(p.src) > 5 && isSpace(p.src[5]) {
		p.declaration()
	}
	p.misc()
	if p.at >= len(p.src) {
		p.fail("there is no root element")
	}
	if p.src[p.at] != '<' {
		p.fail("text stands before the root element")
	}
	root := p.element(nil, 1)
	p.misc()
	if p.at < len(p.src) {
		p.fail("something stands after the root element")
	}
	return root
}

func (p *parser) declaration() {
	end := strings.Index(p.src, "?>")
	if end < 0 {
		p.fail("the XML declaration has no end")
	}
	decl := p.src[5:end]
	if i := strings.Index(decl, "version"); i < 0 || !strings.Contains(decl[i:], "1.0") {
		p.fail("only XML 1.0 is read")
	}
	if i := strings.Index(decl, "encoding"); i >= 0 {
		name := strings.Trim(strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(decl[i+8:]), "=")), "'\"")
		if j := strings.IndexAny(name, "'\" \t\r\n"); j >= 0 {
			name = name[:j]
		}
		if !strings.EqualFold(name, "UTF-8") && !strings.EqualFold(name, "US-ASCII") {
			p.fail("the document says that it is in %q; only UTF-8 is read here", clip(name))
		}
	}
	p.at = end + 2
}

// misc passes over white space, comments and instructions outside the root element.
func (p *parser) misc() {
	for p.at < len(p.src) {
		switch {
		case isSpace(p.src[p.at]):
			p.at++
		case strings.HasPrefix(p.src[p.at:], "<!--"):
			p.comment()
		case strings.HasPrefix(p.src[p.at:], "<?"):
			p.instruction()
		case strings.HasPrefix(p.src[p.at:], "<!"):
			p.fail("a document type declaration is not allowed")
		default:
			return
		}
	}
}

func (p *parser) comment() string {
	p.at += 4
	end := strings.Index(p.src[p.at:], "--")
	if end < 0 || p.at+end+2 >= len(p.src) || p.src[p.at+end+2] != '>' {
		p.fail("a comment has no proper end")
	}
	text := p.src[p.at : p.at+end]
	p.chars(text)
	p.at += end + 3
	return text
}

func (p *parser) instruction() string {
	p.at += 2
	end := strings.Index(p.src[p.at:], "?>")
	if end < 0 {
		p.fail("a processing instruction has no end")
	}
	text := p.src[p.at : p.at+end]
	p.chars(text)
	n := 0
	for n < len(text) && isName(text[n]) {
		n++
	}
	target := text[:n]
	if target == "" || !isNameStart(target[0]) || strings.EqualFold(target, "xml") || (n < len(text) && !isSpace(text[n])) {
		p.fail("a processing instruction has no proper name")
	}
	p.at += end + 2
	return text
}

// chars refuses characters that XML does not allow (XML 1.0, production 2). The source is valid UTF-8 already.
func (p *parser) chars(text string) {
	for i := 0; i < len(text); i++ {
		c := text[i]
		if c < 0x20 && c != '\t' && c != '\n' && c != '\r' {
			p.fail("the character U+%04X is not allowed in XML", c)
		}
		if c == 0xEF && strings.HasPrefix(text[i:], "\uFFFE") || c == 0xEF && strings.HasPrefix(text[i:], "\uFFFF") {
			p.fail("the characters U+FFFE and U+FFFF are not allowed in XML")
		}
	}
}

func (p *parser) newElement() *Element {
	p.elements++
	if p.elements > p.limits.Elements {
		p.fail("there are more than the %d elements allowed", p.limits.Elements)
	}
	if len(p.slab) == cap(p.slab) {
		p.slab = make([]Element, 0, max(8, min(2*cap(p.slab), 1024)))
	}
	p.slab = p.slab[:len(p.slab)+1]
	return &p.slab[len(p.slab)-1]
}

func (p *parser) element(parent *Element, depth int) *Element {
	if depth > p.limits.Depth {
		p.fail("elements are nested deeper than the %d levels allowed", p.limits.Depth)
	}
	e := p.newElement()
	e.Parent = parent
	p.at++
	name := p.name()
	outer := len(p.scope.held)
	empty := p.attributes(e)
	e.Prefix, e.Local = p.split(name)
	e.Space = p.resolve(e.Prefix)
	p.resolveAttributes(e)
	if !empty {
		p.content(e, depth)
		// p.at stands behind "</"
		if !strings.HasPrefix(p.src[p.at:], name) {
			p.fail("the end tag does not fit the start tag <%s>", clip(name))
		}
		p.at += len(name)
		p.space()
		p.expect('>', "the end tag is not closed")
	}
	p.scope.cut(outer)
	return e
}

// attributes reads what stands in a start tag behind the name and reports whether the element is empty (<x/>).
func (p *parser) attributes(e *Element) bool {
	firstAttr, firstDecl := len(p.attrs), len(p.decls)
	for {
		before := p.at
		p.space()
		if p.at >= len(p.src) {
			p.fail("the document ends inside a tag")
		}
		c := p.src[p.at]
		if c == '>' || c == '/' {
			p.at++
			if c == '/' {
				p.expect('>', "a / in a tag must be followed by >")
			}
			if len(p.attrs) > firstAttr {
				e.Attrs = p.attrs[firstAttr:len(p.attrs):len(p.attrs)]
			}
			if len(p.decls) > firstDecl {
				e.Declarations = p.decls[firstDecl:len(p.decls):len(p.decls)]
			}
			return c == '/'
		}
		if p.at == before {
			p.fail("white space is missing before an attribute")
		}
		if len(p.attrs)-firstAttr+len(p.decls)-firstDecl >= p.limits.Attrs {
			p.fail("an element has more than the %d attributes allowed", p.limits.Attrs)
		}
		name := p.name()
		p.space()
		p.expect('=', "an attribute has no value")
		p.space()
		value := p.attrValue()
		switch {
		case name == "xmlns":
			p.declare(firstDecl, "", value)
		case strings.HasPrefix(name, "xmlns:"):
			prefix := name[6:]
			if prefix == "" || strings.IndexByte(prefix, ':') >= 0 {
				p.fail("%q is not a namespace declaration", clip(name))
			}
			p.declare(firstDecl, prefix, value)
		default:
			prefix, local := p.split(name)
			p.attrs = append(p.attrs, Attr{Prefix: prefix, Local: local, Value: value})
		}
	}
}

// declare notes a namespace declaration (Namespaces in XML 1.0, sections 2.2 and 3).
func (p *parser) declare(first int, prefix, space string) {
	switch {
	case prefix == "xmlns", space == xmlnsNamespace:
		p.fail("the prefix xmlns and its namespace can't be declared")
	case (prefix == "xml") != (space == XMLNamespace):
		p.fail("the prefix xml and its namespace belong to each other alone")
	case prefix != "" && space == "":
		p.fail("the prefix %q is declared without a namespace", clip(prefix))
	case len(space) > p.limits.Space:
		p.fail("the namespace of the prefix %q is longer than the %d bytes allowed", clip(prefix), p.limits.Space)
	case p.scope.len() >= p.limits.Scope:
		p.fail("more than the %d namespace declarations allowed are in force at one place", p.limits.Scope)
	}
	for _, d := range p.decls[first:] {
		if d.Prefix == prefix {
			p.fail("the prefix %q is declared twice on one element", clip(prefix))
		}
	}
	p.decls = append(p.decls, Declaration{prefix, space})
	p.scope.push(Declaration{prefix, space})
}

func (p *parser) resolve(prefix string) string {
	if space, ok := p.scope.find(prefix); ok {
		return space
	}
	switch prefix {
	case "":
		return ""
	case "xml":
		return XMLNamespace
	}
	p.fail("the prefix %q is not declared", clip(prefix))
	return ""
}

func (p *parser) resolveAttributes(e *Element) {
	for i := range e.Attrs {
		a := &e.Attrs[i]
		if a.Prefix != "" {
			a.Space = p.resolve(a.Prefix)
		}
		for j := range i {
			if e.Attrs[j].Local == a.Local && e.Attrs[j].Space == a.Space {
				p.fail("the attribute %q stands twice on one element", clip(a.Local))
			}
		}
	}
}

// textRun is character data that came in pieces, which are joined once, when something else comes.
type textRun struct {
	first string
	more  []string
}

func (r *textRun) add(s string) {
	switch {
	case s == "":
	case r.first == "":
		r.first = s
	default:
		r.more = append(r.more, s)
	}
}

// take appends what has come as a node, if anything has, and begins anew.
func (r *textRun) take(nodes []Node) []Node {
	if r.first == "" {
		return nodes
	}
	text := r.first
	if len(r.more) > 0 {
		text += strings.Join(r.more, "")
	}
	*r = textRun{more: r.more[:0]}
	return append(nodes, Node{Kind: KindText, Text: text})
}

// content reads children up to the element's end tag and leaves p.at behind its "</".
func (p *parser) content(e *Element, depth int) {
	first := len(p.nodes)
	var run textRun
	for {
		lt := strings.IndexByte(p.src[p.at:], '<')
		if lt < 0 {
			p.at = len(p.src)
			p.fail("the element <%s> has no end", clip(e.Name()))
		}
		if lt > 0 {
			raw := p.src[p.at : p.at+lt]
			if strings.Contains(raw, "]]>") {
				p.fail("]]> must not stand in text")
			}
			run.add(p.unescape(raw, false))
			p.at += lt
		}
		if strings.HasPrefix(p.src[p.at:], "<![CDATA[") {
			run.add(p.section())
			continue
		}
		p.nodes = run.take(p.nodes)
		if strings.HasPrefix(p.src[p.at:], "</") {
			p.at += 2
			if len(p.nodes) > first {
				e.Children = append([]Node(nil), p.nodes[first:]...)
				clear(p.nodes[first:])
				p.nodes = p.nodes[:first]
			}
			return
		}
		p.nodes = append(p.nodes, p.child(e, depth))
	}
}

// section reads a CDATA section.
func (p *parser) section() string {
	p.at += 9
	if p.sections++; p.sections > 256 {
		p.fail("there are more than the 256 CDATA sections allowed")
	}
	end := strings.Index(p.src[p.at:], "]]>")
	if end < 0 {
		p.fail("a CDATA section has no end")
	}
	raw := p.src[p.at : p.at+end]
	p.chars(raw)
	p.at += end + 3
	return newlines(raw)
}

// child reads the comment, instruction or element that begins here.
func (p *parser) child(e *Element, depth int) Node {
	rest := p.src[p.at:]
	switch {
	case strings.HasPrefix(rest, "<!--"):
		return Node{Kind: KindComment, Text: p.comment()}
	case strings.HasPrefix(rest, "<?"):
		return Node{Kind: KindInstruction, Text: p.instruction()}
	case strings.HasPrefix(rest, "<!"):
		p.fail("a declaration is not allowed inside the document")
	}
	return Node{Kind: KindElement, Element: p.element(e, depth+1)}
}
