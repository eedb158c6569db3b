// Package explain is the one catalogue of ways in which a sign-in can fail: for each a stable code, the cause, the
// evidence, the remedy and the side that must act. Traces, error pages, the API and the command line all speak from it.
package explain

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"innergate/core/trace"
)

// Side says who must act.
type Side string

// Who must act on a failure.
const (
	Ours   Side = "ours"
	Theirs Side = "theirs"
	Either Side = "either"
	Person Side = "person"
)

// Explanation is what the catalogue holds for one code. In its texts {partner}, {expected} and {got} stand for the
// failure's own values.
type Explanation struct {
	Code   Code   `json:"code"`
	Title  string `json:"title"`
	Cause  string `json:"cause"`
	Remedy string `json:"remedy"`            // what our engineer does
	Theirs string `json:"message,omitempty"` // what to send to the other side, ready to copy
	Side   Side   `json:"side"`
	// Person is what the one who signs in is told, without evidence.
	Person string `json:"person"`
	// Again is set where trying once more may simply work.
	Again bool `json:"again"`
	// Status and Substatus are the SAML status codes of the answer (SAML Core 2.0, section 3.2.2.2), without their
	// common prefix.
	Status    string `json:"status,omitempty"`
	Substatus string `json:"substatus,omitempty"`
	// OAuth is the error code for what an OpenID Connect application asks wrongly (RFC 6749, sections 4.1.2.1 and 5.2;
	// OpenID Connect Core 1.0, section 3.1.2.6). A wrong request without one must not be answered by redirect.
	OAuth string `json:"oauth,omitempty"`
}

// SAMLStatus is the status and the one below it that a SAML application is answered, empty where it can't be answered.
func (e Explanation) SAMLStatus() string {
	if e.Status == "" {
		return ""
	}
	return strings.TrimSuffix(e.Status+"/"+e.Substatus, "/")
}

// OAuthCode is the error code for an OpenID Connect application: its own, or what comes nearest to the SAML status.
func (e Explanation) OAuthCode() string {
	if e.OAuth != "" {
		return e.OAuth
	}
	switch e.Substatus {
	case "NoPassive":
		return "login_required"
	case "NoAuthnContext":
		return "unmet_authentication_requirements"
	case "RequestDenied", "AuthnFailed", "UnknownPrincipal":
		return "access_denied"
	case "NoAvailableIDP", "NoSupportedIDP":
		return "temporarily_unavailable"
	}
	return "server_error"
}

// Failure is the error that every refusal carries.
type Failure struct {
	Code     Code
	Partner  string
	Evidence []trace.Evidence
}

// New makes a failure. The code must be in the catalogue.
func New(code Code, evidence ...trace.Evidence) *Failure {
	return &Failure{Code: code, Evidence: evidence}
}

// Pair is evidence of two values that should have been equal.
func Pair(label, expected, got string) trace.Evidence {
	return trace.Evidence{Label: label, Expected: expected, Got: got}
}

// Fact is evidence of one value.
func Fact(label, got string) trace.Evidence { return trace.Evidence{Label: label, Got: got} }

// Of names the partner and returns the failure.
func (f *Failure) Of(partner string) *Failure {
	if f.Partner == "" {
		f.Partner = partner
	}
	return f
}

// Error is the cause in one sentence, with the code.
func (f *Failure) Error() string {
	return fmt.Sprintf("%s (%s)", f.Explain().Cause, f.Code)
}

// Record turns the failure into a trace's entry.
func (f *Failure) Record() trace.Failure {
	return trace.Failure{Code: string(f.Code), Partner: f.Partner, Evidence: f.Evidence}
}

