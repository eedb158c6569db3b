package ldapdir

import (
	"fmt"
	"sort"
	"strings"
	"unicode/utf8"

	"github.com/go-ldap/ldap/v3"
	"github.com/google/uuid"

	"innergate/core/claims"
)

// Entry is what a directory holds of somebody or something.
type Entry struct {
	DN     string
	Values map[string][][]byte // by the names of attributes as the server writes them
}

// Get gives an attribute's values, whatever the case of its name.
func (e *Entry) Get(name string) [][]byte {
	for have, values := range e.Values {
		if strings.EqualFold(have, name) {
			return values
		}
	}
	return nil
}

// First is the first value of an attribute as text, or "".
func (e *Entry) First(name string) string {
	if v := e.Get(name); len(v) > 0 {
		return Text(name, v[0])
	}
	return ""
}

// guids are attributes whose values are GUIDs as 16 octets, the first three parts with the least octet first.
var guids = map[string]bool{"objectguid": true}

// Text is a value as people read it: a GUID in its usual form, and octets that are no text in hexadecimal digits.
func Text(name string, value []byte) string {
	if guids[strings.ToLower(name)] && len(value) == 16 {
		v := value
		id := uuid.UUID{v[3], v[2], v[1], v[0], v[5], v[4], v[7], v[6], v[8], v[9], v[10], v[11], v[12], v[13], v[14], v[15]}
		return id.String()
	}
	if !utf8.Valid(value) {
		return fmt.Sprintf("%x", value)
	}
	return string(value)
}

// Identified is the filter that finds the entry with this identifier, as Text writes it.
func Identified(name, text string) string {
	value := ldap.EscapeFilter(text)
	if id, err := uuid.Parse(text); err == nil && guids[strings.ToLower(name)] {
		value = ""
		for _, at := range []int{3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15} {
			value += fmt.Sprintf("\\%02x", id[at])
		}
	}
	return "(" + name + "=" + value + ")"
}

// usual are read of everybody.
var usual = []string{
	"uid", "cn", "sn", "givenName", "displayName", "mail", "telephoneNumber", "title", "ou", "employeeNumber", "preferredLanguage",
	"sAMAccountName", "userPrincipalName",
}

// Wanted are the attributes that are asked for, each once.
func Wanted(identifier string, more ...string) []string {
	seen := map[string]bool{}
	var out []string
	for _, name := range append(append([]string{identifier}, usual...), more...) {
		if key := strings.ToLower(name); name != "" && !seen[key] {
			seen[key] = true
			out = append(out, name)
		}
	}
	sort.Strings(out[1:])
	return out
}

// secret are attributes whose values are never taken along, whoever asks for them.
var secret = []string{"userpassword", "unicodepwd", "authpassword", "sambantpassword", "sambalmpassword", "pwdhistory", "krbprincipalkey"}

// Secret says whether an attribute's values are nobody's business.
func Secret(name string) bool {
	base, _, _ := strings.Cut(strings.ToLower(name), ";")
	for _, s := range secret {
		if base == s {
			return true
		}
	}
	return false
}

// Bag is an entry as values for the mapping: each attribute by its name, the DN as dn, and the names of groups as groups.
func (e *Entry) Bag(groups []string) claims.Bag {
	bag := claims.Bag{"dn": {e.DN}}
	for name, values := range e.Values {
		if Secret(name) {
			continue
		}
		for _, v := range values {
			bag[name] = append(bag[name], Text(name, v))
		}
	}
	if len(groups) > 0 {
		bag["groups"] = groups
	}
	return bag
}
