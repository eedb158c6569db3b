package ldapdir

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/go-ldap/ldap/v3"

	"innergate/core/config"
	"innergate/core/explain"
	"innergate/core/trace"
	"innergate/gate/ground"
	"innergate/gate/partners"
)

const (
	// avoided is how long a server that did not answer is asked last.
	avoided = 20 * time.Second
	// idle is after how long an open connection is not used any more, and most how many wait.
	idle     = 30 * time.Second
	mostIdle = 4
)

// lines are the connections to one directory.
type lines struct {
	made  string        // of which configuration
	slots chan struct{} // as many as may be open
	mu    sync.Mutex
	idle  []*line // bound as the gate's own entry
	down  map[string]time.Time
	over  bool // the provider is configured otherwise now
}

// line is one of them.
type line struct {
	*ldap.Conn
	free  func() // its slot
	since time.Time
}

// Close closes it and gives its slot back.
func (l *line) Close() {
	l.Conn.Close()
	l.free()
}

// linesOf are the connections to a provider's directory as it is configured now.
func (g *Room) linesOf(p *partners.Provider) *lines {
	made := ground.MustJSON(p.LDAP)
	g.mu.Lock()
	defer g.mu.Unlock()
	if l := g.held[p.ID]; l != nil && l.made == made {
		return l
	}
	if old := g.held[p.ID]; old != nil {
		old.forget()
	}
	l := &lines{made: made, slots: make(chan struct{}, p.LDAP.Connections), down: map[string]time.Time{}}
	if p.ID != "" {
		g.held[p.ID] = l
	}
	return l
}

// forget closes what waits.
func (l *lines) forget() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, one := range l.idle {
		one.Close()
	}
	l.idle, l.over = nil, true
}

// slot takes a slot, if need be that of a connection that waits for nobody.
func (l *lines) slot(ctx context.Context) error {
	select {
	case l.slots <- struct{}{}:
		return nil
	default:
	}
	l.mu.Lock()
	if n := len(l.idle); n > 0 {
		l.idle[n-1].Close()
		l.idle = l.idle[:n-1]
	}
	l.mu.Unlock()
	select {
	case l.slots <- struct{}{}:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// open opens a connection to the first server that answers, and shows it our own certificate where there is one. Those
// that did not a moment ago are asked last.
func (l *lines) open(
	ctx context.Context, p *config.Provider, own *tls.Certificate, now time.Time, rec *trace.Recorder,
) (*line, error) {
	limit := time.Duration(p.LDAP.TimeoutSeconds) * time.Second
	waiting, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	if l.slot(waiting) != nil {
		return nil, explain.New(explain.LDAPUnreachable, explain.Fact("reason", fmt.Sprintf("all %d connections are in use",
			cap(l.slots)))).Of(p.Name)
	}
	free := sync.OnceFunc(func() { <-l.slots })
	var failed []string
	var last error
	for _, text := range l.order(p.LDAP.Servers, now) {
		c, err := dial(ctx, p.LDAP, own, text)
		if err == nil {
			l.note(text, time.Time{})
			rec.Check(trace.Check{Name: "ldap.server", Text: "The directory answers", Section: "our rule", Got: text, OK: true})
			return &line{Conn: c, free: free, since: now}, nil
		}
		l.note(text, now)
		failed, last = append(failed, text+": "+reason(err)), err
	}
	free()
	rec.Check(trace.Check{Name: "ldap.server", Text: "The directory answers", Section: "our rule", Got: strings.Join(failed, "; ")})
	code := explain.LDAPUnreachable
	if distrusted(last) {
		code = explain.LDAPTrust
	}
	return nil, explain.New(code, explain.Fact("reason", strings.Join(failed, "; "))).Of(p.Name)
}

// order is that of the servers, those that did not answer a moment ago last.
func (l *lines) order(servers []string, now time.Time) []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	var up, down []string
	for _, s := range servers {
		if at, ok := l.down[s]; ok && now.Sub(at) < avoided {
			down = append(down, s)
			continue
		}
		up = append(up, s)
	}
	return append(up, down...)
}

// note notes that a server did not answer, or that it did.
func (l *lines) note(server string, at time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if delete(l.down, server); !at.IsZero() {
		l.down[server] = at
	}
}

// take takes a connection that is bound as the gate's own entry.
func (l *lines) take(now time.Time) *line {
	l.mu.Lock()
	defer l.mu.Unlock()
	for len(l.idle) > 0 {
		one := l.idle[len(l.idle)-1]
		l.idle = l.idle[:len(l.idle)-1]
		if now.Sub(one.since) < idle && !one.IsClosing() {
			return one
		}
		one.Close()
	}
	return nil
}

// back gives a connection back that is still bound as the gate's own entry.
func (l *lines) back(one *line, now time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.over || len(l.idle) >= min(mostIdle, max(1, cap(l.slots)/2)) || one.IsClosing() {
		one.Close()
		return
	}
	one.since = now
	l.idle = append(l.idle, one)
}

// dial opens a connection to one server, by TLS unless the provider says otherwise of a loopback address. Nothing is said over it
// before TLS is there.
func dial(ctx context.Context, p *config.LDAPProvider, own *tls.Certificate, text string) (*ldap.Conn, error) {
	s, err := config.ReadServer(text)
	if err != nil {
		return nil, err
	}
	limit := time.Duration(p.TimeoutSeconds) * time.Second
	dialer := &net.Dialer{Timeout: limit}
	raw, err := dialer.DialContext(ctx, "tcp", s.Address)
	if err != nil {
		return nil, err
	}
	settings := &tls.Config{MinVersion: tls.VersionTLS12, ServerName: s.Host, RootCAs: roots(p)}
	if own != nil {
		settings.Certificates = []tls.Certificate{*own}
	}
	if s.TLS {
		secure := tls.Client(raw, settings)
		handshake, cancel := context.WithTimeout(ctx, limit)
		defer cancel()
		if err := secure.HandshakeContext(handshake); err != nil {
			return nil, errors.Join(err, raw.Close())
		}
		raw = secure
	}
	c := ldap.NewConn(raw, s.TLS)
	c.Start()
	c.SetTimeout(limit)
	if !s.TLS && !p.Plain {
		if err := c.StartTLS(settings); err != nil {
			c.Close()
			return nil, fmt.Errorf("StartTLS was refused, and nothing is said without it: %w", err)
		}
	}
	return c, nil
}

// roots are the certificates that are believed in place of the system's.
func roots(p *config.LDAPProvider) *x509.CertPool {
	list := config.Parsed(p.Certificates, "")
	if len(list) == 0 {
		return nil
	}
	pool := x509.NewCertPool()
	for _, c := range list {
		pool.AddCert(c)
	}
	return pool
}

// distrusted says whether a connection failed by a certificate.
func distrusted(err error) bool {
	var verify *tls.CertificateVerificationError
	return errors.As(err, &verify)
}

// reason is an error in few words.
func reason(err error) string {
	var verify *tls.CertificateVerificationError
	var op *net.OpError
	switch {
	case errors.As(err, &verify):
		return verify.Err.Error()
	case errors.Is(err, context.DeadlineExceeded):
		return "no answer in time"
	case errors.As(err, &op):
		if op.Timeout() {
			return "no answer in time"
		}
		return op.Err.Error()
	}
	return strings.TrimPrefix(err.Error(), "LDAP Result Code 200 \"Network Error\": ")
}
