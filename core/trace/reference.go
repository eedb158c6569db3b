package trace

import (
	"crypto/rand"
	"regexp"
	"slices"
	"strings"
)

// ReferenceForm is what a reference looks like.
var ReferenceForm = regexp.MustCompile(`(?i)^[23456789A-Z]{4}-[23456789A-Z]{4}$`)

// idMarks stand before identifiers: of SAML messages and assertions, of the messages that they answer, and of tokens.
var idMarks = []string{` ID="`, ` InResponseTo="`, `"jti":"`}

// IDsIn are the identifiers by which a trace can be found, at most a dozen.
func IDsIn(entries []Entry) []string {
	var out []string
	for _, e := range entries {
		if e.Message == nil {
			continue
		}
		for _, text := range []string{e.Message.Raw, e.Message.Opened} {
			text = text[:min(len(text), 64<<10)]
			for _, mark := range idMarks {
				rest := text
				for range 4 {
					_, after, found := strings.Cut(rest, mark)
					if !found {
						break
					}
					id, _, closed := strings.Cut(after[:min(len(after), 201)], `"`)
					if rest = after; !closed || len(id) < 4 || strings.ContainsAny(id, " <>&\\") || slices.Contains(out, id) ||
						len(out) == 12 {
						continue
					}
					out = append(out, strings.Clone(id))
				}
			}
		}
	}
	return out
}

const referenceLetters = "23456789ABCDEFGHJKMNPQRSTUVWXYZ"

// NewReference makes a number that people can read out: eight characters without those that are taken for one another.
func NewReference() string {
	var b [8]byte
	rand.Read(b[:])
	for i := range b {
		b[i] = referenceLetters[int(b[i])%len(referenceLetters)]
	}
	return string(b[:4]) + "-" + string(b[4:])
}
