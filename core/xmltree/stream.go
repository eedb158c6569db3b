package xmltree

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"
)

// StreamLimits bounds what a stream reads. The zero value means the defaults given with each field.
type StreamLimits struct {
	Bytes int64  // in all, default 256 MiB
	Piece int    // bytes of one piece, default 4 MiB
	Depth int    // containers within containers, default 16
	Each  Limits // of one whole element
}

// PieceKind tells what a Piece is.
type PieceKind uint8

// The kinds of pieces that a stream hands on.
const (
	PieceOpen        PieceKind = iota // a container begins; Element has its name, attributes and declarations, and never any children
	PieceClose                        // the container ends
	PieceElement                      // a whole element; its Parent is the container
	PieceSpace                        // white space between elements, line ends normalised
	PieceInstruction                  // a processing instruction inside a container
)

// Piece is one part of a document that is read as a stream.
type Piece struct {
	Kind    PieceKind
	Element *Element
	Text    string
	// Read is how many octets of the document are used up with it.
	Read int64
}

// Stream reads a document that is too large for one tree: the root, and whatever below it enter says yes to, are
// containers whose children come one by one; any other element comes as a whole, read by the same strict parser as a
// document of its own. A cut between pieces that the parser does not agree with is an error. Inside containers only
// elements, white space, comments and instructions may stand. Visit stops the stream with an error of its own.
func Stream(r io.Reader, limits StreamLimits, enter func(*Element) bool, visit func(Piece) error) error {
	if limits.Bytes == 0 {
		limits.Bytes = 256 << 20
	}
	if limits.Piece == 0 {
		limits.Piece = 4 << 20
	}
	if limits.Depth == 0 {
		limits.Depth = 16
	}
	if limits.Each.Bytes == 0 {
		limits.Each.Bytes = limits.Piece
	}
	s := &stream{r: r, limits: limits, line: 1, enter: enter, visit: visit}
	return s.run()
}

type stream struct {
	r      io.Reader
	limits StreamLimits
	enter  func(*Element) bool
	visit  func(Piece) error
	whole  []byte // the memory that buf lies in
	buf    []byte // what was read and not used up
	read   int64
	line   int
	eof    bool
	open   []*Element
	scopes []*layer
	parser parser // of the parts, one after the other
}

func (s *stream) hand(p Piece) error {
	p.Read = s.read - int64(len(s.buf))
	return s.visit(p)
}

func (s *stream) fail(format string, args ...any) error {
	return &SyntaxError{int(s.read) - len(s.buf), s.line, fmt.Sprintf(format, args...)}
}

// errEnd is met where the document ends in the middle of something.
var errEnd = errors.New("the document ends too early")

// more reads another part of the document behind what is there.
func (s *stream) more() error {
	if s.eof {
		return errEnd
	}
	if len(s.buf) >= s.limits.Piece {
		return s.fail("one element has more than the %d bytes allowed", s.limits.Piece)
	}
	if cap(s.buf)-len(s.buf) < 64<<10 {
		if cap(s.whole)-len(s.buf) < 128<<10 {
			s.whole = make([]byte, max(2*len(s.buf), 256<<10))
		}
		s.buf = s.whole[:copy(s.whole, s.buf)]
	}
	n, err := s.r.Read(s.buf[len(s.buf):cap(s.buf)])
	s.buf = s.buf[:len(s.buf)+n]
	if s.read += int64(n); s.read > s.limits.Bytes {
		return s.fail("the document is larger than the %d bytes allowed", s.limits.Bytes)
	}
	switch {
	case err == io.EOF:
		s.eof = true
	case err != nil:
		return err
	}
	return nil
}

// used drops the first n bytes.
func (s *stream) used(n int) {
	s.line += bytes.Count(s.buf[:n], []byte{'\n'})
	s.buf = s.buf[n:]
}

// has reports whether the buffer has text at a place, reading on where that can't be told yet.
func (s *stream) has(at int, text string) (bool, error) {
	for len(s.buf)-at < len(text) {
		if err := s.more(); err == errEnd {
			return false, nil
		} else if err != nil {
			return false, err
		}
	}
	return string(s.buf[at:at+len(text)]) == text, nil
}

// find returns where text stands at or behind a place.
func (s *stream) find(at int, text string) (int, error) {
	for {
		if i := bytes.Index(s.buf[min(at, len(s.buf)):], []byte(text)); i >= 0 {
			return at + i, nil
		}
		at = max(at, len(s.buf)-len(text)+1)
		if err := s.more(); err != nil {
			return 0, err
		}
	}
}

