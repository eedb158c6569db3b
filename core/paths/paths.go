// Package paths judges the paths of guarded applications: which rule holds for one, and which could be read in two
// ways and are refused (RFC 3986, section 6.2). It also writes what a web server in front must be told.
package paths

import (
	"net/url"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"innergate/core/config"
)

// PathRule is the first rule that fits a path. A path is compared in small letters, besides for being open: what opens
// a path must fit it to the letter.
func PathRule(rules []config.PathRule, method, path string) config.PathRule {
	for _, r := range rules {
		if len(r.Methods) > 0 && !slices.Contains(r.Methods, method) {
			continue
		}
		if r.Then == config.PathOpen && under(r.Path, path) ||
			r.Then != config.PathOpen && under(strings.ToLower(r.Path), strings.ToLower(path)) {
			return r
		}
	}
	return config.PathRule{Then: config.PathSignedIn}
}

func under(base, path string) bool {
	rest, ok := strings.CutPrefix(path, base)
	return ok && (rest == "" || strings.HasSuffix(base, "/") || rest[0] == '/')
}

// PlainPath says whether a path means the same to everybody who reads it: no dots as a step, escapes of separators,
// parameters, doubled slashes, or dots and blanks at the end of a name, that an upstream could read otherwise than the
// rules do. Raw is the path as it came, escapes and all.
func PlainPath(raw string) bool {
	lower := strings.ToLower(raw)
	for _, trick := range []string{"//", "\\", "%2f", "%5c", "%2e", "%00", "%25", "%3b", ";"} {
		if strings.Contains(lower, trick) {
			return false
		}
	}
	path, err := url.PathUnescape(raw)
	if err != nil || !utf8.ValidString(path) || !strings.HasPrefix(path, "/") || strings.ContainsFunc(path, unicode.IsControl) {
		return false
	}
	for part := range strings.SplitSeq(path, "/") {
		if strings.HasSuffix(part, ".") || strings.TrimSpace(part) != part { // some servers take such ends away
			return false
		}
	}
	return true
}

// HeaderText writes values for a header: joined by commas, and nothing that could end it.
func HeaderText(values []string) string {
	return strings.Map(func(r rune) rune {
		if r < 0x20 || r == 0x7f {
			return -1
		}
		return r
	}, strings.Join(values, ","))
}
