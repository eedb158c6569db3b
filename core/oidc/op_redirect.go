package oidc

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
)

// CheckRedirectURI says whether an address may be registered to receive codes (RFC 6749, section 3.1.2; RFC 8252,
// sections 7 and 8.3; RFC 9700, section 2.1). Native clients may use http on a loopback IP literal, without regard to
// the port, and an address of their own scheme, which must be a domain name backwards. Web clients use https, or http
// on a loopback address, or localhost, for development.
func CheckRedirectURI(address string, native bool) error {
	u, err := url.Parse(address)
	switch {
	case err != nil || !u.IsAbs() || len(address) > 2048 || strings.ContainsAny(address, " \t\r\n\\*"):
		return fmt.Errorf("%q can't be read as an address; marks for any value are not taken", shown(address))
	case u.Fragment != "" || strings.HasSuffix(address, "#"):
		return fmt.Errorf("%q has a fragment, which no answer can carry", shown(address))
	case u.User != nil:
		return fmt.Errorf("%q holds a user name", u.Redacted())
	case u.Scheme == "https" && u.Hostname() != "":
		return nil
	case u.Scheme == "http" && loopbackLiteral(u.Hostname()):
		return nil
	case u.Scheme == "http" && u.Hostname() == "localhost":
		return nil // another program could answer for it, which is a finding (RFC 8252, section 8.3)
	case u.Scheme == "http":
		return fmt.Errorf("%q is without TLS, so the code could be read on its way; use https", shown(address))
	case native && strings.Contains(u.Scheme, ".") && u.Host == "" && strings.HasPrefix(u.Path, "/"):
		return nil
	case native:
		return fmt.Errorf("the scheme of %q must be a domain name backwards, such as com.example.app:/callback", shown(address))
	}
	return fmt.Errorf("%q is not an https address", shown(address))
}

// MatchRedirectURI says whether an address that was asked for is a registered one. The comparison is exact, octet for
// octet (RFC 9700, section 4.1.3); only the port of a native client's loopback literal may differ (RFC 8252, section
// 7.3).
func MatchRedirectURI(registered []string, asked string, native bool) bool {
	if slices.Contains(registered, asked) {
		return true
	}
	if !native {
		return false
	}
	bare, ok := withoutPort(asked)
	return ok && slices.ContainsFunc(registered, func(r string) bool {
		b, ok := withoutPort(r)
		return ok && b == bare
	})
}

// IsLoopback says whether an address leads to this very machine, where any program may listen, so that the person is
// asked first.
func IsLoopback(address string) bool {
	u, err := url.Parse(address)
	return err == nil && u.Scheme == "http" && (loopbackLiteral(u.Hostname()) || u.Hostname() == "localhost")
}

// IsLocal says whether an answer goes to a program on the person's own machine: by a loopback address, or by a scheme
// that some program there has registered. Any program could be the one (RFC 8252, section 8.6).
func IsLocal(address string) bool {
	u, err := url.Parse(address)
	return err == nil && (IsLoopback(address) || u.Scheme != "" && u.Scheme != "http" && u.Scheme != "https")
}

func loopbackLiteral(host string) bool { return host == "127.0.0.1" || host == "::1" }

// withoutPort takes the port out of an http address of a loopback literal, and leaves every other octet.
func withoutPort(address string) (string, bool) {
	rest, ok := strings.CutPrefix(address, "http://")
	if !ok {
		return "", false
	}
	end := strings.IndexAny(rest, "/?#")
	if end < 0 {
		end = len(rest)
	}
	host, port := rest[:end], ""
	literal := ""
	for written, bare := range map[string]string{"127.0.0.1": "127.0.0.1", "[::1]": "::1", "localhost": "localhost"} {
		if after, ok := strings.CutPrefix(host, written); ok && (after == "" || after[0] == ':') {
			literal, port = bare, after
		}
	}
	if literal == "" {
		return "", false
	}
	if port != "" {
		if n, err := strconv.ParseUint(port[1:], 10, 16); err != nil || n == 0 || strconv.FormatUint(n, 10) != port[1:] {
			return "", false
		}
	}
	return literal + " " + rest[end:], true
}

// NearestRedirectURI is the registered address that shares the longest beginning with the one asked for, to show where
// they differ.
func NearestRedirectURI(registered []string, asked string) string {
	best, length := "", -1
	for _, r := range registered {
		n := 0
		for n < len(r) && n < len(asked) && r[n] == asked[n] {
			n++
		}
		if n > length {
			best, length = r, n
		}
	}
	return best
}
