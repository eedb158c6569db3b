// Package fetch gets documents from addresses that others chose: with limits of time and size, few redirects, and
// the address checked when it is dialled, so that nobody reaches into the private network by it.
package fetch

import (
	"bytes"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// Fetcher makes every request to an address that a partner supplied. It limits time and size, follows few redirects,
// and looks at the address at the moment of dialling, so that neither a redirect nor a second DNS answer leads to a
// private network.
type Fetcher struct {
	// AllowPrivate lets it reach private, loopback and link-local addresses.
	AllowPrivate bool
	// MaxBytes bounds what is read, default 16 MiB.
	MaxBytes int64
	Timeout  time.Duration // default 15 s
	// Transport, if set, takes the place of the fetcher's own, and with it of the check of addresses: for a demo whose
	// host names lead to this machine.
	Transport http.RoundTripper
	// StandIns are addresses of this machine, with their ports, that are reached for everybody: a demo's other sides.
	StandIns []string

	once sync.Once
	kept *http.Transport // keeps connections
}

type outsiderKey struct{}

// ForOutsider marks what is fetched because somebody asks for it who is none of ours, such as the other side's engineer
// with a handover link. It never reaches into a private network, whatever is allowed to ours.
func ForOutsider(ctx context.Context) context.Context {
	return context.WithValue(ctx, outsiderKey{}, true)
}

// Outsider says whether something is done for somebody who is none of ours.
func Outsider(ctx context.Context) bool {
	outsider, _ := ctx.Value(outsiderKey{}).(bool)
	return outsider
}

// FetchError says in a sentence why something could not be fetched.
type FetchError struct {
	Reason string
	large  bool
}

func (e *FetchError) Error() string { return e.Reason }

// Is tells a document that was too large from others.
func (e *FetchError) Is(target error) bool { return target == ErrTooLarge && e.large }

// ErrPrivate says that an address is not fetched because it lies in a private network.
var ErrPrivate = errors.New("the address belongs to a private network")

func (f *Fetcher) control(ctx context.Context, _, address string, _ syscall.RawConn) error {
	if f.AllowPrivate && !Outsider(ctx) || slices.Contains(f.StandIns, address) {
		return nil
	}
	ap, err := netip.ParseAddrPort(address)
	if err != nil {
		return ErrPrivate
	}
	ip := ap.Addr().Unmap()
	if !ip.IsGlobalUnicast() || ip.IsPrivate() || ip.IsLoopback() || ip.IsLinkLocalUnicast() ||
		slices.ContainsFunc(inward, func(p netip.Prefix) bool { return p.Contains(ip) }) {
		return ErrPrivate
	}
	return nil
}

// inward are networks that are not the internet's, or that are ways to any address of another kind: a router, or this
// machine, takes the IPv4 address out of them.
var inward = []netip.Prefix{
	netip.MustParsePrefix("0.0.0.0/8"),       // RFC 1122
	netip.MustParsePrefix("100.64.0.0/10"),   // RFC 6598
	netip.MustParsePrefix("192.0.0.0/24"),    // RFC 6890
	netip.MustParsePrefix("192.88.99.0/24"),  // 6to4 relays, RFC 7526
	netip.MustParsePrefix("198.18.0.0/15"),   // RFC 2544
	netip.MustParsePrefix("240.0.0.0/4"),     // RFC 1112
	netip.MustParsePrefix("::/96"),           // IPv4 in IPv6, RFC 4291
	netip.MustParsePrefix("::ffff:0:0:0/96"), // RFC 2765
	netip.MustParsePrefix("64:ff9b::/96"),    // RFC 6052
	netip.MustParsePrefix("64:ff9b:1::/48"),  // RFC 8215
	netip.MustParsePrefix("2001::/32"),       // Teredo, RFC 4380
	netip.MustParsePrefix("2002::/16"),       // 6to4, RFC 3056
	netip.MustParsePrefix("fec0::/10"),       // RFC 3879
}

// Want is one request of the fetcher.
type Want struct {
	URL string
	// ETag and LastModified are what the last answer carried, for a conditional request (RFC 9110, section 13.1).
	ETag, LastModified string
	// To takes the body as it comes; without it the body is in the answer.
	To io.Writer
	// MaxBytes and Timeout, if set, take the place of the fetcher's own. Stall ends a transfer of which nothing came
	// for so long, default 20 s.
	MaxBytes int64
	Timeout  time.Duration
	Stall    time.Duration
	// Progress is told how much has come, of how much (-1 where that is not known).
	Progress func(have, all int64)
	// Post, if set, is sent as the body of a POST with this content type.
	Post        []byte
	ContentType string
	// Method, if set, is asked with in place of GET or POST, with Post as the body, if there is one. It follows no redirect.
	Method string
	// Keep keeps the connection for the next request to the same place.
	Keep   bool
	Header map[string]string
	// AnyStatus leaves judging the status to the caller.
	AnyStatus bool
	// Head asks for the head only; Stay takes a redirect as the answer.
	Head, Stay bool
	// Direct follows no redirect, so that what is sent goes nowhere else.
	Direct bool
}

// Got is the answer.
type Got struct {
	Status             int
	Body               []byte
	NotModified        bool
	ETag, LastModified string
	ContentType        string
	RetryAfter         string
	// Date is what the other side's clock said, Certificate the one that it proved itself with.
	Date        time.Time
	Certificate *x509.Certificate
	// Until is the end that a document from a source inherits from it.
	Until *time.Time
}

// Get fetches a document by http or https.
func (f *Fetcher) Get(ctx context.Context, address string) ([]byte, error) {
	got, err := f.Do(ctx, Want{URL: address})
	if err != nil {
		return nil, err
	}
	return got.Body, nil
}

// Do makes one request.
func (f *Fetcher) Do(ctx context.Context, w Want) (*Got, error) {
	u, err := url.Parse(w.URL)
	if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || u.User != nil {
		return nil, &FetchError{Reason: fmt.Sprintf("%q is not an http or https address", w.URL)}
	}
	limit, timeout, stall := f.MaxBytes, f.Timeout, w.Stall
	if w.MaxBytes > 0 {
		limit = w.MaxBytes
	}
	if limit == 0 {
		limit = 16 << 20
	}
	if w.Timeout > 0 {
		timeout = w.Timeout
	}
	if timeout == 0 {
		timeout = 15 * time.Second
	}
	if stall == 0 {
		stall = 20 * time.Second
	}
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, u.String(), nil)
	if w.Post != nil {
		request, err = http.NewRequestWithContext(ctx, http.MethodPost, u.String(), bytes.NewReader(w.Post))
	}
	if err != nil {
		return nil, &FetchError{Reason: err.Error()}
	}
	if w.Head {
		request.Method = http.MethodHead
	}
	if w.Method != "" {
		request.Method = w.Method
	}
	for name, value := range map[string]string{"Accept": "application/samlmetadata+xml, application/xml;q=0.9, " +
		"application/json;q=0.8, */*;q=0.1", "User-Agent": "InnerGate", "If-None-Match": w.ETag, "If-Modified-Since": w.LastModified,
		"Content-Type": w.ContentType} {
		if value != "" {
			request.Header.Set(name, value)
		}
	}
	for name, value := range w.Header {
		request.Header.Set(name, value)
	}
	c := f.client(w.Post != nil || w.Direct || w.Method != "")
	if w.Keep && f.kept != nil {
		c.Transport = f.kept
	}
	if w.Stay {
		c.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	}
	answer, err := c.Do(request)
	if err != nil {
		return nil, &FetchError{Reason: fetchReason(ctx, w.URL, err)}
	}
	defer answer.Body.Close()
	got := &Got{
		Status:       answer.StatusCode,
		ETag:         answer.Header.Get("ETag"),
		LastModified: answer.Header.Get("Last-Modified"),
		ContentType:  answer.Header.Get("Content-Type"),
		RetryAfter:   answer.Header.Get("Retry-After"),
	}
	got.Date, _ = http.ParseTime(answer.Header.Get("Date"))
	if answer.TLS != nil && len(answer.TLS.PeerCertificates) > 0 {
		got.Certificate = answer.TLS.PeerCertificates[0]
	}
	if len(got.ETag) > 500 {
		got.ETag = ""
	}
	switch {
	case answer.StatusCode == http.StatusNotModified && (w.ETag != "" || w.LastModified != ""):
		got.NotModified, got.ETag, got.LastModified = true, w.ETag, w.LastModified
		return got, nil
	case answer.StatusCode != http.StatusOK && !w.AnyStatus:
		return nil, &FetchError{Reason: fmt.Sprintf("%s answers with the status %s", w.URL, answer.Status)}
	}
	var whole bytes.Buffer
	to := w.To
	if to == nil {
		to = &whole
	}
	body := &watchedBody{r: answer.Body, stall: stall, cancel: cancel, progress: w.Progress, all: answer.ContentLength}
	body.timer = time.AfterFunc(stall, func() { body.stalled.Store(true); cancel() })
	defer body.timer.Stop()
	n, err := io.Copy(to, io.LimitReader(body, limit+1))
	switch {
	case body.stalled.Load():
		return nil, &FetchError{Reason: fmt.Sprintf("%s stopped sending for more than %s", w.URL, stall)}
	case err != nil:
		return nil, &FetchError{Reason: fetchReason(ctx, w.URL, err)}
	case n > limit:
		return nil, &FetchError{Reason: fmt.Sprintf("what %s sends is larger than %d bytes", w.URL, limit), large: true}
	}
	got.Body = whole.Bytes()
	return got, nil
}