// tagEnd returns the place behind the tag that begins at a place, quotes heeded.
func (s *stream) tagEnd(at int) (int, error) {
	at++
	for {
		i := bytes.IndexAny(s.buf[at:], `>"'`)
		if i < 0 {
			at = len(s.buf)
			if err := s.more(); err != nil {
				return 0, err
			}
			continue
		}
		at += i
		if s.buf[at] == '>' {
			return at + 1, nil
		}
		closing, err := s.find(at+1, string(s.buf[at]))
		if err != nil {
			return 0, err
		}
		at = closing + 1
	}
}

// special returns the place behind a comment, CDATA section or instruction that begins at a place, or at itself if none
// does.
func (s *stream) special(at int) (int, error) {
	for _, k := range [...][2]string{{"<!--", "-->"}, {"<![CDATA[", "]]>"}, {"<?", "?>"}} {
		yes, err := s.has(at, k[0])
		if err != nil {
			return 0, err
		}
		if yes {
			end, err := s.find(at+len(k[0]), k[1])
			return end + len(k[1]), err
		}
	}
	return at, nil
}

// elementEnd returns the place behind the element that begins the buffer.
func (s *stream) elementEnd() (int, error) {
	at, depth := 0, 0
	for {
		lt, err := s.find(at, "<")
		if err != nil {
			return 0, err
		}
		if len(s.buf)-lt < 2 {
			if _, err := s.has(lt, "<!"); err != nil {
				return 0, err
			}
		}
		if lt+1 < len(s.buf) && (s.buf[lt+1] == '!' || s.buf[lt+1] == '?') {
			behind, err := s.special(lt)
			if err != nil {
				return 0, err
			}
			if behind == lt {
				return 0, s.fail("a declaration is not allowed inside the document")
			}
			at = behind
			continue
		}
		end, err := s.tagEnd(lt)
		if err != nil {
			return 0, err
		}
		switch {
		case s.buf[lt+1] == '/':
			depth--
		case s.buf[end-2] != '/':
			depth++
		}
		if at = end; depth == 0 {
			return end, nil
		}
		if depth < 0 {
			return 0, s.fail("an end tag stands where none can be")
		}
	}
}

func (s *stream) run() error {
	if yes, err := s.has(0, "\ufeff"); err != nil {
		return err
	} else if yes {
		s.used(3)
	}
	yes, err := s.has(0, "<?xml")
	if err == nil && yes && len(s.buf) < 6 {
		_, err = s.has(0, "<?xml ")
	}
	if err != nil {
		return err
	}
	if yes && len(s.buf) > 5 && isSpace(s.buf[5]) {
		end, err := s.find(0, "?>")
		if err != nil {
			return s.clear(err)
		}
		// The declaration is read by the same code as for a whole document, with a root of no account behind it.
		if _, err := parse(append(bytes.Clone(s.buf[:end+2]), "<x/>"...), s.limits.Each, nil, true); err != nil {
			return err
		}
		s.used(end + 2)
	}
	for {
		done, err := s.step()
		if err != nil {
			return s.clear(err)
		}
		if done {
			return nil
		}
	}
}

func (s *stream) clear(err error) error {
	if err != errEnd {
		return err
	}
	if len(s.open) == 0 {
		return s.fail("there is no root element")
	}
	return s.fail("the element <%s> has no end", clip(s.open[len(s.open)-1].Name()))
}

// step takes the next piece.
func (s *stream) step() (done bool, err error) {
	lt, err := s.find(0, "<")
	if err == errEnd && s.open == nil && s.scopes != nil {
		if strings.TrimSpace(string(s.buf)) != "" {
			return false, s.fail("something stands after the root element")
		}
		return true, nil
	}
	if err != nil {
		return false, err
	}
	if lt > 0 {
		if err := s.space(s.buf[:lt]); err != nil {
			return false, err
		}
		s.used(lt)
	}
	behind, err := s.special(0)
	switch {
	case err != nil:
		return false, err
	case behind > 0:
		return false, s.aside(behind)
	}
	if yes, err := s.has(0, "<!"); err != nil || yes {
		if err == nil {
			err = s.fail("a document type declaration is not allowed")
		}
		return false, err
	}
	if yes, err := s.has(0, "</"); err != nil || yes {
		if err != nil {
			return false, err
		}
		return false, s.leave()
	}
	if s.open == nil && s.scopes != nil {
		return false, s.fail("something stands after the root element")
	}
	return false, s.begin()
}

// space takes what stands between elements.
func (s *stream) space(text []byte) error {
	for _, c := range text {
		if !isSpace(c) {
			return s.fail("text stands between the elements")
		}
	}
	if len(s.open) == 0 {
		return nil
	}
	return s.hand(Piece{Kind: PieceSpace, Text: newlines(string(text))})
}

