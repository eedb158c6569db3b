// Package listen takes connections from strangers: so many at once and no more, and only such as speak HTTP/1.1 in the one
// way that every program on the way reads alike.
package listen

import (
	"crypto/tls"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"innergate/core/address"
	"innergate/core/wire"
)

// Limits bounds the connections of a listener. The zero value means the defaults given with each field.
type Limits struct {
	All     int            // at once, default 8,192
	Network int            // at once from one network (an IPv4 address, an IPv6 /64), default 512
	Trusted []netip.Prefix // proxies, through which many come: they have no limit of their own
}

// Bounded accepts connections within limits. Beyond them a connection is closed at once, so that those that are there
// go on.
func Bounded(l net.Listener, limits Limits) net.Listener {
	if limits.All == 0 {
		limits.All = 8192
	}
	if limits.Network == 0 {
		limits.Network = 512
	}
	return &bounded{Listener: l, limits: limits, held: map[string]int{}}
}

type bounded struct {
	net.Listener
	limits Limits
	mu     sync.Mutex
	all    int
	held   map[string]int
}

func (b *bounded) Accept() (net.Conn, error) {
	for {
		conn, err := b.Listener.Accept()
		if err != nil {
			return nil, err
		}
		from := b.network(conn.RemoteAddr())
		if !b.enter(from) {
			conn.Close()
			continue
		}
		return &boundedConn{Conn: conn, leave: sync.OnceFunc(func() { b.leave(from) })}, nil
	}
}

// network is what a connection counts for; nothing where it is a trusted proxy's.
func (b *bounded) network(a net.Addr) string {
	peer, err := netip.ParseAddrPort(a.String())
	if err != nil {
		return "unknown"
	}
	ip := peer.Addr().Unmap()
	if slices.ContainsFunc(b.limits.Trusted, func(p netip.Prefix) bool { return p.Contains(ip) }) {
		return ""
	}
	return address.Network(ip.String())
}

func (b *bounded) enter(from string) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.all >= b.limits.All || from != "" && b.held[from] >= b.limits.Network {
		return false
	}
	b.all++
	if from != "" {
		b.held[from]++
	}
	return true
}

func (b *bounded) leave(from string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.all--
	if from == "" {
		return
	}
	if b.held[from]--; b.held[from] == 0 {
		delete(b.held, from)
	}
}

type boundedConn struct {
	net.Conn
	leave func()
}

func (c *boundedConn) Close() error {
	c.leave()
	return c.Conn.Close()
}

// Plain hands on connections whose requests can be read in one way only. Where upgrades is set, one may become a
// WebSocket. It stands above TLS.
func Plain(l net.Listener, head int, upgrades bool) net.Listener {
	return &plain{Listener: l, head: head, upgrades: upgrades}
}

type plain struct {
	net.Listener
	head     int
	upgrades bool
}

func (p *plain) Accept() (net.Conn, error) {
	conn, err := p.Listener.Accept()
	if err != nil {
		return nil, err
	}
	return &plainConn{Conn: conn, checker: wire.Checker{Head: p.head, Upgrades: p.upgrades}}, nil
}

// Secure says whether a connection that a server was given came over TLS.
func Secure(c net.Conn) bool {
	if p, ok := c.(*plainConn); ok {
		c = p.Conn
	}
	_, ok := c.(*tls.Conn)
	return ok
}

type plainConn struct {
	net.Conn
	checker wire.Checker
	failed  error
}

const refusal = "HTTP/1.1 400 Bad Request\r\nContent-Type: text/plain; charset=utf-8\r\nConnection: close\r\n\r\n" +
	"This request can be read in two ways, and is read in none: "

func (c *plainConn) Read(p []byte) (int, error) {
	if c.failed != nil {
		return 0, c.failed
	}
	n, err := c.Conn.Read(p)
	if n == 0 {
		return n, err
	}
	if wrong := c.checker.Feed(p[:n]); wrong != nil {
		c.failed = wrong
		_ = c.Conn.SetWriteDeadline(time.Now().Add(time.Second))
		_, _ = c.Conn.Write([]byte(refusal + wrong.Error() + ".\n"))
		_ = c.Conn.Close()
		return 0, wrong
	}
	return n, err
}
