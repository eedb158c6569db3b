// Package oidc holds OpenID Connect Core 1.0 and OAuth 2.0 (RFC 6749) as the gate speaks them: the documents and
// messages of each role, and what each role must check. It fetches nothing and keeps nothing; whoever calls it brings
// the octets, the keys and the time, and sees to it that what may be used once is used once.
//
// Files that begin with rp_ are the relying party's part, where a provider vouches for people.
package oidc

import (
	"strings"
	"time"

	"innergate/core/explain"
	"innergate/core/trace"
)

// Limits on what is read.
const (
	// MaxDocument is the size of a discovery document, a token answer or a UserInfo answer, in octets.
	MaxDocument = 256 << 10
	// MaxParameters is the size of a query or form, in octets.
	MaxParameters = 64 << 10
	maxParameters = 100
	// maxSubject is OpenID Connect Core 1.0, section 2.
	maxSubject = 255
	maxShown   = 300
)

// rule is a check's fixed part.
type rule struct{ name, text, section string }

// checker records checks, and names the partner in failures.
type checker struct {
	rec     *trace.Recorder
	partner string
}

func (c checker) that(r rule, ok bool, expected, got string) bool {
	return c.rec.Check(trace.Check{Name: r.name, Text: r.text, Section: r.section, Expected: expected, Got: got, OK: ok})
}

func (c checker) equal(r rule, expected, got string) bool {
	return c.that(r, expected == got, expected, got)
}

func (c checker) fail(code explain.Code, evidence ...trace.Evidence) error {
	return explain.New(code, evidence...).Of(c.partner)
}

// of names the partner in a failure of the JOSE part.
func (c checker) of(err error) error {
	if f, ok := err.(*explain.Failure); ok {
		return f.Of(c.partner)
	}
	return err
}

func formatTime(t time.Time) string { return t.UTC().Format(time.RFC3339) }

// shown cuts what a partner wrote to what is shown of it, without control characters.
func shown(s string) string {
	s = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(s, "?"))
	if runes := []rune(s); len(runes) > maxShown {
		return string(runes[:maxShown]) + "…"
	}
	return s
}
