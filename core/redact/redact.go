// Package redact takes out of messages and traces what may not be shown to whoever looks: secrets to all, values of
// people to those who may not see them.
package redact

import (
	"regexp"
	"slices"
	"strings"

	"innergate/core/trace"
	"innergate/core/xmltree"
)

// Clip cuts messages in a trace's entries that are longer than the limit in octets.
func Clip(entries []trace.Entry, limit int) []trace.Entry {
	out := slices.Clone(entries)
	for i := range out {
		if m := out[i].Message; m != nil && (len(m.Raw) > limit || len(m.RelayState) > limit) {
			copied := *m
			copied.RelayState = copied.RelayState[:min(limit, len(copied.RelayState))]
			if len(m.Raw) > limit {
				copied.Raw = strings.ToValidUTF8(m.Raw[:limit], "") + "… (cut off here; the rest was not kept)"
			}
			out[i].Message = &copied
		}
	}
	return out
}

// Veil stands in a document for what may not be shown yet.
const Veil = "(shown when it has expired)"

var secretValues = regexp.MustCompile(`(<[\w.:-]*(?:SignatureValue|CipherValue)[^>]*>)[^<]+`)

// Veiled hides signature and cipher values in a document: with them a message could be used by somebody else.
func Veiled(doc string) string {
	return secretValues.ReplaceAllString(doc, "${1}"+Veil)
}

// Masked stands for a value that is there and may not be seen.
func Masked(s string) string {
	if s == "" {
		return ""
	}
	return "•••"
}

// Mask takes personal values out of an entry, for viewers.
func Mask(e *trace.Entry) {
	if m := e.Message; m != nil {
		copied := *m
		copied.Raw, copied.Opened, copied.RelayState = "", "", Masked(m.RelayState)
		e.Message = &copied
	}
	if v := e.Value; v != nil && v.Personal {
		copied := *v
		hide := func(in []string) []string {
			out := slices.Clone(in)
			for i := range out {
				out[i] = Masked(out[i])
			}
			return out
		}
		copied.Input, copied.Output, copied.Steps = hide(v.Input), hide(v.Output), nil
		e.Value = &copied
	}
	if d := e.Decision; d != nil && slices.Contains([]string{"person", "subject", "profile", "groups", "access"}, d.About) {
		copied := *d
		if d.About != "access" {
			copied.Result = Masked(d.Result)
		}
		if d.About == "person" && !strings.HasPrefix(d.By, "link to ") {
			copied.By = Masked(d.By)
		}
		copied.Passed = slices.DeleteFunc(
			slices.Clone(d.Passed),
			func(s string) bool { return d.About != "access" || strings.HasPrefix(s, "asked about: ") },
		)
		e.Decision = &copied
	}
	if f := e.Failure; f != nil &&
		(strings.HasPrefix(f.Code, "match.") || strings.HasPrefix(f.Code, "access.") || strings.HasPrefix(f.Code, "subject.") ||
			strings.HasPrefix(f.Code, "map.") || f.Code == "saml.subject-differs") {
		copied := *f
		copied.Evidence = nil
		e.Failure = &copied
	}
}

// Readable indents an XML document for people; anything else is returned as it is.
func Readable(doc []byte) string {
	if len(doc) == 0 {
		return ""
	}
	root, err := xmltree.Parse(doc, xmltree.Limits{})
	if err != nil {
		return string(doc)
	}
	return root.Indented()
}
