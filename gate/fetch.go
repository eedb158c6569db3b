package gate

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"syscall"
	"time"
)

// Fetcher makes every request to an address that a partner supplied. It limits time and size, follows few redirects, and looks at the address at the
// moment of dialling, so that neither a redirect nor a second DNS answer leads to a private network.
type Fetcher struct {
	// AllowPrivate lets it reach private, loopback and link-local addresses.
	AllowPrivate bool
	// MaxBytes bounds what is read, default 16 MiB.
	MaxBytes int64
	Timeout  time.Duration // default 15 s
}

// FetchError says in a sentence why something could not be fetched.
type FetchError struct{ Reason string }

func (e *FetchError) Error() string { return e.Reason }

var errPrivate = errors.New("the address belongs to a private network")

func (f *Fetcher) control(network, address string, _ syscall.RawConn) error {
	if f.AllowPrivate {
		return nil
	}
	ap, err := netip.ParseAddrPort(address)
	if err != nil {
		return errPrivate
	}
	ip := ap.Addr().Unmap()
	if !ip.IsGlobalUnicast() || ip.IsPrivate() || ip.IsLoopback() || ip.IsLinkLocalUnicast() || sharedNet.Contains(ip) || translated.Contains(ip) || benchmark.Contains(ip) {
		return errPrivate
	}
	return nil
}

var (
	sharedNet  = netip.MustParsePrefix("100.64.0.0/10") // RFC 6598
	benchmark  = netip.MustParsePrefix("198.18.0.0/15") // RFC 2544
	translated = netip.MustParsePrefix("64:ff9b::/96")  // RFC 6052
)

// Get fetches a document by http or https.
func (f *Fetcher) Get(ctx context.Context, address string) ([]byte, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || u.User != nil {
		return nil, &FetchError{fmt.Sprintf("%q is not an http or https address", address)}
	}
	limit, timeout := f.MaxBytes, f.Timeout
	if limit == 0 {
		limit = 16 << 20
	}
	if timeout == 0 {
		timeout = 15 * time.Second
	}
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	transport := &http.Transport{
		DialContext:         (&net.Dialer{Timeout: 5 * time.Second, Control: f.control}).DialContext,
		TLSHandshakeTimeout: 5 * time.Second, ResponseHeaderTimeout: 10 * time.Second, MaxResponseHeaderBytes: 64 << 10, DisableKeepAlives: true,
	}
	client := &http.Client{Transport: transport, CheckRedirect: func(r *http.Request, via []*http.Request) error {
		if len(via) > 3 {
			return errors.New("it redirects more than three times")
		}
		if via[0].URL.Scheme == "https" && r.URL.Scheme != "https" {
			return errors.New("it redirects from https to http")
		}
		return nil
	}}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, u.String(), nil)
	if err != nil {
		return nil, &FetchError{err.Error()}
	}
	request.Header.Set("Accept", "application/samlmetadata+xml, application/xml;q=0.9, application/json;q=0.8, */*;q=0.1")
	request.Header.Set("User-Agent", "InnerGate")
	answer, err := client.Do(request)
	if err != nil {
		return nil, &FetchError{fetchReason(address, err)}
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return nil, &FetchError{fmt.Sprintf("%s answers with the status %s", address, answer.Status)}
	}
	body, err := io.ReadAll(io.LimitReader(answer.Body, limit+1))
	switch {
	case err != nil:
		return nil, &FetchError{fetchReason(address, err)}
	case int64(len(body)) > limit:
		return nil, &FetchError{fmt.Sprintf("what %s sends is larger than %d bytes", address, limit)}
	}
	return body, nil
}

func fetchReason(address string, err error) string {
	var dns *net.DNSError
	switch {
	case errors.Is(err, errPrivate):
		return fmt.Sprintf("%s lies in a private network, which the gate does not fetch from unless it is started with --allow-private-addresses", address)
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
