package xmltree

import "strings"

// XMLNamespace is the namespace that the prefix xml is always bound to (Namespaces in XML 1.0, section 3).
const XMLNamespace = "http://www.w3.org/XML/1998/namespace"

const xmlnsNamespace = "http://www.w3.org/2000/xmlns/"

// Kind tells what a Node is.
type Kind uint8

// The kinds of nodes that a tree holds.
const (
	KindElement Kind = iota
	KindText
	KindComment
	KindInstruction
)

// Node is one child of an element: an element, a run of text, a comment or a processing instruction.
type Node struct {
	Kind    Kind
	Element *Element
	// Text is the unescaped character data, the comment's text, or the instruction's target and data.
	Text string
}

// Attr is one attribute, namespace declarations excepted. Space is empty for an unprefixed attribute.
type Attr struct {
	Prefix, Local, Space, Value string
}

// Declaration binds Prefix (empty for the default namespace) to Space on one element.
type Declaration struct {
	Prefix, Space string
}

// Element is one element with its declarations, attributes and children, in document order.
type Element struct {
	Prefix, Local, Space string
	Attrs                []Attr
	Declarations         []Declaration
	Children             []Node
	Parent               *Element
	// scope holds declarations from outside the tree that are in force at a fragment's root.
	scope []Declaration
	// size is how many octets a document had of which this is the root.
	size int
}

// Is reports whether the element has this namespace and local name.
func (e *Element) Is(space, local string) bool {
	return e != nil && e.Local == local && e.Space == space
}

// Name is the qualified name as written.
func (e *Element) Name() string {
	if e.Prefix == "" {
		return e.Local
	}
	return e.Prefix + ":" + e.Local
}

// Attr returns the value of an attribute without a namespace, and whether it is there.
func (e *Element) Attr(local string) (string, bool) {
	return e.AttrNS("", local)
}

// AttrNS returns the value of an attribute by namespace and local name, and whether it is there.
func (e *Element) AttrNS(space, local string) (string, bool) {
	for i := range e.Attrs {
		if e.Attrs[i].Local == local && e.Attrs[i].Space == space {
			return e.Attrs[i].Value, true
		}
	}
	return "", false
}

// Value returns an attribute without a namespace, or "".
func (e *Element) Value(local string) string {
	v, _ := e.AttrNS("", local)
	return v
}

// Elements calls yield for each child element until it returns false.
func (e *Element) Elements(yield func(*Element) bool) {
	for i := range e.Children {
		if e.Children[i].Kind == KindElement && !yield(e.Children[i].Element) {
			return
		}
	}
}

// First returns the first child element of this name, or nil.
func (e *Element) First(space, local string) *Element {
	for i := range e.Children {
		if c := e.Children[i].Element; c != nil && c.Local == local && c.Space == space {
			return c
		}
	}
	return nil
}

// All returns every child element of this name.
func (e *Element) All(space, local string) []*Element {
	var out []*Element
	for i := range e.Children {
		if c := e.Children[i].Element; c != nil && c.Local == local && c.Space == space {
			out = append(out, c)
		}
	}
	return out
}

// Walk calls visit for the element and every element below it, parents first, until visit returns false.
func (e *Element) Walk(visit func(*Element) bool) bool {
	if !visit(e) {
		return false
	}
	for i := range e.Children {
		if c := e.Children[i].Element; c != nil && !c.Walk(visit) {
			return false
		}
	}
	return true
}

// Text is all character data directly below the element. It does not look into child elements.
func (e *Element) Text() string {
	if len(e.Children) == 1 && e.Children[0].Kind == KindText {
		return e.Children[0].Text
	}
	var b strings.Builder
	for i := range e.Children {
		if e.Children[i].Kind == KindText {
			b.WriteString(e.Children[i].Text)
		}
	}
	return b.String()
}

// PlainText returns the element's character data, and false if anything else stands among it: a child element, a
// comment, an instruction. Values that identify somebody are read this way, so that a comment can't cut them in two.
func (e *Element) PlainText() (string, bool) {
	switch len(e.Children) {
	case 0:
		return "", true
	case 1:
		return e.Children[0].Text, e.Children[0].Kind == KindText
	}
	return "", false
}

// Root follows the parents up to the tree's root.
func (e *Element) Root() *Element {
	for e.Parent != nil {
		e = e.Parent
	}
	return e
}

// LookupPrefix returns the namespace that prefix is bound to at the element.
func (e *Element) LookupPrefix(prefix string) (string, bool) {
	if prefix == "xml" {
		return XMLNamespace, true
	}
	for at := e; at != nil; at = at.Parent {
		for i := len(at.Declarations) - 1; i >= 0; i-- {
			if at.Declarations[i].Prefix == prefix {
				return at.Declarations[i].Space, true
			}
		}
		for i := len(at.scope) - 1; i >= 0; i-- {
			if at.scope[i].Prefix == prefix {
				return at.scope[i].Space, true
			}
		}
	}
	return "", prefix == ""
}

// Scope lists the declarations in force at the element, the nearest first, each prefix once.
func (e *Element) Scope() []Declaration {
	var out []Declaration
	seen := map[string]bool{}
	add := func(d Declaration) {
		if !seen[d.Prefix] {
			seen[d.Prefix] = true
			out = append(out, d)
		}
	}
	for at := e; at != nil; at = at.Parent {
		for _, d := range at.Declarations {
			add(d)
		}
		for _, d := range at.scope {
			add(d)
		}
	}
	return out
}

// New makes an element to build a document with. The caller declares its namespaces with Declare.
func New(space, prefix, local string) *Element {
	return &Element{Prefix: prefix, Local: local, Space: space}
}

// Declare adds a namespace declaration and returns the element.
func (e *Element) Declare(prefix, space string) *Element {
	e.Declarations = append(e.Declarations, Declaration{prefix, space})
	return e
}

// Set adds an attribute without a namespace and returns the element.
func (e *Element) Set(local, value string) *Element {
	e.Attrs = append(e.Attrs, Attr{Local: local, Value: value})
	return e
}

// SetNS adds an attribute with a namespace and returns the element.
func (e *Element) SetNS(space, prefix, local, value string) *Element {
	e.Attrs = append(e.Attrs, Attr{Prefix: prefix, Local: local, Space: space, Value: value})
	return e
}

// Append adds child elements and returns the element.
func (e *Element) Append(children ...*Element) *Element {
	for _, c := range children {
		c.Parent = e
		e.Children = append(e.Children, Node{Kind: KindElement, Element: c})
	}
	return e
}

// Child makes a child with the parent's prefix and namespace and returns the child.
func (e *Element) Child(local string) *Element {
	c := New(e.Space, e.Prefix, local)
	e.Append(c)
	return c
}

// AddText appends character data and returns the element.
func (e *Element) AddText(text string) *Element {
	if text != "" {
		e.Children = append(e.Children, Node{Kind: KindText, Text: text})
	}
	return e
}

// InsertAfter puts child behind the child element after, or first if after is nil.
func (e *Element) InsertAfter(after, child *Element) {
	at := 0
	for i := range e.Children {
		if after != nil && e.Children[i].Element == after {
			at = i + 1
		}
	}
	child.Parent = e
	e.Children = append(e.Children, Node{})
	copy(e.Children[at+1:], e.Children[at:])
	e.Children[at] = Node{Kind: KindElement, Element: child}
}
