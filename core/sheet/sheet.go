// Package sheet knows what an exchange sheet says: the values that a partner is given, what they are called
// elsewhere, and what of them stands in a pasted form.
package sheet

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/keys"
	"innergate/core/oidc"
	"innergate/core/saml"
)

// Fact is a value that a partner is given and may hold on to.
type Fact struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// HandedOut lists what a partner learns from our metadata.
func HandedOut(e *saml.Entity) []Fact {
	out := []Fact{{"entity ID", e.EntityID}}
	for _, r := range e.Roles {
		for _, p := range r.Endpoints {
			out = append(out, Fact{p.Service + " (" + saml.BindingName(p.Binding) + ")", p.Location})
		}
		for _, k := range r.Keys {
			out = append(out, Fact{"certificate for " + k.Use, keys.Fingerprint(k.Certificate.Raw)})
		}
	}
	return out
}

// MeaningOf says where the value of a rule comes from, for the other side's engineer.
func MeaningOf(r claims.Rule) string {
	switch {
	case r.Value != "":
		return fmt.Sprintf("always %q", r.Value)
	case r.Expr != "":
		return "computed: " + r.Expr
	}
	return claims.InWords(strings.Join(r.From, ", "))
}

// SameHost says whether two addresses lead to the same host. Names that are no addresses have none.
func SameHost(a, b string) bool {
	x, err := url.Parse(a)
	if err != nil || x.Host == "" {
		return false
	}
	y, err := url.Parse(b)
	return err == nil && strings.EqualFold(x.Host, y.Host)
}

// Spelled writes a fingerprint as we do: lower-case pairs with colons.
func Spelled(text string) string {
	hexits := strings.Map(func(r rune) rune {
		if strings.ContainsRune("0123456789abcdef", r) {
			return r
		}
		return -1
	}, strings.ToLower(text))
	if len(hexits) != 64 && len(hexits) != 40 {
		return text
	}
	var b strings.Builder
	for i := 0; i < len(hexits); i += 2 {
		if i > 0 {
			b.WriteByte(':')
		}
		b.WriteString(hexits[i : i+2])
	}
	return b.String()
}

// ScopeOf is the scope that asks for a claim, or nothing for one that is sent without being asked for.
func ScopeOf(claim string) string {
	for _, scope := range config.Scopes {
		if slices.Contains(oidc.ClaimsOf([]string{scope}), claim) {
			return scope
		}
	}
	return ""
}

// ScopesText writes scopes as they stand in a request (RFC 6749, section 3.3).
func ScopesText(scopes []string) string { return strings.Join(scopes, " ") }

// NameFormatOf guesses an attribute's name format from the look of its name.
func NameFormatOf(name string) string {
	if u, err := url.Parse(name); err == nil && u.Scheme != "" {
		return saml.NameFormatURI
	}
	return saml.NameFormatBasic
}
