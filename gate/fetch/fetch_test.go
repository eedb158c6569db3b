package fetch_test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/gate/fetch"
)

// TestFetcherStaysOutside refuses every private address, also behind a redirect; these tests run with the check on.
func TestFetcherStaysOutside(t *testing.T) {
	t.Parallel()
	inside := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("secret")) }))
	t.Cleanup(inside.Close)
	f := &fetch.Fetcher{}
	for _, address := range []string{inside.URL, "http://127.0.0.1:1/", "http://[::1]:1/", "http://10.0.0.1/", "http://192.168.1.1/",
		"http://172.16.0.1/", "http://169.254.169.254/latest", "http://100.64.0.1/", "http://0.0.0.0:1/", "http://[::ffff:10.0.0.1]/",
		"http://[fe80::1]/", "http://[64:ff9b::a00:1]/",
		"http://[64:ff9b:1::a00:1]/", "http://[2002:a00:1::]/", "http://[2002:7f00:1::1]/", "http://[::10.0.0.1]/", "http://[2001::a00:1]/",
		"http://[::ffff:0:10.0.0.1]/", "http://[fec0::1]/", "http://240.0.0.1/", "http://[fd00::1]/", "http://198.18.0.1/",
		"http://localhost:1/"} {
		body, err := f.Get(context.Background(), address)
		assert.Nil(t, body)
		var fe *fetch.FetchError
		require.ErrorAs(t, err, &fe, address)
		assert.Contains(t, fe.Reason, "private network", address)
	}
	for _, address := range []string{"ftp://id.saltmere.example/", "file:///etc/passwd", "javascript:1",
		"https://user:pw@id.saltmere.example/", "nonsense"} {
		_, err := f.Get(context.Background(), address)
		assert.ErrorContains(t, err, "not an http or https address", address)
	}
}

// TestOutsidersStayOutside although ours may reach into the private network.
func TestOutsidersStayOutside(t *testing.T) {
	t.Parallel()
	inside := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("secret")) }))
	t.Cleanup(inside.Close)
	f := &fetch.Fetcher{AllowPrivate: true}
	body, err := f.Get(t.Context(), inside.URL)
	require.NoError(t, err)
	assert.Equal(t, "secret", string(body))
	_, err = f.Get(fetch.ForOutsider(t.Context()), inside.URL)
	assert.ErrorContains(t, err, "does not fetch from")
}

func TestFetcherHasLimits(t *testing.T) {
	t.Parallel()
	stop := make(chan struct{})
	t.Cleanup(func() { close(stop) })
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/big":
			w.Write([]byte(strings.Repeat("x", 2000)))
		case "/slow":
			select {
			case <-stop:
			case <-r.Context().Done():
			}
		case "/loop":
			http.Redirect(w, r, "/loop", http.StatusFound)
		case "/missing":
			http.NotFound(w, r)
		}
	}))
	t.Cleanup(s.Close)
	f := &fetch.Fetcher{AllowPrivate: true, MaxBytes: 1000, Timeout: 300 * time.Millisecond}
	for path, reason := range map[string]string{"/big": "larger than 1000", "/slow": "in time", "/loop": "more than three times",
		"/missing": "404"} {
		_, err := f.Get(context.Background(), s.URL+path)
		assert.ErrorContains(t, err, reason, path)
	}
}