// Explain fills the catalogue's texts with the failure's values.
func (f *Failure) Explain() Explanation {
	e, ok := Lookup(f.Code)
	if !ok {
		e = Explanation{
			Code:   f.Code,
			Title:  "Unexpected failure",
			Cause:  "Something failed that the gate has no explanation for.",
			Side:   Ours,
			Person: "Something went wrong here.",
		}
	}
	partner, expected, got := f.Partner, "", ""
	if partner == "" {
		partner = "the other side"
		if strings.HasPrefix(e.Cause, "{partner}") {
			e.Cause = "The other side" + strings.TrimPrefix(e.Cause, "{partner}")
		}
	}
	if len(f.Evidence) > 0 {
		expected, got = f.Evidence[0].Expected, f.Evidence[0].Got
	}
	r := strings.NewReplacer("{partner}", partner, "{expected}", cmp.Or(expected, "nothing"), "{got}", cmp.Or(got, "nothing"))
	for _, s := range []*string{&e.Title, &e.Cause, &e.Remedy, &e.Theirs, &e.Person} {
		if !strings.HasPrefix(*s, "{") { // a name or a value at the beginning stays as it is written
			*s = upperFirst(*s)
		}
		*s = r.Replace(*s)
	}
	return e
}

// Explain explains a failure taken from a trace.
func Explain(f trace.Failure) Explanation {
	return (&Failure{Code: Code(f.Code), Partner: f.Partner, Evidence: f.Evidence}).Explain()
}

func upperFirst(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// Lookup finds a code's entry.
func Lookup(code Code) (Explanation, bool) {
	i, ok := slices.BinarySearchFunc(sorted, code, func(e Explanation, code Code) int { return cmp.Compare(e.Code, code) })
	if !ok {
		return Explanation{}, false
	}
	return sorted[i], true
}

// All lists the catalogue by code.
func All() []Explanation { return slices.Clone(sorted) }

var sorted = func() []Explanation {
	s := slices.Clone(catalogue)
	slices.SortFunc(s, func(a, b Explanation) int { return cmp.Compare(a.Code, b.Code) })
	return s
}()

// Difference marks where two values part: the common head, what differs in each, and the common tail. All comparisons
// of identifiers and addresses in the gate are exact (octet for octet); this tells a person where the difference is.
type Difference struct {
	Equal    bool   `json:"equal"`
	Head     string `json:"head"`
	Expected string `json:"expected"`
	Got      string `json:"got"`
	Tail     string `json:"tail"`
	// Hint names the usual slips: a trailing slash, http for https, a port, case, white space.
	Hint string `json:"hint,omitempty"`
}

// Compare compares two values exactly.
func Compare(expected, got string) Difference {
	if expected == got {
		return Difference{Equal: true, Head: expected}
	}
	e, g := []rune(expected), []rune(got)
	head := 0
	for head < len(e) && head < len(g) && e[head] == g[head] {
		head++
	}
	tail := 0
	for tail < len(e)-head && tail < len(g)-head && e[len(e)-1-tail] == g[len(g)-1-tail] {
		tail++
	}
	return Difference{
		Head: string(e[:head]), Expected: string(e[head : len(e)-tail]), Got: string(g[head : len(g)-tail]), Tail: string(e[len(e)-tail:]),
		Hint: hint(expected, got),
	}
}

func hint(expected, got string) string {
	switch {
	case got == "":
		return "the value is missing"
	case expected == "":
		return ""
	case strings.TrimSpace(got) == strings.TrimSpace(expected):
		return "they differ by white space"
	case strings.TrimSuffix(got, "/") == strings.TrimSuffix(expected, "/"):
		return "they differ by a trailing slash"
	case schemeless(got) == schemeless(expected):
		return "they differ by http and https"
	case strings.EqualFold(got, expected):
		return "they differ by upper and lower case"
	case strings.ReplaceAll(strings.ReplaceAll(got, ":443", ""), ":80",
		"") == strings.ReplaceAll(strings.ReplaceAll(expected, ":443", ""), ":80", ""):
		return "they differ by the port"
	case strings.HasPrefix(got, expected):
		return "something was added at the end"
	case strings.HasPrefix(expected, got):
		return "something is missing at the end"
	}
	return ""
}

func schemeless(s string) string {
	return strings.TrimPrefix(strings.TrimPrefix(s, "https://"), "http://")
}
