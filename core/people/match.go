package people

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"innergate/core/claims"
	"innergate/core/explain"
)

// What a person can be found by.
var fields = []string{ExternalID, Username, Mail}

// Way is one way to find a person by a value: external_id, username or email, taken from the profile attribute of that
// name, or computed. In JSON and YAML it is the word alone, or the word with an expression.
type Way struct {
	By   string
	Expr string
}

// MarshalJSON writes "email" or {"email":"mail.lower()"}.
func (w Way) MarshalJSON() ([]byte, error) {
	if w.Expr == "" {
		return json.Marshal(w.By)
	}
	return json.Marshal(map[string]string{w.By: w.Expr})
}

// UnmarshalJSON reads what MarshalJSON writes.
func (w *Way) UnmarshalJSON(data []byte) error {
	if json.Unmarshal(data, &w.By) == nil {
		w.Expr = ""
		return nil
	}
	var m map[string]string
	if err := json.Unmarshal(data, &m); err != nil || len(m) != 1 {
		return fmt.Errorf("a way of matching is a word such as email, or one word with an expression such as {username: \"uid.lower()\"}")
	}
	for w.By, w.Expr = range m {
	}
	return nil
}

// Matching says what a provider may speak for, and how its subjects are matched to people that are known already. What
// identifies people is taken of it within that alone; the rest is dropped, whoever it is about. A link always goes
// first; nothing is matched by value unless it lies within; the zero value matches by link alone, and lets it say
// nothing that identifies.
type Matching struct {
	By []Way `json:"by,omitempty"`
	// Domains are the mail domains that the provider may speak for, Scopes those of scoped identifiers (name@scope).
	Domains []string `json:"domains,omitempty"`
	Scopes  []string `json:"scopes,omitempty"`
	// Unscoped lets it speak for user names and external IDs that have no scope.
	Unscoped bool `json:"unscoped,omitempty"`
	// MailUnproven takes mail addresses within the domains for proven although the provider says nothing about it
	// (email_verified).
	MailUnproven bool `json:"mailUnproven,omitempty"`
	// MailElsewhere lets it say proven mail addresses of domains that no other provider speaks for, as a provider does
	// that anybody can have an account with. Nobody is found by them.
	MailElsewhere bool `json:"mailElsewhere,omitempty"`
	// Groups are the values of the attribute groups that it may say, each by itself or how it begins, with a * behind.
	Groups []string `json:"groups,omitempty"`
}

// Check says what is wrong, or returns nil.
func (m *Matching) Check() error {
	if m == nil {
		return nil
	}
	if len(m.By) > 10 || len(m.Domains) > 500 || len(m.Scopes) > 500 {
		return fmt.Errorf("10 ways, 500 domains and 500 scopes are the most")
	}
	for i, w := range m.By {
		if !slices.Contains(fields, fieldOf(w.By)) {
			return fmt.Errorf("way %d: people can't be found by %q; external_id, username and email are the ways", i+1, w.By)
		}
		if w.Expr != "" {
			if _, err := claims.CompileExpression(w.Expr); err != nil {
				return fmt.Errorf("way %d: %w", i+1, err)
			}
		}
		if fieldOf(w.By) == Mail && len(m.Domains) == 0 {
			return fmt.Errorf("way %d: to match by mail, name the domains that the provider may speak for", i+1)
		}
		if fieldOf(w.By) != Mail && len(m.Scopes) == 0 && !m.Unscoped {
			return fmt.Errorf(
				"way %d: to match by %s, name the scopes that the provider may speak for, or allow values without one",
				i+1, w.By,
			)
		}
	}
	if err := checkGroups(m.Groups); err != nil {
		return err
	}
	for _, d := range slices.Concat(m.Domains, m.Scopes) {
		if d != strings.ToLower(strings.TrimSpace(d)) || d == "" || strings.ContainsAny(d, "@ /*") || !strings.Contains(d, ".") {
			return fmt.Errorf("%q is no domain; write it in small letters, such as saltmere.example, and each one by itself", d)
		}
	}
	return nil
}

func fieldOf(by string) string {
	if by == "username" {
		return Username
	}
	return by
}

// Question is a value to look for: in Field, by Key. Refused is set where the provider may not speak for it; then a
// person who has the value is not matched, but the sign-in is refused, so that nobody gets a second record or
// another's.
type Question struct {
	Field   string
	Value   string
	Key     string
	Refused *explain.Failure
}

// Questions lists what to look for, in order, for a profile.
func (m *Matching) Questions(profile claims.Bag) ([]Question, error) {
	if m == nil {
		return nil, nil
	}
	var out []Question
	for i, w := range m.By {
		field := fieldOf(w.By)
		value := profile.First(field)
		if w.Expr != "" {
			e, err := claims.CompileExpression(w.Expr)
			if err != nil {
				return nil, err
			}
			values, err := e.Values(profile, nil)
			if err != nil {
				return nil, explain.New(explain.MatchFailed, explain.Fact("way", fmt.Sprintf("%d (%s): %v", i+1, w.By, err)))
			}
			if value = ""; len(values) > 0 {
				value = values[0]
			}
		}
		if value == "" {
			continue
		}
		out = append(out, Question{field, value, Key(value), m.trust(field, value, profile)})
	}
	return out, nil
}

// trust says why the provider may not speak for a value, or nil.
func (m *Matching) trust(field, value string, profile claims.Bag) *explain.Failure {
	domain := Domain(value)
	if field == Mail {
		switch {
		case !slices.Contains(m.Domains, domain):
			return explain.New(explain.MatchForeignDomain, explain.Pair("mail domain", strings.Join(m.Domains, ", "), domain))
		case !m.MailUnproven && profile.First("email_verified") != "true":
			return explain.New(explain.MatchMailUnverified, explain.Pair("email_verified", "true", profile.First("email_verified")))
		}
		return nil
	}
	if domain == "" {
		if m.Unscoped {
			return nil
		}
		return explain.New(explain.MatchForeignScope, explain.Pair("scope", strings.Join(m.Scopes, ", "), "no scope"))
	}
	if !slices.Contains(m.Scopes, domain) {
		return explain.New(explain.MatchForeignScope, explain.Pair("scope", strings.Join(m.Scopes, ", "), domain))
	}
	return nil
}

// Candidate is a person whose value has the key that was looked for.
type Candidate struct {
	ID    string
	Name  string
	Value string
	// Linked is set where the person is linked to another subject of the same provider.
	Linked bool
}

// Judge decides about those who were found for a question: it gives the one person, nobody, or a refusal. It never
// guesses.
func (q Question) Judge(found []Candidate) (*Candidate, error) {
	switch {
	case len(found) == 0:
		return nil, nil
	case q.Refused != nil:
		return nil, q.Refused
	case len(found) > 1:
		var names []string
		for _, c := range found {
			names = append(names, c.Name+" ("+c.Value+")")
		}
		return nil, explain.New(
			explain.MatchSeveral, explain.Fact(claims.InWords(q.Field), q.Value),
			explain.Fact("people", strings.Join(names, "; ")),
		)
	case found[0].Value != q.Value:
		return nil, explain.New(
			explain.MatchDiffers, explain.Pair(claims.InWords(q.Field), found[0].Value, q.Value),
			explain.Fact("they differ", Difference(found[0].Value, q.Value)),
		)
	case found[0].Linked:
		return nil, explain.New(explain.MatchAlreadyLinked, explain.Fact("person", found[0].Name))
	}
	return &found[0], nil
}
