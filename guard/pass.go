package guard

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync/atomic"
	"time"

	"innergate/core/config"
	"innergate/core/explain"
	"innergate/gate/guarded"
)

const (
	restAfterFailure = 10 * time.Second // for which an inner address is not tried, if another is there
	healthEvery      = 10 * time.Second
	unusedFor        = 5 * time.Minute
)

// behind is what stands behind the guard for one application: its inner addresses and the connections to them.
type behind struct {
	settings  string // as which it was made
	upstreams []*upstream
	transport *http.Transport
	turn      atomic.Uint64
	used      atomic.Int64 // Unix seconds
}

type upstream struct {
	at   *url.URL
	down atomic.Int64 // Unix milliseconds until which it is not tried first
}

// behindOf finds what stands behind an application, made anew when its settings have changed.
func (d *Guard) behindOf(app *guarded.Guarded) (*behind, error) {
	g := &app.GuardedApplication
	text, err := json.Marshal([]any{g.Upstreams, g.Trust, g.TimeoutSeconds, g.HealthPath})
	if err != nil {
		return nil, err
	}
	if held, ok := d.behind.Load(app.Slug); ok && held.(*behind).settings == string(text) {
		b := held.(*behind)
		b.used.Store(time.Now().Unix())
		return b, nil
	}
	b := &behind{settings: string(text)}
	b.used.Store(time.Now().Unix())
	for _, address := range g.Upstreams {
		u, err := url.Parse(address)
		if err != nil {
			return nil, err
		}
		b.upstreams = append(b.upstreams, &upstream{at: u})
	}
	b.transport = &http.Transport{
		DialContext: (&net.Dialer{Timeout: 5 * time.Second, KeepAlive: 30 * time.Second}).DialContext, MaxIdleConnsPerHost: 64,
		IdleConnTimeout:     60 * time.Second,
		TLSHandshakeTimeout: 5 * time.Second, ResponseHeaderTimeout: app.Timeout(), MaxResponseHeaderBytes: headLimit * 4,
		DisableCompression: true,
		TLSClientConfig:    &tls.Config{MinVersion: tls.VersionTLS12},
	}
	if len(g.Trust) > 0 {
		pool := x509.NewCertPool()
		for _, c := range config.Parsed(g.Trust, "") {
			pool.AddCert(c)
		}
		b.transport.TLSClientConfig.RootCAs = pool
	}
	d.behind.Store(app.Slug, b)
	if g.HealthPath != "" {
		go d.watch(app.Slug, b, g.HealthPath)
	}
	return b, nil
}

// watch asks each inner address how it is, for as long as the application is in use.
func (d *Guard) watch(slug string, b *behind, path string) {
	every := time.NewTicker(healthEvery)
	defer every.Stop()
	client := &http.Client{
		Transport:     b.transport,
		Timeout:       5 * time.Second,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	for {
		for _, u := range b.upstreams {
			u.ask(d.ctx, client, path)
		}
		select {
		case <-d.ctx.Done():
			return
		case <-every.C:
		}
		if held, _ := d.behind.Load(slug); held != b || time.Since(time.Unix(b.used.Load(), 0)) > unusedFor {
			d.behind.CompareAndDelete(slug, b)
			b.transport.CloseIdleConnections()
			return
		}
	}
}

func (u *upstream) ask(ctx context.Context, client *http.Client, path string) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, u.at.String()+path, nil)
	if err != nil {
		return
	}
	answer, err := client.Do(req)
	if err == nil {
		io.Copy(io.Discard, io.LimitReader(answer.Body, headLimit))
		answer.Body.Close()
	}
	if err != nil || answer.StatusCode >= 500 {
		u.down.Store(time.Now().Add(2 * healthEvery).UnixMilli())
	} else {
		u.down.Store(0)
	}
}

type stickKey struct{}

