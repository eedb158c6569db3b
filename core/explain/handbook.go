package explain

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"innergate/core/alike"
)

var sideWords = map[Side]string{Ours: "us", Theirs: "the other side", Either: "either side", Person: "the person who signs in"}

// Words says who must act.
func (s Side) Words() string { return sideWords[s] }

// plain takes the places for evidence out of a text, so that it reads without any.
var plain = strings.NewReplacer("{partner}", "the partner", "{expected}", "*what was expected*", "{got}", "*what came*")

// Text explains a code without a failure at hand.
func (e Explanation) Text() string {
	var b strings.Builder
	line := func(label, text string) {
		if text != "" {
			fmt.Fprintf(
				&b,
				"%s\n  %s\n",
				label,
				upperFirst(
					strings.NewReplacer("{partner}", "the partner", "{expected}", "<expected>", "{got}", "<what came>").Replace(text),
				),
			)
		}
	}
	fmt.Fprintf(&b, "%s: %s\n\n", e.Code, e.Title)
	line("Cause", e.Cause)
	line("What we do", e.Remedy)
	line("To send to the other side", e.Theirs)
	line("What the person is told", e.Person)
	line("Who must act", e.Side.Words())
	answer := e.SAMLStatus()
	if answer != "" {
		answer = "SAML " + answer + ", "
	}
	line("What the application is answered, where it can be", answer+"OAuth 2.0 "+e.OAuthCode())
	return b.String()
}

// Handbook is the handbook's page with all codes, wrapped as its other pages are.
func Handbook() string {
	var b strings.Builder
	paragraph := func(format string, args ...any) { b.WriteString("\n" + wrapped(fmt.Sprintf(format, args...)) + "\n") }
	b.WriteString("# What the codes mean\n")
	paragraph("This page is made from the catalogue (`innergate explain --handbook`). In traces the places of the evidence are filled.")
	last := ""
	for _, e := range All() {
		if area, _, _ := strings.Cut(string(e.Code), "."); area != last {
			last = area
			paragraph("## %s", area)
		}
		paragraph("### %s", e.Code)
		paragraph("**%s.** %s", e.Title, upperFirst(plain.Replace(e.Cause)))
		paragraph("%s", upperFirst(plain.Replace(e.Remedy)))
		if e.Theirs != "" {
			paragraph("To send: “%s”", upperFirst(plain.Replace(e.Theirs)))
		}
		paragraph("The person reads: “%s” To act: %s.", e.Person, e.Side.Words())
	}
	return b.String()
}

// wrapped breaks a paragraph at blanks, so that no line is longer than 120 characters where it need not be.
func wrapped(text string) string {
	var b strings.Builder
	at := 0
	for i, word := range strings.Fields(text) {
		n := utf8.RuneCountInString(word)
		switch {
		case i == 0:
		case at+1+n > 120:
			b.WriteByte('\n')
			at = 0
		default:
			b.WriteByte(' ')
			at++
		}
		b.WriteString(word)
		at += n
	}
	return b.String()
}

// Nearest is the code that is written most like this one, if any is.
func Nearest(code string) string {
	var all []string
	for _, e := range All() {
		all = append(all, string(e.Code))
	}
	return alike.Nearest(code, all)
}
