// Package words writes values for people: times gone by, numbers of things, lists, and texts that are cut to a
// length.
package words

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"innergate/core/config"
	"innergate/core/span"
)

// Ago says how long ago something was.
func Ago(now, at time.Time) string {
	if at.IsZero() {
		return "not said"
	}
	return span.Words(now.Sub(at).Round(time.Second)) + " ago"
}

// Fields writes the problems of a configuration as sentences.
func Fields(err error) []string {
	var fields config.Problems
	if !errors.As(err, &fields) {
		return []string{Capitalise(err.Error()) + "."}
	}
	var out []string
	for _, f := range fields {
		out = append(out, f.String())
	}
	return out
}

// FirstOf is the first text that is not blank.
func FirstOf(list ...string) string {
	for _, s := range list {
		if strings.TrimSpace(s) != "" {
			return s
		}
	}
	return ""
}

// OrNone is the text, or the word none.
func OrNone(v string) string {
	if v == "" {
		return "none"
	}
	return v
}

// Plural counts something in words.
func Plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// List is the list, empty in place of missing, so that it is written as such.
func List(v []string) []string {
	if v == nil {
		return []string{}
	}
	return v
}

// Device makes a browser's own description short: the browser and the system, as far as they can be told.
func Device(agent string) string {
	if agent == "" {
		return "not said"
	}
	find := func(pairs [][2]string) string {
		for _, p := range pairs {
			if strings.Contains(agent, p[0]) {
				return p[1]
			}
		}
		return ""
	}
	browser := find([][2]string{{"Edg/", "Edge"}, {"Firefox/", "Firefox"}, {"Chrome/", "Chrome or alike"}, {"Safari/", "Safari"}})
	system := find([][2]string{
		{"Android", "Android"},
		{"iPhone", "iPhone"},
		{"iPad", "iPad"},
		{"Windows", "Windows"},
		{"Mac OS X", "macOS"},
		{"Linux", "Linux"},
	})
	switch {
	case browser == "" && system == "":
		return Clip(agent, 60)
	case browser == "" || system == "":
		return browser + system
	}
	return browser + " on " + system
}

// Clip cuts a text to a number of octets, at the border of a character.
func Clip(s string, n int) string {
	if len(s) > n {
		return strings.ToValidUTF8(s[:n], "")
	}
	return s
}

// Capitalise begins a sentence with a capital letter.
func Capitalise(s string) string {
	if s == "" || strings.HasPrefix(s, "http") {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// AfterLast is what stands behind the last of a mark, or the whole text where there is none: the name at the end of a URI.
func AfterLast(s, mark string) string { return s[strings.LastIndex(s, mark)+1:] }