// RoundTrip sends a request to the inner address that is this session's, or to another where that one can't be reached.
// A request is never sent twice: only where no connection came about is the next one tried.
func (b *behind) RoundTrip(r *http.Request) (*http.Response, error) {
	n := uint64(len(b.upstreams))
	if n == 0 {
		return nil, errors.New("there is no inner address")
	}
	start := b.turn.Add(1)
	if session, _ := r.Context().Value(stickKey{}).(string); session != "" {
		h := fnv.New64a()
		h.Write([]byte(session))
		start = h.Sum64()
	}
	var last error
	for _, resting := range []bool{false, true} {
		for i := range n {
			u := b.upstreams[(start+i)%n]
			if time.Now().UnixMilli() < u.down.Load() != resting {
				continue
			}
			r.URL.Scheme, r.URL.Host = u.at.Scheme, u.at.Host
			answer, err := b.transport.RoundTrip(keepBody(r))
			var op *net.OpError
			if err == nil || !errors.As(err, &op) || op.Op != "dial" {
				return answer, err
			}
			last = err
			u.down.Store(time.Now().Add(restAfterFailure).UnixMilli())
		}
	}
	return nil, last
}

// keepBody lets a request be tried again that never left.
func keepBody(r *http.Request) *http.Request {
	if r.Body == nil || r.Body == http.NoBody {
		return r
	}
	out := *r
	out.Body = io.NopCloser(r.Body)
	return &out
}

// pass hands a request on, and its answer back.
func (d *Guard) pass(w http.ResponseWriter, r *http.Request, v *visit, answer *guarded.GuardAnswer) {
	b, err := d.behindOf(v.app)
	if err != nil {
		d.broken(w, r, err)
		return
	}
	ctx, end := context.WithCancel(context.WithValue(r.Context(), stickKey{}, answer.SessionID))
	defer end()
	defer context.AfterFunc(d.ctx, end)()
	if answer.SessionID != "" {
		// A visit may last, as a stream or an upgraded connection. It ends with the session.
		watch := time.AfterFunc(lookEvery, func() { d.endWithSession(ctx, end, answer.SessionID) })
		defer watch.Stop()
	}
	if err := http.NewResponseController(w).EnableFullDuplex(); err != nil && !errors.Is(err, http.ErrNotSupported) {
		d.Log.Debug("a visit is not served both ways at once", "error", err)
	}
	w.Header().Del("Connection")
	r.Body = http.MaxBytesReader(w, r.Body, bodyLimit)
	proxy := httputil.ReverseProxy{
		Transport: b, FlushInterval: -1, ErrorLog: slog.NewLogLogger(d.Log.Handler(), slog.LevelDebug),
		Rewrite:        func(p *httputil.ProxyRequest) { d.rewrite(p, v, b, answer) },
		ModifyResponse: func(res *http.Response) error { return v.answered(res, b, r) },
		ErrorHandler:   func(w http.ResponseWriter, r *http.Request, err error) { d.unreached(w, r, v, err) },
	}
	proxy.ServeHTTP(w, r.WithContext(ctx))
}

func (d *Guard) endWithSession(ctx context.Context, end context.CancelFunc, session string) {
	every := time.NewTicker(lookEvery)
	defer every.Stop()
	for !d.gate.Guarded.GuardOver(ctx, session) {
		select {
		case <-ctx.Done():
			return
		case <-every.C:
		}
	}
	end()
}

// rewrite makes the request that the application gets. Hop-by-hop headers, and those that Connection names, are gone
// before ours are set.
func (d *Guard) rewrite(p *httputil.ProxyRequest, v *visit, b *behind, answer *guarded.GuardAnswer) {
	out := p.Out
	out.URL.Scheme, out.URL.Host = b.upstreams[0].at.Scheme, b.upstreams[0].at.Host
	if out.Host = ""; v.app.KeepHost {
		out.Host = p.In.Host
	}
	for name := range out.Header {
		if identity(v.app, name) {
			delete(out.Header, name)
		}
	}
	if !strings.EqualFold(p.In.Header.Get("Upgrade"), "websocket") || p.In.Method != http.MethodGet {
		out.Header.Del("Upgrade") // anything else would be a tunnel in which nothing is looked at any more
		out.Header.Del("Connection")
	}
	out.Trailer = nil // nothing about identity may come after the body
	withoutOurs(out.Header)
	out.Header.Set("X-Forwarded-For", v.address)
	out.Header.Set("X-Forwarded-Host", p.In.Host)
	scheme, _, _ := strings.Cut(v.public, ":")
	out.Header.Set("X-Forwarded-Proto", scheme)
	out.Header.Set("X-Real-IP", v.address)
	if p.In.Header.Get("User-Agent") == "" {
		out.Header.Set("User-Agent", "") // else one of Go's own would be sent
	}
	for name, values := range answer.Headers {
		out.Header[http.CanonicalHeaderKey(name)] = values
	}
	if answer.User != "" {
		out.SetBasicAuth(answer.User, answer.Password)
	}
}

