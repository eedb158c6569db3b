package server_test

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/demo"
	"innergate/gate/ground"
	"innergate/guard"
	"innergate/testbed"
)

// behindBerths puts another server behind Berth Board.
func behindBerths(t testing.TB, w *demo.World, upstream string, change func(*config.Application)) {
	t.Helper()
	c := w.Client()
	a, err := c.Application(t.Context(), "berth-board")
	require.NoError(t, err)
	a.Guarded.Upstreams, a.Guarded.HealthPath = []string{upstream}, ""
	if change != nil {
		change(&a.Application)
	}
	_, err = c.PutApplication(t.Context(), a.Application, a.Revision)
	require.NoError(t, err)
}

// TestHeadersThatNameAnotherRequest sends what servers in use take for another path, method, client or user.
func TestHeadersThatNameAnotherRequest(t *testing.T) {
	t.Parallel()
	w := world(t)
	var mu sync.Mutex
	var got http.Header
	up := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		got = r.Header.Clone()
		_, _ = io.WriteString(rw, "ok")
	}))
	defer up.Close()
	behindBerths(t, w, up.URL, nil)
	names := []string{"X-Original-URL", "X-Rewrite-URL", "X-HTTP-Method-Override", "X-Method-Override", "X-Forwarded-Prefix",
		"X-Forwarded-Port", "X-Forwarded-User", "X_Forwarded_For", "Remote-User", "Forwarded", "X-Client-IP", "X.Original.URL"}
	var lines strings.Builder
	for _, n := range names {
		lines.WriteString(n + ": /harbour-master\n")
	}
	status, _ := raw(t, w, "GET /timetable HTTP/1.1\nHost: HOST\nX-Real-IP: 192.0.2.9\nX-Forwarded-For: 192.0.2.9\n"+lines.String()+
		"Connection: close\n\n")
	require.Equal(t, http.StatusOK, status)
	mu.Lock()
	defer mu.Unlock()
	for name, values := range got {
		assert.NotContains(t, values, "/harbour-master", name)
		assert.NotContains(t, values, "192.0.2.9", name)
	}
	assert.Equal(t, "127.0.0.1", got.Get("X-Real-IP"))
	assert.Equal(t, "127.0.0.1", got.Get("X-Forwarded-For"))
}

// TestOnlyWebSocketsAreTunnels asks for another protocol on a path that is open to everybody. The server behind would
// change over at once, and take whatever came then for requests that the gate has seen.
func TestOnlyWebSocketsAreTunnels(t *testing.T) {
	t.Parallel()
	w := world(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	seen := make(chan string, 10)
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				for in := bufio.NewReader(conn); ; {
					r, err := http.ReadRequest(in)
					if err != nil {
						return
					}
					seen <- r.URL.Path + " " + r.Header.Get("Upgrade") + r.Header.Get("HTTP2-Settings")
					if up := r.Header.Get("Upgrade"); up != "" {
						fmt.Fprintf(conn, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: %s\r\n\r\n", up)
					} else {
						_, _ = io.WriteString(conn, "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok")
					}
				}
			}()
		}
	}()
	behindBerths(t, w, "http://"+l.Addr().String(), nil)
	host := strings.TrimPrefix(w.BerthsURL, "http://")
	for _, protocol := range []string{"h2c", "TLS/1.0", "websocket2", "foo, websocket"} {
		conn, err := net.Dial("tcp", host)
		require.NoError(t, err)
		require.NoError(t, conn.SetDeadline(time.Now().Add(testbed.Patience)))
		fmt.Fprintf(conn, "GET /timetable HTTP/1.1\r\nHost: %s\r\nConnection: Upgrade, HTTP2-Settings\r\nUpgrade: %s\r\n"+
			"HTTP2-Settings: AAMA\r\n\r\n",
			host, protocol)
		answer, err := http.ReadResponse(bufio.NewReader(conn), nil)
		require.NoError(t, err, protocol)
		assert.Equal(t, http.StatusOK, answer.StatusCode, protocol)
		assert.Equal(t, "/timetable ", <-seen, "%s is not passed on", protocol)
		conn.Close()
	}
}

