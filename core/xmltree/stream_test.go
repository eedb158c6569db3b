package xmltree_test

import (
	"bytes"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/internal/judge"
	"innergate/core/xmltree"
)

// streamed reads a document as a stream in which elements called g are containers, and returns its canonical form.
func streamed(doc []byte, oneByte bool) ([]byte, error) {
	var out bytes.Buffer
	c := xmltree.NewCanonicalStream(&out, nil)
	var r = bytes.NewReader(doc)
	enter := func(e *xmltree.Element) bool { return e.Local == "g" }
	if oneByte {
		err := xmltree.Stream(iotest.OneByteReader(r), xmltree.StreamLimits{}, enter, c.Put)
		return out.Bytes(), err
	}
	err := xmltree.Stream(r, xmltree.StreamLimits{}, enter, c.Put)
	return out.Bytes(), err
}

var streams = []string{
	`<g/>`, `<g></g>`, `<g> <a/> </g>`, `<x:g xmlns:x="urn:x" a="1"><x:a/><b xmlns="urn:b"/></x:g>`,
	`<?xml version="1.0" encoding="UTF-8"?><!-- c --><g xmlns="urn:d"><g xmlns:p="urn:p"><p:a p:b="2">t&amp;<!-- in ` +
		`--><c/></p:a></g><?pi data?></g><!-- end -->`,
	"<g>\r\n<a>\r\nx\r\n</a>\r\n</g>", `<g><a b=">" c='"/>'/><a><![CDATA[</a>]]></a></g>`,
	`<g xmlns:a="urn:1"><x xmlns:a="urn:2"><a:y/></x><a:z/></g>`,
	`<g><a></b></g>`, `<g><a></g></a>`, `<g>text</g>`, `<g>`, `<g/><g/>`, `<g><!DOCTYPE x></g>`, `<g><![CDATA[x]]></g>`,
	`<g a="1" a="2"/>`, `<g><a b=></a></g>`, `<!DOCTYPE g><g/>`, `<g><p:a/></g>`, ``, `x`, `<g xmlns:x=""/>`, `<g></g x>`, `<g></ g>`,
}

// TestStreamReadsAsTheTreeDoes: what is accepted as a stream is accepted as a whole, and has the same canonical form.
func TestStreamReadsAsTheTreeDoes(t *testing.T) {
	accepted := 0
	for _, doc := range streams {
		got, err := streamed([]byte(doc), false)
		slow, slowErr := streamed([]byte(doc), true)
		assert.Equal(t, err == nil, slowErr == nil, "%s: however the parts come: %v, %v", doc, err, slowErr)
		if err != nil {
			continue
		}
		accepted++
		assert.Equal(t, string(got), string(slow))
		root, err := xmltree.Parse([]byte(doc), xmltree.Limits{})
		require.NoError(t, err, doc)
		assert.Equal(t, string(root.Canonical(nil, nil, nil)), string(got), doc)
	}
	assert.Equal(t, 8, accepted)
}

func TestStreamTellsTheLine(t *testing.T) {
	doc := "<g>\n<a/>\n<a>\n<b x=\"1\" x=\"2\"/>\n</a></g>"
	_, err := streamed([]byte(doc), false)
	assert.ErrorContains(t, err, "line 4")
	err = xmltree.Stream(
		strings.NewReader("<g>"+strings.Repeat(" ", 2000)+"</g>"),
		xmltree.StreamLimits{Bytes: 1000},
		func(*xmltree.Element) bool { return false },
		func(xmltree.Piece) error { return nil },
	)
	assert.ErrorContains(t, err, "larger than the 1000 bytes")
	err = xmltree.Stream(
		strings.NewReader("<g><a>"+strings.Repeat("x", 600<<10)+"</a></g>"),
		xmltree.StreamLimits{Piece: 100 << 10},
		func(*xmltree.Element) bool { return false },
		func(xmltree.Piece) error { return nil },
	)
	assert.ErrorContains(t, err, "one element has more than")
}

// FuzzStream looks for a document that the stream and the whole parser read differently.
func FuzzStream(f *testing.F) {
	for _, doc := range streams {
		f.Add([]byte(doc))
	}
	f.Fuzz(func(t *testing.T, doc []byte) {
		var got []byte
		var err error
		judge.Frugal(t, len(doc), func() { got, err = streamed(doc, false) })
		if err != nil {
			return
		}
		root, err := xmltree.Parse(doc, xmltree.Limits{Bytes: 1 << 24, Elements: 1 << 20})
		if err != nil {
			t.Fatalf("the stream accepts %q, the parser does not: %v", doc, err)
		}
		if want := root.Canonical(nil, nil, nil); !bytes.Equal(want, got) {
			t.Fatalf("%q\n%q\n%q", doc, want, got)
		}
	})
}
