// Package address says what may be entered or sent as the address of an endpoint, and whether it is safe to send
// something there.
package address

import (
	"fmt"
	"net"
	"net/url"
	"strings"
)

// Max is the length of an address in octets.
const Max = 2000

// Check accepts absolute http and https addresses without user information or fragment, and explains what else was
// entered.
func Check(value string) error {
	switch u, err := url.Parse(value); {
	case strings.TrimSpace(value) != value:
		return fmt.Errorf("%q begins or ends with white space", value)
	case len(value) > Max:
		return fmt.Errorf("the address has %d characters; %d are the most", len(value), Max)
	case strings.HasPrefix(value, "-----BEGIN"):
		return fmt.Errorf("this is a certificate or key, not an address")
	case err != nil:
		return fmt.Errorf("%q is not an address: %v", value, err)
	case u.User != nil:
		return fmt.Errorf("%q carries a user name, which an address here must not", u.Redacted())
	case u.Scheme == "" && strings.Contains(value, "."):
		return fmt.Errorf("%q lacks its beginning; did you mean https://%s?", value, value)
	case u.Scheme != "https" && u.Scheme != "http":
		return fmt.Errorf("%q is not an http or https address", value)
	case u.Hostname() == "":
		return fmt.Errorf("%q names no host", value)
	case strings.Contains(value, "#"):
		return fmt.Errorf("%q carries a fragment (#…), which never reaches a server", value)
	}
	return nil
}

// Plain says whether what is sent to an address goes to another machine without TLS.
func Plain(value string) bool {
	u, err := url.Parse(value)
	return err == nil && u.Scheme == "http" && !Loopback(u.Hostname())
}

// Loopback says whether a host is this very machine, by its literal or as localhost. A name that only begins like one
// is not.
func Loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}