func ours(cookie string) bool {
	cookie = strings.TrimSpace(cookie)
	return strings.HasPrefix(cookie, "ig-") || strings.HasPrefix(cookie, "__Host-ig-")
}

// withoutOurs takes the gate's cookies out of a request, and leaves the others as they are.
func withoutOurs(h http.Header) {
	var kept []string
	for _, line := range h.Values("Cookie") {
		var parts []string
		for part := range strings.SplitSeq(line, ";") {
			if !ours(part) {
				parts = append(parts, strings.TrimSpace(part))
			}
		}
		if len(parts) > 0 {
			kept = append(kept, strings.Join(parts, "; "))
		}
	}
	h.Del("Cookie")
	for _, line := range kept {
		h.Add("Cookie", line)
	}
}

// answered makes an application's answer fit its public address: redirects and cookies for the inner one are written
// anew, and the gate's own cookies can't be set.
func (v *visit) answered(res *http.Response, b *behind, r *http.Request) error {
	if r.Header.Get("Upgrade") != "" && res.StatusCode != http.StatusSwitchingProtocols {
		res.Header.Set("Connection", "close") // what comes behind such a request is not looked at, so nothing does
	}
	for _, name := range []string{"Location", "Content-Location"} {
		if to := res.Header.Get(name); to != "" {
			res.Header.Set(name, v.outward(to, b))
		}
	}
	cookies := res.Header.Values("Set-Cookie")
	res.Header.Del("Set-Cookie")
	for _, line := range cookies {
		if ours(line) {
			continue
		}
		parts := strings.Split(line, ";")
		kept := parts[:1]
		for _, part := range parts[1:] {
			name, value, _ := strings.Cut(strings.TrimSpace(part), "=")
			if strings.EqualFold(name, "domain") && b.inner(strings.TrimPrefix(strings.TrimSpace(value), ".")) {
				continue
			}
			kept = append(kept, part)
		}
		res.Header.Add("Set-Cookie", strings.Join(kept, ";"))
	}
	return nil
}

func (b *behind) inner(host string) bool {
	for _, u := range b.upstreams {
		if strings.EqualFold(u.at.Hostname(), host) {
			return true
		}
	}
	return false
}

func (v *visit) outward(to string, b *behind) string {
	u, err := url.Parse(to)
	if err != nil || u.Host == "" {
		return to
	}
	for _, one := range b.upstreams {
		if strings.EqualFold(u.Host, one.at.Host) && (u.Scheme == "" || u.Scheme == one.at.Scheme) {
			u.Scheme, u.Host, _ = strings.Cut(v.public, "://")
			break
		}
	}
	return u.String()
}

func (d *Guard) unreached(w http.ResponseWriter, r *http.Request, v *visit, err error) {
	var timeout net.Error
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &large):
		d.page(
			w, r, http.StatusRequestEntityTooLarge, "This is too large",
			fmt.Sprintf("At most %d MiB can be sent at once.", bodyLimit>>20), "",
		)
	case r.Context().Err() != nil:
		w.WriteHeader(http.StatusServiceUnavailable) // whoever asked is gone, or signed out
	case errors.As(err, &timeout) && timeout.Timeout() && !strings.Contains(err.Error(), "dial"):
		d.refused(
			w, r, http.StatusGatewayTimeout,
			explain.New(explain.GuardSlow, explain.Fact("time", v.app.Timeout().String())).Of(v.app.Name).Explain(),
		)
	default:
		d.refused(
			w, r, http.StatusBadGateway,
			explain.New(explain.GuardUnreachable, explain.Fact("error", clip(err.Error()))).Of(v.app.Name).Explain(),
		)
	}
}