// aside takes a comment or instruction.
func (s *stream) aside(end int) error {
	text := string(s.buf[:end])
	if !utf8.ValidString(text) {
		return s.fail("the document is not valid UTF-8")
	}
	// Read by the strict parser in front of a root of no account.
	if strings.HasPrefix(text, "<![") {
		return s.fail("text stands between the elements")
	}
	if _, err := s.parser.read([]byte(text+"<x/>"), s.limits.Each, nil, false); err != nil {
		return s.fail("%s", err.(*SyntaxError).Reason)
	}
	s.used(end)
	if len(s.open) == 0 || strings.HasPrefix(text, "<!--") {
		return nil
	}
	return s.hand(Piece{Kind: PieceInstruction, Text: newlines(text[2 : len(text)-2])})
}

func (s *stream) scope() *layer {
	if len(s.scopes) == 0 {
		return nil
	}
	return s.scopes[len(s.scopes)-1]
}

func (s *stream) parse(raw []byte) (*Element, error) {
	e, err := s.parser.read(raw, s.limits.Each, s.scope(), false)
	var syntax *SyntaxError
	if errors.As(err, &syntax) {
		return nil, &SyntaxError{int(s.read) - len(s.buf) + syntax.Offset, s.line + syntax.Line - 1, syntax.Reason}
	}
	if err == nil && len(s.open) > 0 {
		e.Parent = s.open[len(s.open)-1]
	}
	return e, err
}

// begin takes an element: its start tag alone where it is a container, else all of it.
func (s *stream) begin() error {
	end, err := s.tagEnd(0)
	if err != nil {
		return err
	}
	tag := s.buf[:end]
	empty := tag[end-2] == '/'
	start := tag
	if !empty {
		start = append(bytes.Clone(tag[:end-1]), "/>"...)
	}
	e, err := s.parse(start)
	if err != nil {
		return err
	}
	if len(s.open) > 0 && !s.enter(e) {
		if !empty {
			if end, err = s.elementEnd(); err != nil {
				return err
			}
			if e, err = s.parse(s.buf[:end]); err != nil {
				return err
			}
		}
		s.used(end)
		return s.hand(Piece{Kind: PieceElement, Element: e})
	}
	if len(s.open) >= s.limits.Depth {
		return s.fail("containers are nested deeper than the %d levels allowed", s.limits.Depth)
	}
	s.used(end)
	s.open = append(s.open, e)
	s.scopes = append(s.scopes, newLayer(s.scope(), e.Declarations))
	if err := s.hand(Piece{Kind: PieceOpen, Element: e}); err != nil || !empty {
		return err
	}
	return s.closed()
}

func (s *stream) closed() error {
	e := s.open[len(s.open)-1]
	if s.open = s.open[:len(s.open)-1]; len(s.open) == 0 {
		s.open = nil
	} else {
		s.scopes = s.scopes[:len(s.scopes)-1]
	}
	return s.hand(Piece{Kind: PieceClose, Element: e})
}

// leave takes a container's end tag.
func (s *stream) leave() error {
	end, err := s.find(0, ">")
	if err != nil {
		return err
	}
	name := strings.TrimRight(string(s.buf[2:end]), " \t\r\n")
	if len(s.open) == 0 || name != s.open[len(s.open)-1].Name() {
		return s.fail("the end tag </%s> does not fit", clip(name))
	}
	s.used(end + 1)
	return s.closed()
}

// CanonicalStream writes the exclusive canonical form of a document that is read as a stream (Exclusive XML
// Canonicalization 1.0, section 3). Pieces go in in the order in which Stream gives them; what a signature leaves out
// is simply not put in.
type CanonicalStream struct {
	c      canonicalizer
	outers []int
}

// NewCanonicalStream makes one that writes to w, with the prefixes of a PrefixList. The canonical form ends with
// ErrGrown where it gets larger than CanonicalBudget of what has come of the document.
func NewCanonicalStream(w io.Writer, inclusive []string) *CanonicalStream {
	return &CanonicalStream{c: canonicalizer{w: w, inclusive: prefixList(inclusive)}}
}

// Put writes one piece.
func (s *CanonicalStream) Put(p Piece) error {
	c := &s.c
	c.budget = CanonicalBudget(p.Read)
	switch p.Kind {
	case PieceOpen:
		s.outers = append(s.outers, len(c.rendered.held))
		c.start(p.Element, len(s.outers) == 1)
	case PieceClose:
		c.end(p.Element)
		c.rendered.cut(s.outers[len(s.outers)-1])
		s.outers = s.outers[:len(s.outers)-1]
	case PieceElement:
		c.element(p.Element, false)
	case PieceSpace:
		c.text(p.Text)
	case PieceInstruction:
		c.out = appendInstruction(c.out, p.Text)
	}
	return c.flush()
}
