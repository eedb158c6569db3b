package ground

import (
	"net/netip"
	"slices"
	"strings"
)

// AddressOf is the network address of whom a request is from: the last one in X-Forwarded-For that no trusted proxy
// wrote about itself, read from the right. Of a peer that is no trusted proxy, nothing in the header counts.
func AddressOf(peer netip.Addr, forwarded string, proxies []netip.Prefix) netip.Addr {
	trusted := func(ip netip.Addr) bool {
		return slices.ContainsFunc(proxies, func(p netip.Prefix) bool { return p.Contains(ip) })
	}
	peer = peer.Unmap()
	if !trusted(peer) {
		return peer
	}
	hops := strings.Split(forwarded, ",")
	for _, text := range slices.Backward(hops) {
		hop, err := netip.ParseAddr(strings.TrimSpace(text))
		if err != nil {
			break
		}
		if peer = hop.Unmap(); !trusted(peer) {
			break
		}
	}
	return peer
}
