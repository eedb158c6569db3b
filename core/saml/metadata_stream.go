package saml

import (
	"bufio"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"time"

	"golang.org/x/text/transform"

	"innergate/core/xmlsig"
	"innergate/core/xmltree"
)

// MaxAggregate bounds a document that is read as a stream, in bytes.
const MaxAggregate = 256 << 20

// Aggregate is what is known of a large document as a whole.
type Aggregate struct {
	Name          string
	ValidUntil    *time.Time
	CacheDuration time.Duration
	Signed        bool
	Entities      int
}

var streamLimits = xmltree.StreamLimits{Bytes: MaxAggregate, Each: xmltree.Limits{Depth: 48, Attrs: 128}}

// StreamMetadata reads a document of any size (SAML Metadata, section 2.3) and hands on each entity with what is wrong
// with it as soon as it was read, so that ten thousand of them do not fill the memory. Raw is the entity as a document
// of its own, good until each returns. Nothing is verified; VerifyStream does that, and must come first where a
// signature counts.
func StreamMetadata(r io.Reader, o ReadOptions, each func(d *Document, raw *xmltree.Element) error) (*Aggregate, error) {
	a := &Aggregate{}
	var untils []*time.Time
	until := func() *time.Time {
		if len(untils) == 0 {
			return nil
		}
		return untils[len(untils)-1]
	}
	visit := func(p xmltree.Piece) error {
		m := &metadataReader{ReadOptions: o, doc: &Document{}}
		switch p.Kind {
		case xmltree.PieceOpen:
			if !p.Element.Is(NSMetadata, "EntitiesDescriptor") {
				return fmt.Errorf(
					"this is no metadata of many entities: its root is <%s>, not EntitiesDescriptor",
					clip(p.Element.Local, 60),
				)
			}
			untils = append(untils, m.sooner(p.Element, until()))
			if len(untils) == 1 {
				a.Name, a.ValidUntil, a.CacheDuration = p.Element.Value("Name"), until(), m.cacheDuration(p.Element)
				if o.Begin != nil {
					return o.Begin(a)
				}
			}
		case xmltree.PieceClose:
			untils = untils[:len(untils)-1]
		case xmltree.PieceElement:
			switch {
			case p.Element.Is(xmlsig.NS, "Signature"):
				a.Signed = a.Signed || len(untils) == 1
			case p.Element.Is(NSMetadata, "EntityDescriptor"):
				a.Entities++
				m.entity(p.Element, until())
				return each(m.doc, p.Element)
			}
		}
		return nil
	}
	text, err := reader(r)
	if err != nil {
		return nil, err
	}
	return a, xmltree.Stream(text, streamLimits, entersGroup, visit)
}

func entersGroup(e *xmltree.Element) bool { return e.Is(NSMetadata, "EntitiesDescriptor") }

// reader gives a document's text in UTF-8.
func reader(r io.Reader) (io.Reader, error) {
	b := bufio.NewReaderSize(r, 256<<10)
	head, err := b.Peek(200)
	if err != nil && err != io.EOF {
		return nil, err
	}
	enc := encodingOf(head)
	if enc == nil {
		return b, nil
	}
	t := bufio.NewReader(transform.NewReader(b, enc.NewDecoder()))
	// The declaration names an encoding that no longer holds.
	if head, err := t.Peek(5); err == nil && string(head) == "<?xml" {
		for n := 0; n < 200; n++ {
			c, err := t.ReadByte()
			if err != nil {
				return nil, err
			}
			if c == '>' {
				break
			}
		}
	}
	return t, nil
}

// maxBeforeSignature is how many pieces are kept until the signature comes that says how they are to be read.
const maxBeforeSignature = 64

// VerifyStream checks the signature over a whole document that is read as a stream, against pinned certificates. Until
// it returned without an error nothing of the document may be used. The error is an *xmlsig.Error where the signature
// does not hold.
func VerifyStream(r io.Reader, pinned []*x509.Certificate) error {
	var before []xmltree.Piece
	var sig *xmlsig.Streamed
	visit := func(p xmltree.Piece) error {
		switch {
		case sig != nil:
			if p.Kind == xmltree.PieceElement && p.Element.Is(xmlsig.NS, "Signature") && p.Element.Parent.Parent == nil {
				return &xmlsig.Error{Reason: xmlsig.Malformed, Detail: "the document carries two signatures"}
			}
			return sig.Put(p)
		case p.Kind == xmltree.PieceElement && p.Element.Is(xmlsig.NS, "Signature"):
			var err error
			if sig, err = xmlsig.NewStreamed(before[0].Element, p.Element, Trust{Certificates: pinned}.keys(),
				xmlsig.Policy{}); err != nil {
				return err
			}
			for _, b := range before {
				if err := sig.Put(b); err != nil {
					return err
				}
			}
			return nil
		case p.Kind == xmltree.PieceElement || p.Kind == xmltree.PieceOpen && len(before) > 0 || p.Kind == xmltree.PieceClose:
			return &xmlsig.Error{Reason: xmlsig.Missing, Detail: "the document carries no signature as its first part"}
		case len(before) == maxBeforeSignature:
			return &xmlsig.Error{Reason: xmlsig.Malformed, Detail: "too much stands before the document's signature"}
		}
		before = append(before, p)
		return nil
	}
	text, err := reader(r)
	if err != nil {
		return err
	}
	if err := xmltree.Stream(text, streamLimits, entersGroup, visit); err != nil {
		return err
	}
	if sig == nil {
		return errors.New("the document is empty")
	}
	_, err = sig.Finish()
	return err
}
