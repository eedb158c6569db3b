package guard

import (
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/config"
	"innergate/gate/guarded"
)

func berths(pass string, headers ...string) *guarded.Guarded {
	return &guarded.Guarded{
		GuardedApplication: config.GuardedApplication{Pass: pass},
		Slug:               "berth-board",
		Name:               "Berth Board",
		Headers:            headers,
	}
}

// TestIdentityHeaders lists the names by which a browser might say who it is.
func TestIdentityHeaders(t *testing.T) {
	app := berths(config.PassHeaders, "X-Gate-Identity", "X-Berth-User", "Remote-User")
	for _, name := range []string{"X-Berth-User", "x-berth-user", "X_Berth_User", "X.Berth-User", "X-Berth_User", "X Berth User",
		"REMOTE_USER", "Remote.User", "X-Gate-Identity", "X_GATE_IDENTITY", "X-Gate-Anything"} {
		assert.True(t, identity(app, name), name)
	}
	for _, name := range []string{"X-Original-URL", "x_rewrite_url", "X-HTTP-Method-Override", "X-Forwarded-Prefix", "X.Forwarded.Port",
		"X-Real-IP", "Forwarded", "HTTP2-Settings", "X_Forwarded_User", "Remote-Groups"} {
		assert.True(t, identity(app, name), name)
	}
	for _, name := range []string{"X-Berth", "X-Berth-Users", "Berth-User", "User", "Accept", "Authorization", "Cookie", "X-Gate"} {
		assert.False(t, identity(app, name), name)
	}
	assert.True(t, identity(berths(config.PassBasic), "Authorization"), "where identity is passed on so, a browser's own is taken away")
}

// TestCookiesOfTheGateStay takes the gate's cookies out of a request, and leaves the application's as they are.
func TestCookiesOfTheGateStay(t *testing.T) {
	for sent, want := range map[string][]string{
		"berth-view=week": {"berth-view=week"}, "ig-guard=a; berth-view=week": {"berth-view=week"},
		"a=1; __Host-ig-guard=x;b=2; __Host-ig-bind=y": {"a=1; b=2"},
		"ig-guard=a": nil, "  ig-bind=a;ig-guard=b ;": {""}, `a="x y"; ig-session=1`: {`a="x y"`}, "big-guard=kept": {"big-guard=kept"},
		"": {""},
	} {
		h := http.Header{"Cookie": {sent}}
		withoutOurs(h)
		assert.Equal(t, want, h.Values("Cookie"), sent)
	}
	h := http.Header{"Cookie": {"ig-guard=a", "b=2", "ig-bind=c; d=4"}}
	withoutOurs(h)
	assert.Equal(t, []string{"b=2", "d=4"}, h.Values("Cookie"), "in several lines")
}

func inner(t testing.TB, addresses ...string) *behind {
	t.Helper()
	b := &behind{}
	for _, a := range addresses {
		u, err := url.Parse(a)
		require.NoError(t, err)
		b.upstreams = append(b.upstreams, &upstream{at: u})
	}
	return b
}

// TestAnswersNameThePublicAddress rewrites redirects and cookies that name the inner one, and nothing else.
func TestAnswersNameThePublicAddress(t *testing.T) {
	v, b := &visit{public: "https://berths.saltmere.example", secure: true}, inner(t, "http://10.20.0.7:8080", "http://10.20.0.8:8080")
	for to, want := range map[string]string{
		"http://10.20.0.7:8080/a?b=c#d": "https://berths.saltmere.example/a?b=c#d",
		"http://10.20.0.8:8080/":        "https://berths.saltmere.example/", "//10.20.0.7:8080/x": "https://berths.saltmere.example/x",
		"/stays": "/stays", "stays": "stays", "https://10.20.0.7:8080/other-scheme": "https://10.20.0.7:8080/other-scheme",
		"http://10.20.0.7/other-port":                         "http://10.20.0.7/other-port",
		"https://elsewhere.example/?u=http://10.20.0.7:8080/": "https://elsewhere.example/?u=http://10.20.0.7:8080/",
		"http://10.20.0.7:8080.evil.example/":                 "http://10.20.0.7:8080.evil.example/",
	} {
		assert.Equal(t, want, v.outward(to, b), to)
	}
	res := &http.Response{
		Header: http.Header{
			"Location": {"http://10.20.0.7:8080/x"},
			"Set-Cookie": {
				"a=1; Path=/; Domain=10.20.0.7; HttpOnly",
				"b=2; Domain=saltmere.example",
				"ig-guard=stolen; Path=/",
				" __Host-ig-bind=x",
			},
		},
	}
	require.NoError(t, v.answered(res, b, &http.Request{}))
	assert.Equal(t, "https://berths.saltmere.example/x", res.Header.Get("Location"))
	assert.Equal(t, []string{"a=1; Path=/; HttpOnly", "b=2; Domain=saltmere.example"}, res.Header.Values("Set-Cookie"))
}

