package config

import (
	"net/url"
	"strings"

	"innergate/core/address"
)

// AllowsLink says whether a deep link belongs to the application: it begins with one of the beginnings that are
// set, at a border of its path.
func (a *SAMLApplication) AllowsLink(to string) bool {
	if a == nil || len(to) > 2000 {
		return false
	}
	u, err := url.Parse(to)
	if err != nil || u.User != nil || strings.ContainsAny(to, "\\\r\n\t ") || strings.Contains(u.Path, "/../") ||
		strings.HasSuffix(u.Path, "/..") {
		return false
	}
	if to == a.DefaultRelayState {
		return true
	}
	for _, allowed := range a.DeepLinks {
		rest, ok := strings.CutPrefix(to, allowed)
		if ok && (rest == "" || strings.HasSuffix(allowed, "/") || strings.ContainsAny(rest[:1], "/?")) &&
			address.Origin(to) == address.Origin(allowed) {
			return true
		}
	}
	return false
}
