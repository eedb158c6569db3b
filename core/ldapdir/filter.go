// Package ldapdir is what the gate knows of directories of others, without speaking to any: how a filter and a DN are made of what a
// person entered (RFC 4514, RFC 4515), what stays the same of an entry, what a directory says of an account, and which groups
// somebody is in through others.
package ldapdir

import (
	"cmp"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"innergate/core/claims"
)

// Placeholder stands for what a person entered, in filters and patterns.
const Placeholder = "{name}"

// Filter makes a filter of a template and what a person entered, of which no character means anything but itself (RFC 4515, section
// 3).
func Filter(template, name string) (string, error) {
	if !strings.Contains(template, Placeholder) {
		return "", fmt.Errorf("the filter %q lacks %s, which stands for what a person enters", template, Placeholder)
	}
	filter := strings.ReplaceAll(template, Placeholder, ldap.EscapeFilter(name))
	return filter, CheckFilter(filter)
}

var valueForm = regexp.MustCompile(`\{([^{}]+)\}`)

// FilterOf makes a filter of a template in which names of values stand in braces. It says whether all of them came: without one of
// them nothing can be found.
func FilterOf(template string, came claims.Bag) (filter string, whole bool, err error) {
	if !valueForm.MatchString(template) {
		return "", false, fmt.Errorf("the filter %q has no name of a value that came in braces, such as (mail={email})", template)
	}
	whole = true
	filter = valueForm.ReplaceAllStringFunc(template, func(name string) string {
		value := came.First(strings.Trim(name, "{}"))
		whole = whole && value != ""
		return ldap.EscapeFilter(cmp.Or(value, "none"))
	})
	return filter, whole, CheckFilter(filter)
}

// FromDirectory is how the names of values begin that are taken from a directory: directory:NAME.attribute.
const FromDirectory = "directory:"

// CheckFilter says what is wrong with a filter.
func CheckFilter(filter string) error {
	if _, err := ldap.CompileFilter(filter); err != nil {
		return fmt.Errorf("%q is no filter; one is (objectClass=person), or (&(a=b)(c=d))", filter)
	}
	return nil
}

// Named makes a DN of a pattern and what a person entered, of which no character means anything but itself (RFC 4514, section 2.4).
func Named(pattern, name string) (string, error) {
	if strings.Count(pattern, Placeholder) != 1 {
		return "", fmt.Errorf("the pattern %q must have %s in it once, which stands for what a person enters", pattern, Placeholder)
	}
	dn := strings.Replace(pattern, Placeholder, ldap.EscapeDN(name), 1)
	_, err := ParseDN(dn)
	return dn, err
}

// ParseDN reads a DN; an empty one is none.
func ParseDN(text string) (*ldap.DN, error) {
	dn, err := ldap.ParseDN(text)
	if err != nil {
		return nil, fmt.Errorf("%q is no distinguished name; one is ou=people,dc=saltmere,dc=example", text)
	}
	return dn, nil
}

// KeyOf is one text for all ways to write a DN, so that it can be looked up.
func KeyOf(dn string) string {
	d, err := ldap.ParseDN(dn)
	if err != nil {
		return strings.ToLower(strings.TrimSpace(dn))
	}
	return strings.ToLower(d.String())
}

var nameForm = regexp.MustCompile(`^([A-Za-z][A-Za-z0-9-]{0,99}|\d+(\.\d+)+)(;[A-Za-z0-9;-]{1,50})?$`)

// NameFits says whether a text can be the name of an attribute (RFC 4512, section 2.5), with options.
func NameFits(name string) bool { return nameForm.MatchString(name) }

// ErrEmpty refuses what a server would take for somebody who does not say who he is (RFC 4513, section 5.1.2).
var ErrEmpty = errors.New("an empty password proves nothing")