// TestPlacesStayInTheApplication lists where somebody may be sent on to.
func TestPlacesStayInTheApplication(t *testing.T) {
	v := &visit{public: "https://berths.saltmere.example"}
	for to, want := range map[string]string{
		"https://berths.saltmere.example/a?b=c": "https://berths.saltmere.example/a?b=c",
		"/a?b=c&d=e":                            "https://berths.saltmere.example/a?b=c&d=e", "": "https://berths.saltmere.example/",
		"//evil.example": "https://berths.saltmere.example/", "https://evil.example/": "https://berths.saltmere.example/",
		"https://berths.saltmere.example.evil.example/": "https://berths.saltmere.example/",
		"https://berths.saltmere.example@evil.example/": "https://berths.saltmere.example/",
		`/\evil.example`: "https://berths.saltmere.example/", "/a\r\nX: y": "https://berths.saltmere.example/",
		"javascript:alert(1)": "https://berths.saltmere.example/",
	} {
		assert.Equal(t, want, v.place(to), to)
	}
}

// TestWhereAVisitIsFrom believes what proxies say only of those that are trusted.
func TestWhereAVisitIsFrom(t *testing.T) {
	d := &Guard{Options: Options{TrustedProxies: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")}}}
	for _, one := range []struct{ peer, host, proto, forwarded, public, address string }{
		{"203.0.113.9:4711", "Berths.Saltmere.example:80", "https", "198.51.100.1", "http://berths.saltmere.example", "203.0.113.9"},
		{"10.1.2.3:4711", "berths.saltmere.example:443", "https", "198.51.100.1", "https://berths.saltmere.example", "198.51.100.1"},
		{"10.1.2.3:4711", "berths.saltmere.example:8443", "https", "1.2.3.4, 198.51.100.1, 10.9.9.9",
			"https://berths.saltmere.example:8443", "198.51.100.1"},
		{"10.1.2.3:4711", "berths.saltmere.example", "", "nonsense", "http://berths.saltmere.example", "10.1.2.3"},
		{"[2001:db8::1]:4711", "berths.saltmere.example", "", "", "http://berths.saltmere.example", "2001:db8::1"},
	} {
		r := httptest.NewRequest(http.MethodGet, "/", nil)
		r.RemoteAddr, r.Host = one.peer, one.host
		r.Header.Set("X-Forwarded-Proto", one.proto)
		r.Header.Set("X-Forwarded-For", one.forwarded)
		v := d.visit(r)
		assert.Equal(t, one.public, v.public, one.peer)
		assert.Equal(t, one.address, v.address, one.peer)
	}
}

// TestWhatOpensAPage tells requests in whose place a sign-in is of use from the others.
func TestWhatOpensAPage(t *testing.T) {
	for _, one := range []struct {
		method, accept, mode, upgrade string
		opens                         bool
	}{
		{"GET", "text/html,*/*", "", "", true}, {"GET", "*/*", "navigate", "", true}, {"HEAD", "text/html", "", "", true},
		{"GET", "text/html", "cors", "", false}, {"GET", "application/json", "", "", false},
		{"POST", "text/html", "navigate", "", false}, {"GET", "text/html", "", "websocket", false}, {"GET", "", "", "", false},
		{"OPTIONS", "text/html", "", "", false},
	} {
		r := httptest.NewRequest(one.method, "/", nil)
		for name, value := range map[string]string{"Accept": one.accept, "Sec-Fetch-Mode": one.mode, "Upgrade": one.upgrade} {
			if value != "" {
				r.Header.Set(name, value)
			}
		}
		assert.Equal(t, one.opens, opens(r), "%+v", one)
	}
}
