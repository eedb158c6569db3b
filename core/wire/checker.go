// Package wire holds the form of HTTP/1.1 requests (RFC 9112) against the few readings that every program on the way
// shares. A request that two programs could cut in two different places is refused, whoever stands before the gate.
package wire

import (
	"bytes"
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// maxLine bounds one line of a chunked body, in octets.
const maxLine = 512

// Checker follows the octets of one connection, whatever parts they come in, and says where a request can be read in two
// ways: with two lengths, with folded or nameless headers, with line ends that are no CRLF, with two hosts. It keeps
// one line at a time.
type Checker struct {
	// Head is the most octets that a request's head may have.
	Head int
	// Upgrades lets a connection become a WebSocket: what comes behind such a request is not looked at.
	Upgrades bool

	state   state
	line    []byte
	head    int // octets of this head
	blank   int // empty lines before a request line
	request request
	left    uint64 // octets of the body, or of a chunk, that are still to come
}

type state int

const (
	atRequestLine state = iota
	atHeader
	inBody
	atChunkSize
	inChunk
	behindChunk
	atTrailer
	raw
)

// request is what a head says about where its body ends.
type request struct {
	get, old  bool // by GET; by HTTP/1.0
	hosts     int
	length    uint64
	hasLength bool
	chunked   bool
	upgrade   bool
}

// Feed takes the next octets. After the first error nothing of the connection may be read any more.
func (c *Checker) Feed(p []byte) error {
	for len(p) > 0 {
		switch c.state {
		case raw:
			return nil
		case inBody, inChunk:
			n := min(uint64(len(p)), c.left)
			p, c.left = p[n:], c.left-n
			if c.left == 0 {
				if c.state == inChunk {
					c.state = behindChunk
				} else {
					c.next()
				}
			}
		default:
			n, err := c.feedLine(p)
			if err != nil {
				return err
			}
			p = p[n:]
		}
	}
	return nil
}

func (c *Checker) next() {
	c.state, c.request, c.head, c.blank = atRequestLine, request{}, 0, 0
}

// feedLine takes octets up to the end of a line at most, and returns how many.
func (c *Checker) feedLine(p []byte) (int, error) {
	limit := c.Head
	if c.state == atChunkSize || c.state == behindChunk {
		limit = maxLine
	}
	end := bytes.IndexByte(p, '\n')
	part := p
	if end >= 0 {
		part = p[:end]
	}
	c.line = append(c.line, part...)
	if c.head += len(part); len(c.line) > limit || c.head > limit && limit == c.Head {
		return 0, fmt.Errorf("the head is larger than %d octets", limit)
	}
	if end < 0 {
		return len(p), nil
	}
	line, ok := bytes.CutSuffix(c.line, []byte{'\r'})
	if !ok {
		return 0, errors.New("a line ends without CR")
	}
	if bytes.IndexByte(line, '\r') >= 0 {
		return 0, errors.New("a CR stands within a line")
	}
	err := c.take(string(line))
	c.line = c.line[:0]
	return end + 1, err
}

func (c *Checker) take(line string) error {
	switch c.state {
	case atRequestLine:
		return c.requestLine(line)
	case atHeader:
		if line == "" {
			return c.headEnds()
		}
		return c.header(line)
	case atChunkSize:
		return c.chunkSize(line)
	case behindChunk:
		if line != "" {
			return errors.New("a chunk is longer than it says")
		}
		c.state = atChunkSize
	case atTrailer:
		if line == "" {
			c.next()
			return nil
		}
		name, _, err := split(line)
		if err == nil && (name == "content-length" || name == "transfer-encoding" || name == "host") {
			err = errors.New("a length or a host stands behind the body")
		}
		return err
	}
	return nil
}

func (c *Checker) requestLine(line string) error {
	if line == "" {
		if c.blank++; c.blank > 1 {
			return errors.New("several empty lines stand before a request")
		}
		return nil
	}
	words := strings.Split(line, " ")
	if len(words) != 3 || words[0] == "" || words[1] == "" || words[2] != "HTTP/1.1" && words[2] != "HTTP/1.0" {
		return errors.New("the request line is not one of HTTP/1.1")
	}
	if strings.ContainsFunc(line, control) {
		return errors.New("the request line holds a control character")
	}
	c.request.get, c.request.old = words[0] == "GET", words[2] == "HTTP/1.0"
	c.state = atHeader
	return nil
}

func control(r rune) bool { return r < 0x20 || r == 0x7f }

// split reads a header's line (RFC 9112, section 5): the name in small letters, and the value.
func split(line string) (name, value string, err error) {
	if line[0] == ' ' || line[0] == '\t' {
		return "", "", errors.New("a header goes on in a second line")
	}
	name, value, ok := strings.Cut(line, ":")
	if !ok || name == "" || strings.ContainsFunc(name, func(r rune) bool { return !tchar(r) }) {
		return "", "", errors.New("a header has no proper name")
	}
	if strings.ContainsFunc(value, func(r rune) bool { return control(r) && r != '\t' }) {
		return "", "", errors.New("a header holds a control character")
	}
	return strings.ToLower(name), strings.Trim(value, " \t"), nil
}

// tchar is a character of a header's name (RFC 9110, section 5.6.2).
func tchar(r rune) bool {
	return r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || strings.ContainsRune("!#$%&'*+-.^_`|~", r)
}

func (c *Checker) header(line string) error {
	name, value, err := split(line)
	if err != nil {
		return err
	}
	q := &c.request
	switch name {
	case "host":
		if q.hosts++; q.hosts > 1 {
			return errors.New("the request names two hosts")
		}
	case "content-length":
		if q.hasLength {
			return errors.New("the request has two lengths")
		}
		if value == "" || strings.Trim(value, "0123456789") != "" {
			return errors.New("the length is no number")
		}
		if q.length, err = strconv.ParseUint(value, 10, 63); err != nil {
			return errors.New("the length is no number")
		}
		q.hasLength = true
	case "transfer-encoding":
		if q.chunked || !strings.EqualFold(value, "chunked") {
			return errors.New("the body is coded in another way than in chunks")
		}
		q.chunked = true
	case "upgrade":
		q.upgrade = strings.EqualFold(value, "websocket")
	}
	return nil
}

func (c *Checker) headEnds() error {
	q := &c.request
	switch {
	case q.hosts == 0 && !q.old:
		return errors.New("the request names no host")
	case q.chunked && q.hasLength:
		return errors.New("the request has two lengths")
	case q.chunked && q.old:
		return errors.New("HTTP/1.0 knows no chunks")
	case q.chunked:
		c.state = atChunkSize
	case q.length > 0:
		c.state, c.left = inBody, q.length
	case q.upgrade && q.get && c.Upgrades:
		c.state = raw
	default:
		c.next()
	}
	return nil
}

// chunkSize reads the line before a chunk (RFC 9112, section 7.1).
func (c *Checker) chunkSize(line string) error {
	size, _, _ := strings.Cut(line, ";")
	if size == "" || len(size) > 15 || strings.Trim(size, "0123456789abcdefABCDEF") != "" ||
		strings.ContainsFunc(line, func(r rune) bool { return control(r) && r != '\t' }) {
		return errors.New("a chunk has no proper size")
	}
	n, err := strconv.ParseUint(size, 16, 60)
	if err != nil {
		return errors.New("a chunk has no proper size")
	}
	if c.left = n; n == 0 {
		c.state = atTrailer
		return nil
	}
	c.state = inChunk
	return nil
}