// ErrTooLarge is in an error about a document that is larger than is read.
var ErrTooLarge = errors.New("too large")

// client follows few redirects, none of them from https to http, and none after a POST.
func (f *Fetcher) client(direct bool) *http.Client {
	f.once.Do(func() {
		if f.Transport != nil {
			return
		}
		f.Transport = &http.Transport{
			DialContext:         (&net.Dialer{Timeout: 5 * time.Second, ControlContext: f.control}).DialContext,
			TLSHandshakeTimeout: 5 * time.Second, ResponseHeaderTimeout: 10 * time.Second, MaxResponseHeaderBytes: 64 << 10,
			DisableKeepAlives: true,
		}
		f.kept = f.Transport.(*http.Transport).Clone()
		f.kept.DisableKeepAlives, f.kept.MaxIdleConnsPerHost, f.kept.IdleConnTimeout = false, 32, 30*time.Second
	})
	return &http.Client{Transport: f.Transport, CheckRedirect: func(r *http.Request, via []*http.Request) error {
		if direct {
			return errors.New("it redirects, which an answer to a message must not")
		}
		if len(via) > 3 {
			return errors.New("it redirects more than three times")
		}
		if via[0].URL.Scheme == "https" && r.URL.Scheme != "https" {
			return errors.New("it redirects from https to http")
		}
		return nil
	}}
}