// TestTheCheckTellsOnlyTheProxy asks as somebody who is signed in, through a trusted proxy, what the application would get.
func TestTheCheckTellsOnlyTheProxy(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx, c := t.Context(), w.Client()
	up := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		user, _, _ := r.BasicAuth()
		_, _ = io.WriteString(rw, "hello "+user)
	}))
	defer up.Close()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	public := "http://" + l.Addr().String()
	behindBerths(t, w, up.URL, func(a *config.Application) {
		a.Guarded.PublicURL, a.StartURL, a.Tiles, a.Guarded.Pass = public, public+"/", nil, config.PassBasic
		a.Mapping[0].Set = "username"
		a.Mapping = a.Mapping[:1]
	})
	const password = "the-stored-password-of-berths"
	require.NoError(t, c.SetGuardPassword(ctx, "berth-board", api.GuardPassword{Password: password}))
	d := guard.New(w.Gate, guard.Options{TrustedProxies: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}})
	go func() { _ = d.Serve(l, nil) }()
	t.Cleanup(func() { _ = d.Shutdown(time.Second) })
	b := w.Walker()
	b.Provider = "saltmere-staff"
	require.NoError(t, b.SignIn(ctx, public+"/", "zoberg"))
	require.Contains(t, b.Text, "hello zoberg")
	at, err := url.Parse(public)
	require.NoError(t, err)
	check := func(secrets ...string) *http.Response {
		r, err := http.NewRequest(http.MethodGet, public+"/.gate/check", nil)
		require.NoError(t, err)
		for _, one := range b.HTTP.Jar.Cookies(at) {
			r.AddCookie(one)
		}
		r.Header.Set("X-Original-URI", "/")
		r.Header.Set("X-Original-Method", "GET")
		for _, s := range secrets {
			r.Header.Add("X-Gate-Proxy-Secret", s)
		}
		answer, err := http.DefaultTransport.RoundTrip(r)
		require.NoError(t, err)
		answer.Body.Close()
		return answer
	}
	v, err := c.Guard(ctx, "berth-board")
	require.NoError(t, err)
	_, rest, ok := strings.Cut(v.Nginx, `X-Gate-Proxy-Secret "`)
	require.True(t, ok)
	secret, _, _ := strings.Cut(rest, `"`)
	for _, wrong := range [][]string{nil, {""}, {"guessed"}, {secret, secret}, {secret + "x"}} {
		answer := check(wrong...)
		assert.Equal(t, http.StatusNotFound, answer.StatusCode)
		assert.Empty(t, answer.Header.Get("Authorization"))
	}
	answer := check(secret)
	assert.Equal(t, http.StatusNoContent, answer.StatusCode)
	_, got, _ := (&http.Request{Header: answer.Header}).BasicAuth()
	assert.Equal(t, password, got)
	viewer := w.Client()
	viewer.Token = token(t, w, ground.RoleViewer)
	v, err = viewer.Guard(ctx, "berth-board")
	require.NoError(t, err)
	assert.Empty(t, v.Nginx, "viewers don't read it")

	// A name with a colon would end at the colon, and be another's.
	behindBerths(t, w, up.URL, func(a *config.Application) { a.Mapping = claims.Mapping{{Set: "username", Value: "jhale:x"}} })
	b.Text = ""
	opens(t, b, public+"/")
	assert.Contains(t, b.Text, "guard.user-name")
}

// TestRequestsThatAreReadInTwoWaysReachNobody sends to both listeners what a proxy before the gate and the gate would cut in
// two different places.
func TestRequestsThatAreReadInTwoWaysReachNobody(t *testing.T) {
	t.Parallel()
	w := world(t)
	for _, base := range []string{w.URL, w.BerthsURL} {
		u, err := url.Parse(base)
		require.NoError(t, err)
		next := "GET /healthz HTTP/1.1\r\nHost: " + u.Host + "\r\n\r\n"
		post := "POST /oidc/token HTTP/1.1\r\nHost: " + u.Host + "\r\nContent-Type: application/x-www-form-urlencoded\r\n"
		for name, text := range map[string]string{
			"both lengths":    post + "Content-Length: 4\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n" + next,
			"two lengths":     post + "Content-Length: 3\r\nContent-Length: 50\r\n\r\na=b" + next,
			"folded":          post + "Transfer-Encoding:\r\n chunked\r\nContent-Length: 5\r\n\r\n0\r\n\r\n" + next,
			"bare line feeds": "GET /healthz HTTP/1.1\nHost: " + u.Host + "\n\n",
			"two hosts":       "GET /healthz HTTP/1.1\r\nHost: " + u.Host + "\r\nHost: other.example\r\n\r\n",
			"no host":         "GET /healthz HTTP/1.1\r\n\r\n",
		} {
			conn, err := net.Dial("tcp", u.Host)
			require.NoError(t, err)
			require.NoError(t, conn.SetDeadline(time.Now().Add(testbed.Patience)))
			_, err = io.WriteString(conn, text)
			require.NoError(t, err)
			all, _ := io.ReadAll(conn)
			assert.Equal(t, 1, strings.Count(string(all), "HTTP/1.1 "), "%s %s: %s", base, name, all)
			assert.True(t, strings.HasPrefix(string(all), "HTTP/1.1 400 "), "%s %s: %s", base, name, all)
			conn.Close()
		}
	}
}
