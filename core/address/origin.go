package address

import (
	"net/netip"
	"net/url"
	"strings"
)

// PublicDomain says by a domain's look whether anybody can have an address there.
func PublicDomain(domain string) bool {
	first, _, _ := strings.Cut(domain, ".")
	return strings.Contains(first, "mail") || strings.Contains(first, "inbox") || first == "post"
}

// Network is the address to count by: whoever has an IPv6 network has very many addresses in it.
func Network(address string) string {
	ip, err := netip.ParseAddr(address)
	if err != nil {
		return address
	}
	if ip = ip.Unmap().WithZone(""); ip.Is4() {
		return ip.String()
	}
	return netip.PrefixFrom(ip, 64).Masked().String()
}

// Origin is the scheme, host and port of an address, in the form in which browsers compare them; empty where there
// is none.
func Origin(address string) string {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return ""
	}
	return u.Scheme + "://" + u.Host
}

// Host is the host in an identifier that is an address, or the identifier itself.
func Host(id string) string {
	if u, err := url.Parse(id); err == nil && u.Hostname() != "" {
		return u.Hostname()
	}
	return id
}