// watchedBody is a body that is given up when nothing comes.
type watchedBody struct {
	r        io.Reader
	stall    time.Duration
	timer    *time.Timer
	stalled  atomic.Bool
	cancel   func()
	progress func(have, all int64)
	have     int64
	all      int64
}

func (b *watchedBody) Read(p []byte) (int, error) {
	n, err := b.r.Read(p)
	if n > 0 {
		b.timer.Reset(b.stall)
		if b.have += int64(n); b.progress != nil {
			b.progress(b.have, b.all)
		}
	}
	return n, err
}

func fetchReason(ctx context.Context, address string, err error) string {
	outsider, _ := ctx.Value(outsiderKey{}).(bool)
	var dns *net.DNSError
	switch {
	case errors.Is(err, ErrPrivate) && outsider:
		return "the gate does not fetch from " + address + ". Paste the document itself"
	case errors.Is(err, ErrPrivate):
		return fmt.Sprintf(
			"%s lies in a private network, which the gate does not fetch from unless it is started with --allow-private-addresses",
			address,
		)
	case errors.Is(err, context.DeadlineExceeded):
		return fmt.Sprintf("%s did not answer in time", address)
	case errors.As(err, &dns):
		return fmt.Sprintf("the host name of %s is not known", address)
	}
	var wrapped *url.Error
	if errors.As(err, &wrapped) {
		err = wrapped.Err
	}
	return fmt.Sprintf("%s can't be fetched: %v", address, err)
}
