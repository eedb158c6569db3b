package bridge

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode"
)

// maxIdentifier is how many octets a value may have that tells one person from all others.
const maxIdentifier = 1024

// CheckIdentifier refuses a value that can't tell one person from another for sure: none, blanks alone, one with control
// characters, which people do not see and which stand between the parts of a link, and one that is too long.
func CheckIdentifier(value string) error {
	switch {
	case strings.TrimFunc(value, unicode.IsSpace) == "":
		return errors.New("the identifier is empty")
	case len(value) > maxIdentifier:
		return fmt.Errorf("the identifier has %d octets; %d are the most", len(value), maxIdentifier)
	case strings.ContainsFunc(value, unicode.IsControl):
		return errors.New("the identifier holds a control character")
	}
	return nil
}

// Link is the key by which a link knows somebody: what kind of identifier it is, the parts that say whose it is, which
// may be empty, and the value. No part can pass for two.
func Link(kind, value string, whose ...string) (string, error) {
	if err := CheckIdentifier(value); err != nil {
		return "", err
	}
	for _, w := range whose {
		if len(w) > maxIdentifier || strings.ContainsFunc(w, unicode.IsControl) {
			return "", errors.New("what says whose the identifier is holds a control character, or is too long")
		}
	}
	return strings.Join(append(append([]string{kind}, whose...), value), "\x1f"), nil
}

// OpenIDLink is the key for somebody whom an OpenID provider vouches for: by the sub of an issuer, or by a claim. Two
// issuers of one provider may call different people the same, so each but the provider's own stands in the key, and none
// can write a value that reads as another's.
func OpenIDLink(own, issuer, claim, value string) (string, error) {
	kind, whose := "sub", []string(nil)
	if claim != "" {
		kind, whose = "claim", []string{claim}
	}
	if issuer != own {
		whose = append(whose, issuer)
	}
	return Link(kind, value, whose...)
}

// Reissued is what a key of OpenIDLink becomes where another issuer becomes the provider's own: the people of the one that
// was its own are known with its name from then on, and those of the new one without. Any other key stays.
func Reissued(link, was, own string) string {
	parts := strings.Split(link, "\x1f")
	plain := 2 // parts of a key without an issuer: its kind and the value
	if parts[0] == "claim" {
		plain = 3
	}
	last := len(parts) - 1
	switch {
	case len(parts) == plain:
		return strings.Join(slices.Insert(parts, last, was), "\x1f")
	case len(parts) == plain+1 && parts[last-1] == own:
		return strings.Join(slices.Delete(parts, last-1, last), "\x1f")
	}
	return link
}
