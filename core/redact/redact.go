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

// openDecisions are what decisions may be about for viewers to read what came of them: nothing personal stands there.
var openDecisions = []string{
	"application", "provider", "session", "rehearsal", "configuration", "keys", "claim", "strength", "consent", "sign-in", "role",
	"admission", "name", "logout", "request", "device", "scope", "token", "PKCE",
}

// openFamilies are the checks and failures whose values are the protocols' own. All others may hold a person's.
var openFamilies = []string{"saml.", "oidc.", "jwt.", "metadata.", "browser.", "gate.", "route.", "bridge.", "relay."}

// personalCodes are those of the open families that hold a person's values all the same.
var personalCodes = []string{"saml.subject-differs", "saml.value-refused", "saml.nameid", "oidc.claims-unreadable", "relay.refused"}

func open(name string) bool {
	return slices.ContainsFunc(openFamilies, func(f string) bool {
		return strings.HasPrefix(name, f)
	}) && !slices.Contains(personalCodes, name)
}

var query = regexp.MustCompile(`\?[^\s"']+`)

// CutQuery takes the query out of addresses in a text: tokens, mail addresses and whatever else a page was opened with.
func CutQuery(text string) string {
	if !strings.Contains(text, "?") || !strings.Contains(text, "/") {
		return text
	}
	return query.ReplaceAllString(text, "?…")
}

// Mask takes out of an entry, for viewers, all but what is known to be nobody's personal value.
func Mask(e *trace.Entry) {
	if m := e.Message; m != nil {
		copied := *m
		copied.Raw, copied.Opened, copied.RelayState, copied.Address = "", "", Masked(m.RelayState), CutQuery(m.Address)
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
	if c := e.Check; c != nil {
		copied := *c
		if copied.Expected, copied.Got = CutQuery(c.Expected), CutQuery(c.Got); !open(c.Name) {
			copied.Expected, copied.Got = Masked(c.Expected), Masked(c.Got)
		}
		e.Check = &copied
	}
	if d := e.Decision; d != nil {
		e.Decision = maskedDecision(d)
	}
	if f := e.Failure; f != nil {
		copied := *f
		copied.Evidence = nil
		if open(f.Code) {
			for _, one := range f.Evidence {
				one.Expected, one.Got = CutQuery(one.Expected), CutQuery(one.Got)
				copied.Evidence = append(copied.Evidence, one)
			}
		}
		e.Failure = &copied
	}
}

func maskedDecision(d *trace.Decision) *trace.Decision {
	copied := *d
	switch {
	case d.About == "access": // which rule decided, and why others did not; not what it was asked about
		copied.Passed = slices.DeleteFunc(slices.Clone(d.Passed), func(s string) bool { return strings.HasPrefix(s, "asked about: ") })
	case slices.Contains(openDecisions, d.About):
		copied.Result, copied.By = CutQuery(d.Result), CutQuery(d.By)
		copied.Passed = nil
		for _, p := range d.Passed {
			copied.Passed = append(copied.Passed, CutQuery(p))
		}
	default:
		copied.Result, copied.Passed = Masked(d.Result), nil
		if !strings.HasPrefix(d.By, "link to ") {
			copied.By = Masked(d.By)
		}
	}
	return &copied
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
