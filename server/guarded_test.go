package server_test

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/core/jose"
	"innergate/demo"
	"innergate/guard"
	"innergate/testbed"
)

// TestBerthBoardStandsBehindTheGate goes through what people see of a guarded application.
func TestBerthBoardStandsBehindTheGate(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := t.Context()

	b := w.Walker()
	require.NoError(t, b.SignIn(ctx, w.BerthsURL+"/boats?week=48&view=list", "zoberg"))
	assert.Equal(t, "zoberg", b.Inner("person"), b.Text)
	assert.Equal(t, "/boats?week=48&view=list", b.Inner("path"), "they are where they wanted to be")
	x := newest(t, w)
	assert.Equal(t, "signed-in", x.Outcome)
	assert.Equal(t, "Berth Board", x.Application)
	assert.Contains(t, opens(t, b, w.RotaURL+"/sign-in"), "zoberg", "and the session at the gate serves the next application")

	stranger := w.Walker()
	assert.Contains(t, opens(t, stranger, w.BerthsURL+"/timetable"), "there is none", "a path that is open is open")
	opens(t, stranger, w.BerthsURL+"/timetable/winter")
	assert.Contains(t, stranger.Text, "there is none", "with what is below it")
	opens(t, stranger, w.BerthsURL+"/timetables")
	assert.Contains(t, stranger.Address.String(), w.URL+"/guard/berth-board/enter", "and no further")

	opens(t, b, w.BerthsURL+"/health")
	assert.Contains(t, b.Text, "guard.path-refused")
	opens(t, b, w.BerthsURL+"/harbour-master")
	assert.Contains(t, b.Text, "guard.path-groups")
	assert.Equal(t, http.StatusForbidden, b.Status)
	clerk := w.Walker()
	w.Staff.Forget()
	require.NoError(t, clerk.SignIn(ctx, w.BerthsURL+"/harbour-master", "tkerr"))
	assert.Equal(t, "tkerr", clerk.Inner("person"), clerk.Text)
	assert.Contains(t, clerk.Inner("groups"), "office")

	assert.Contains(t, opens(t, b, w.BerthsURL+"/moved"), "Timetable", "a redirect to the inner address leads to the public one")
	seen := opens(t, b, w.BerthsURL+"/seen")
	assert.Contains(t, seen, "berth-view=week", "the application's own cookie came through")
	assert.NotContains(t, seen, "ig-", "and none of the gate's: %s", seen)
	assert.NotContains(t, b.Address.String(), w.InnerURL)
}

// raw sends a request as it is written and returns the answer's status and body.
func raw(t testing.TB, w *demo.World, request string) (int, string) {
	t.Helper()
	return rawAt(t, strings.TrimPrefix(w.BerthsURL, "http://"), request)
}

func rawAt(t testing.TB, host, request string) (int, string) {
	t.Helper()
	conn, err := net.Dial("tcp", host)
	require.NoError(t, err)
	defer conn.Close()
	require.NoError(t, conn.SetDeadline(time.Now().Add(testbed.Patience)))
	_, err = io.WriteString(conn, strings.ReplaceAll(strings.ReplaceAll(request, "HOST", host), "\n", "\r\n"))
	require.NoError(t, err)
	answer, err := http.ReadResponse(bufio.NewReader(conn), nil)
	require.NoError(t, err)
	defer answer.Body.Close()
	body, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return answer.StatusCode, string(body)
}

// atBerths signs somebody in at Berth Board and returns the cookies that their browser holds there.
func atBerths(t testing.TB, w *demo.World, user string) (*demo.Walker, string) {
	t.Helper()
	w.Staff.Forget()
	b := w.Walker()
	require.NoError(t, b.SignIn(t.Context(), w.BerthsURL+"/", user))
	require.Equal(t, user, b.Inner("person"), b.Text)
	u, err := url.Parse(w.BerthsURL)
	require.NoError(t, err)
	var parts []string
	for _, c := range b.HTTP.Jar.Cookies(u) {
		parts = append(parts, c.Name+"="+c.Value)
	}
	return b, strings.Join(parts, "; ")
}

// TestNobodyMakesUpWhoTheyAre sends identity headers in every spelling, with and without a session.
func TestNobodyMakesUpWhoTheyAre(t *testing.T) {
	t.Parallel()
	w := world(t)
	_, cookies := atBerths(t, w, "zoberg")
	for _, made := range []string{"X-Berth-User: jhale", "x-berth-user: jhale", "X_Berth_User: jhale", "X-Berth_User: jhale",
		"X.Berth.User: jhale", "X-BERTH-USER: jhale\nX-Berth-User: jhale", "X-Gate-Identity: jhale", "X_GATE_IDENTITY: jhale",
		"X-Gate-Anything: jhale",
		"Connection: close, X-Berth-User\nX-Berth-User: jhale", "X-Berth-User: jhale\nConnection: X-Berth-Groups, close"} {
		for _, cookie := range []string{"", "\nCookie: " + cookies} {
			path := "/timetable"
			if cookie != "" {
				path = "/seen"
			}
			status, body := raw(t, w, "GET "+path+" HTTP/1.1\nHost: HOST\n"+made+cookie+"\n\n")
			assert.Equal(t, http.StatusOK, status, made)
			assert.NotContains(t, body, "jhale", made)
			if cookie != "" {
				assert.Contains(t, body, "X-Berth-User: zoberg", "what Connection names can't take the gate's own header away: %s", made)
			}
		}
	}
	status, body := raw(
		t,
		w,
		"POST /seen HTTP/1.1\nHost: HOST\nCookie: "+cookies+
			"\nTransfer-Encoding: chunked\nTrailer: X-Berth-User\nConnection: close\n\n1\na\n0\nX-Berth-User: jhale\n\n",
	)
	assert.Equal(t, http.StatusOK, status)
	assert.NotContains(t, body, "jhale", "nor does it come after the body")
	for name, request := range map[string]string{
		"two lengths":                   "POST /timetable HTTP/1.1\nHost: HOST\nContent-Length: 4\nContent-Length: 40\n\nabcd",
		"a length and chunks, smuggled": "POST /timetable HTTP/1.1\nHost: HOST\nTransfer-Encoding: xchunked\nContent-Length: 4\n\nabcd",
		"two hosts":                     "GET /timetable HTTP/1.1\nHost: HOST\nHost: other.example\n\n",
		"TRACE":                         "TRACE /seen HTTP/1.1\nHost: HOST\nCookie: " + cookies + "\n\n",
	} {
		status, body := raw(t, w, request)
		assert.GreaterOrEqual(t, status, 400, name)
		assert.NotContains(t, body, "Berth", name)
	}
	status, _ = raw(t, w, "GET / HTTP/1.1\nHost: other.example\n\n")
	assert.Equal(t, http.StatusNotFound, status)
}

// TestPathTricks asks for the office's desk in ways that a path rule might not see, as somebody who may not go there.
func TestPathTricks(t *testing.T) {
	t.Parallel()
	w := world(t)
	_, cookies := atBerths(t, w, "zoberg")
	for _, path := range []string{
		"/harbour-master", "/harbour-master/", "/harbour-master/x", "/Harbour-Master", "/HARBOUR-MASTER/x", "/harbour%2dmaster",
		"/%68arbour-master", "/harbour%2Dmaster/",
		"//harbour-master", "/./harbour-master", "/x/../harbour-master", "/timetable/../harbour-master", "/timetable/..%2fharbour-master",
		"/timetable/%2e%2e/harbour-master", "/timetable/.%2e/harbour-master", "/%2fharbour-master",
		"/harbour-master%2f", "/harbour-master;a=b", "/harbour-master.", "/harbour-master%20", "/harbour-master./x",
		"/harbour-master%c0%af", "/harbour-master%0a", "/harbour-master%09", "/%ffharbour-master/../", "/timetable/..;/harbour-master",
		"/harbour-master%3ba", "/timetable;/../harbour-master", "/harbour-master%00", "/harbour-master%00.css", "\\harbour-master",
		"/\\harbour-master", "/x\\..\\harbour-master", "/%5charbour-master", "/timetable/%252e%252e/harbour-master",
		"/timetable//../harbour-master",
		"/%u0068arbour-master", "http://HOST/harbour-master", "/harbour-master?x=/timetable", "/timetable/../../harbour-master",
		"/.gate/../harbour-master", "/timetable%2f..%2fharbour-master",
	} {
		before := w.Berths.Visits.Load()
		status, body := raw(t, w, "GET "+path+" HTTP/1.1\nHost: HOST\nCookie: "+cookies+"\nConnection: close\n\n")
		assert.GreaterOrEqual(t, status, 400, path)
		assert.NotContains(t, body, "desk", path)
		assert.Equal(t, before, w.Berths.Visits.Load(), "%s reached the application", path)
		status, body = raw(t, w, "GET "+path+" HTTP/1.1\nHost: HOST\nAccept: text/html\nConnection: close\n\n")
		assert.NotEqual(t, http.StatusOK, status, path)
		assert.NotContains(t, body, "desk", path)
		assert.Equal(t, before, w.Berths.Visits.Load(), "%s reached the application", path)
	}
	for _, line := range []string{"X-Original-URL: /harbour-master", "X-Rewrite-URL: /harbour-master", "X-HTTP-Method-Override: POST"} {
		_, body := raw(t, w, "GET /timetable HTTP/1.1\nHost: HOST\n"+line+"\nConnection: close\n\n")
		assert.NotContains(t, body, "desk", line)
	}
	status, _ := raw(t, w, "POST /timetable HTTP/1.1\nHost: HOST\nContent-Length: 0\nConnection: close\n\n")
	assert.Equal(t, http.StatusUnauthorized, status, "it is open for reading only")
}

// TestSignedOutIsOutAtOnce ends sessions in each way and sees that nothing is let through, also of what lasts.
func TestSignedOutIsOutAtOnce(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx, c := t.Context(), w.Client()
	inside := func(b *demo.Walker) bool { return strings.Contains(opens(t, b, w.BerthsURL+"/seen"), "X-Berth-User:") }

	b, _ := atBerths(t, w, "mvoss")
	require.True(t, inside(b))
	opens(t, b, w.RotaURL+"/sign-in")
	assert.Contains(t, opens(t, b, w.RotaURL+"/sign-out"), "signed you out everywhere")
	assert.False(t, inside(b), "signed out at Crew Rota")

	b, _ = atBerths(t, w, "mvoss")
	opens(t, b, w.RotaURL+"/sign-in")
	assert.Contains(t, opens(t, b, w.BerthsURL+"/leave"), "signed out", "the application's own path signs out")
	assert.False(t, inside(b))
	assert.Contains(t, opens(t, b, w.RotaURL+"/sign-in"), chooses, "everywhere")

	b, cookies := atBerths(t, w, "mvoss")
	stream := lasting(t, w, "GET /tide HTTP/1.1\nHost: HOST\nCookie: "+cookies+"\n\n", "data: 3")
	radio := lasting(
		t,
		w,
		"GET /radio HTTP/1.1\nHost: HOST\nCookie: "+cookies+
			"\nConnection: Upgrade\nUpgrade: websocket\nSec-WebSocket-Version: 13\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\n\nover",
		"over",
	)
	status, _ := raw(
		t,
		w,
		"GET /radio HTTP/1.1\nHost: HOST\nOrigin: https://evil.example\nCookie: "+cookies+
			"\nConnection: Upgrade\nUpgrade: websocket\nSec-WebSocket-Version: 13\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\n\n",
	)
	assert.Equal(t, http.StatusForbidden, status, "another site opens no connection with the person's session")
	list, err := c.Sessions(ctx, client.Page{Filters: map[string]string{"application": "berth-board"}})
	require.NoError(t, err)
	require.NotEmpty(t, list.Items)
	for _, s := range list.Items {
		require.NoError(t, c.EndSession(ctx, s.ID))
	}
	assert.False(t, inside(b), "ended by an administrator")
	for name, conn := range map[string]net.Conn{"stream": stream, "WebSocket": radio} {
		require.NoError(t, conn.SetReadDeadline(time.Now().Add(testbed.Patience)))
		_, err := io.Copy(io.Discard, conn)
		var late net.Error
		assert.False(t, err != nil && assert.ErrorAs(t, err, &late) && late.Timeout(), "the %s ends with the session", name)
	}

	b, cookies = atBerths(t, w, "mvoss")
	_, err = c.ChangeReach(ctx, "applications", "berth-board", api.ReachChange{Reach: "closed"})
	require.NoError(t, err)
	status, body := raw(t, w, "GET / HTTP/1.1\nHost: HOST\nCookie: "+cookies+"\nConnection: close\n\n")
	assert.Equal(t, http.StatusForbidden, status, "closed is closed for those who are inside, at once: %s", body)
	status, _ = raw(
		t, w,
		"GET / HTTP/1.1\nHost: HOST\nCookie: ig-guard="+strings.Repeat("a", 43)+"\nAccept: text/html\nConnection: close\n\n",
	)
	assert.Equal(t, http.StatusSeeOther, status, "a made-up session is none")
	_ = b
}

// TestLimitsHoldBehindTheGuard lets sessions lie idle, at the gate and at the application, and grow old for the
// application.
func TestLimitsHoldBehindTheGuard(t *testing.T) {
	t.Parallel()
	now := time.Now()
	w := testbed.World(t, demo.Options{Now: func() time.Time { return now }})
	ctx, c := t.Context(), w.Client()
	inside := func(cookies string) bool {
		status, body := raw(t, w, "GET / HTTP/1.1\nHost: HOST\nAccept: text/html\nCookie: "+cookies+"\nConnection: close\n\n")
		return status == http.StatusOK && strings.Contains(body, "mvoss")
	}
	_, cookies := atBerths(t, w, "mvoss")
	for range 3 {
		now = now.Add(90 * time.Minute)
		require.True(t, inside(cookies), "visits behind the guard are a use of the session")
	}
	now = now.Add(121 * time.Minute)
	assert.False(t, inside(cookies), "it lay idle for more than two hours")
	assert.False(t, inside(cookies), "and asking has not woken it up")

	limit := func(r config.SessionRules) {
		a, err := c.Application(ctx, "berth-board")
		require.NoError(t, err)
		a.Session = &r
		_, err = c.PutApplication(ctx, a.Application, a.Revision)
		require.NoError(t, err)
	}
	limit(config.SessionRules{IdleMinutes: 20})
	b, cookies := atBerths(t, w, "mvoss")
	for range 3 {
		now = now.Add(15 * time.Minute)
		require.True(t, inside(cookies))
	}
	now = now.Add(21 * time.Minute)
	assert.False(t, inside(cookies), "the application lay idle for longer than it is set to")
	assert.NotContains(t, opens(t, b, w.RotaURL+"/sign-in"), chooses, "the others are none of it")

	limit(config.SessionRules{MaxMinutes: 30})
	_, cookies = atBerths(t, w, "mvoss")
	now = now.Add(29 * time.Minute)
	require.True(t, inside(cookies))
	now = now.Add(2 * time.Minute)
	assert.False(t, inside(cookies), "signed in longer ago than the application is set to")
}

// lasting opens a connection and waits for a text on it.
func lasting(t testing.TB, w *demo.World, request, want string) net.Conn {
	t.Helper()
	conn, err := net.Dial("tcp", strings.TrimPrefix(w.BerthsURL, "http://"))
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	require.NoError(t, conn.SetDeadline(time.Now().Add(testbed.Patience)))
	head, body, _ := strings.Cut(strings.ReplaceAll(request, "HOST", strings.TrimPrefix(w.BerthsURL, "http://")), "\n\n")
	_, err = io.WriteString(conn, strings.ReplaceAll(head, "\n", "\r\n")+"\r\n\r\n")
	require.NoError(t, err)
	awaits(t, conn, "\r\n\r\n")
	_, err = io.WriteString(conn, body)
	require.NoError(t, err)
	awaits(t, conn, want)
	return conn
}

func awaits(t testing.TB, conn net.Conn, want string) {
	t.Helper()
	var got bytes.Buffer
	for !strings.Contains(got.String(), want) {
		part := make([]byte, 512)
		n, err := conn.Read(part)
		require.NoError(t, err, "%s", got.String())
		got.Write(part[:n])
	}
}

// TestTicketsAreForOneBrowserOnce steals and repeats the step that hands a session over.
func TestTicketsAreForOneBrowserOnce(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx := t.Context()
	b := w.Walker()
	require.NoError(t, b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
	b.HTTP.CheckRedirect = func(r *http.Request, _ []*http.Request) error {
		if strings.Contains(r.URL.RawQuery, "ticket=") {
			return http.ErrUseLastResponse
		}
		return nil
	}
	answer := follow(t, b, w.BerthsURL+"/")
	ticket := answer.Header.Get("Location")
	require.Contains(t, ticket, "ticket=")

	thief := w.Walker()
	opens(t, thief, ticket)
	assert.Equal(t, http.StatusForbidden, thief.Status)
	assert.Contains(t, thief.Text, "guard.ticket", "another browser")
	assert.Equal(t, http.StatusOK, follow(t, b, ticket).StatusCode, "a thief's try takes nothing away")
	b.HTTP.CheckRedirect = nil
	assert.Contains(t, opens(t, b, w.BerthsURL+"/"), "mvoss")
	opens(t, b, ticket)
	assert.Contains(t, b.Text, "guard.ticket", "a second time")

	for _, to := range []string{"https://evil.example/", w.BerthsURL + ".evil.example/", w.BerthsURL + "@evil.example/", "//evil.example",
		"/\\evil.example"} {
		answer := follow(t, w.Walker(), w.URL+"/guard/berth-board/enter?bind="+strings.Repeat("0", 64)+"&to="+url.QueryEscape(to))
		assert.Equal(t, http.StatusBadRequest, answer.StatusCode, to)
		_, location := noFollow(t, w.BerthsURL+"/.gate/enter?to="+url.QueryEscape(to))
		assert.NotContains(t, strings.TrimPrefix(location, w.URL), "evil", to)
	}
}

func follow(t testing.TB, b *demo.Walker, address string) *http.Response {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, address, nil)
	require.NoError(t, err)
	r.Header.Set("Accept", "text/html")
	answer, err := b.HTTP.Do(r)
	require.NoError(t, err)
	answer.Body.Close()
	return answer
}

func noFollow(t testing.TB, address string) (int, string) {
	t.Helper()
	c := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	answer, err := c.Get(address)
	require.NoError(t, err)
	answer.Body.Close()
	return answer.StatusCode, answer.Header.Get("Location")
}

// TestGuardedOnwards covers the other ways of passing identity on, upstreams that fail, and large bodies.
func TestGuardedOnwards(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx, c := t.Context(), w.Client()
	_, cookies := atBerths(t, w, "zoberg")
	change := func(f func(a *config.GuardedApplication)) {
		t.Helper()
		a, err := c.Application(ctx, "berth-board")
		require.NoError(t, err)
		f(a.Guarded)
		_, err = c.PutApplication(ctx, a.Application, a.Revision)
		require.NoError(t, err)
	}
	seen := func() (int, string) {
		return raw(
			t,
			w,
			"GET /seen HTTP/1.1\nHost: HOST\nCookie: "+cookies+
				"\nAuthorization: Bearer own\nX-Forwarded-For: 10.9.8.7\nX-Forwarded-Proto: https\nForwarded: for=10.9.8.7\n"+
				"Connection: close\n\n",
		)
	}
	_, body := seen()
	assert.Contains(t, body, "X-Forwarded-For: 127.0.0.1\r\n", "nobody makes up where they are")
	assert.Contains(t, body, "X-Forwarded-Proto: http\r\n")
	assert.NotContains(t, body, "10.9.8.7")
	assert.Contains(t, body, "Host: "+strings.TrimPrefix(w.InnerURL, "http://"))
	assert.Contains(t, body, "Authorization: Bearer own", "what is the application's own is left")

	change(func(a *config.GuardedApplication) { a.Pass, a.KeepHost = "jwt", true })
	_, body = seen()
	assert.Contains(t, body, "Host: "+strings.TrimPrefix(w.BerthsURL, "http://"))
	assert.NotContains(t, body, "X-Berth-User")
	_, token, ok := strings.Cut(body, "X-Gate-Identity: ")
	require.True(t, ok, body)
	token, _, _ = strings.Cut(token, "\r\n")
	_, document := send(t, http.DefaultClient, "GET", w.URL+"/oidc/keys", "", "")
	ours, err := jose.ReadKeySet([]byte(document))
	require.NoError(t, err)
	parsed, err := jose.Parse(token)
	require.NoError(t, err)
	read, err := parsed.Verify(jose.Rules{Types: []string{jose.TypeGuard}, Keys: *ours})
	require.NoError(t, err)
	for name, want := range map[string]string{"aud": w.BerthsURL, "iss": w.URL, "X-Berth-User": "zoberg", "sub": "zoberg"} {
		got, _ := read.Claims.Text(name)
		assert.Equal(t, want, got, name)
	}
	_, body = seen()
	assert.Contains(t, body, token, "it is used for its minute")

	change(func(a *config.GuardedApplication) { a.Pass = "basic" })
	status, body := seen()
	assert.Equal(t, http.StatusForbidden, status)
	assert.Contains(t, body, "guard.no-password")
	require.NoError(t, c.SetGuardPassword(ctx, "berth-board", api.GuardPassword{Password: "three old boats"}))
	_, body = seen()
	assert.Contains(
		t, body, "Authorization: Basic "+base64.StdEncoding.EncodeToString([]byte("zoberg:three old boats")),
		"in place of the browser's own",
	)
	assert.NotContains(t, body, "Bearer")

	change(func(a *config.GuardedApplication) { a.Pass = "none" })
	_, body = seen()
	assert.NotContains(t, body, "zoberg")

	large := bytes.Repeat([]byte("berth "), 4<<20)
	change(func(a *config.GuardedApplication) { a.Upstreams = []string{"http://127.0.0.1:1", w.InnerURL} })
	for range 4 {
		r, err := http.NewRequestWithContext(ctx, http.MethodPost, w.BerthsURL+"/echo", bytes.NewReader(large))
		require.NoError(t, err)
		r.Header.Set("Cookie", cookies)
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		got, err := io.ReadAll(answer.Body)
		answer.Body.Close()
		require.NoError(t, err)
		assert.True(
			t, bytes.Equal(large, got), "%d: a large body goes through and comes back, past an upstream that is down",
			answer.StatusCode,
		)
	}
	change(func(a *config.GuardedApplication) { a.Upstreams = []string{"http://127.0.0.1:1"} })
	status, body = seen()
	assert.Equal(t, http.StatusBadGateway, status)
	assert.Contains(t, body, "guard.unreachable")
	change(func(a *config.GuardedApplication) { a.Upstreams, a.TimeoutSeconds = []string{w.InnerURL}, 1 })
	status, body = raw(t, w, "GET /slow HTTP/1.1\nHost: HOST\nCookie: "+cookies+"\nConnection: close\n\n")
	assert.Equal(t, http.StatusGatewayTimeout, status)
	assert.Contains(t, body, "guard.slow")
	status, _ = raw(
		t, w,
		"GET /.gate/check HTTP/1.1\nHost: HOST\nCookie: "+cookies+"\nX-Original-URI: /\nX-Original-Method: GET\nConnection: close\n\n",
	)
	assert.Equal(t, http.StatusNotFound, status, "only a trusted proxy asks without passing on")
}

// TestPathsAskRuleSets lets a rule set decide about a path, and sees that it can't be taken away, named wrongly, or ask
// for groups that are not there.
func TestPathsAskRuleSets(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx, c := t.Context(), w.Client()
	_, err := c.AddRuleSet(
		ctx,
		config.RuleSet{
			Slug: "no-deckhands",
			Name: "No deckhands",
			Kind: config.SetAccess,
			Rules: []access.Rule{
				{Name: "the bridge", If: &access.Condition{Groups: []string{"bridge"}}, Then: access.Allow},
				{Name: "everybody else", Then: access.Refuse},
			},
		},
	)
	require.NoError(t, err)
	a, err := c.Application(ctx, "berth-board")
	require.NoError(t, err)
	a.Guarded.Paths = append(a.Guarded.Paths, config.PathRule{Path: "/chart", Then: config.PathRules, Use: "no-deckhands"})
	_, err = c.PutApplication(ctx, a.Application, a.Revision)
	require.NoError(t, err)
	_, deckhand := atBerths(t, w, "zoberg")
	_, skipper := atBerths(t, w, "jhale")
	visit := func(cookies string) (int, string) {
		return raw(t, w, "GET /chart/north HTTP/1.1\nHost: HOST\nCookie: "+cookies+"\nConnection: close\n\n")
	}
	status, body := visit(deckhand)
	assert.Equal(t, http.StatusForbidden, status)
	assert.Contains(t, body, "guard.path-rules")
	status, _ = visit(skipper)
	assert.Equal(t, http.StatusOK, status)
	tried, err := c.TryPath(ctx, "berth-board", api.TryPath{Path: "/chart"})
	require.NoError(t, err)
	assert.Contains(t, tried.Words, "rule set no-deckhands")
	assert.ErrorContains(t, c.DeleteRuleSet(ctx, "no-deckhands"), "Berth Board")
	for _, wrong := range []config.PathRule{{Path: "/x", Then: config.PathRules},
		{Path: "/x", Then: config.PathOpen, Use: "no-deckhands"}, {Path: "/x", Then: config.PathRules, Use: "nothing"},
		{Path: "/x", Then: config.PathRules, Use: "ferry-roles"}, {Path: "/x", Then: config.PathGroups, Groups: []string{"nobody"}},
		{Path: "x", Then: config.PathOpen}, {Path: "/a/../b", Then: config.PathOpen}} {
		bad := a.Application
		held := *a.Guarded
		held.Paths = []config.PathRule{wrong}
		bad.Guarded = &held
		_, err := c.PutApplication(ctx, bad, 0)
		assert.Error(t, err, "%+v", wrong)
	}
}

// TestNginxAsksTheGate puts an nginx before Berth Board, with the configuration that the gate prints, which passes
// requests on itself and asks about each.
func TestNginxAsksTheGate(t *testing.T) {
	t.Parallel()
	w := world(t)
	ctx, c := t.Context(), w.Client()
	front, inner := free(t), free(t)
	a, err := c.Application(ctx, "berth-board")
	require.NoError(t, err)
	a.Guarded.PublicURL, a.StartURL = "http://"+front, "http://"+front+"/"
	a.Tiles = nil
	_, err = c.PutApplication(ctx, a.Application, a.Revision)
	require.NoError(t, err)
	v, err := c.Guard(ctx, "berth-board")
	require.NoError(t, err)

	l, err := net.Listen("tcp", inner)
	require.NoError(t, err)
	d := guard.New(w.Gate, guard.Options{TrustedProxies: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}})
	go d.Serve(l, nil) // ends with Shutdown
	t.Cleanup(func() { d.Shutdown(time.Second) })
	text := strings.ReplaceAll(v.Nginx, "127.0.0.1:8421", inner)
	text = strings.Replace(text, "# Add your listen and ssl_certificate lines.", "listen "+front+";", 1)
	testbed.Nginx(t, "INNERGATE_JUDGES", text, front)

	b := w.Walker()
	b.Provider = "saltmere-staff"
	require.NoError(t, b.SignIn(ctx, "http://"+front+"/boats?week=48&view=list", "zoberg"))
	assert.Equal(t, "zoberg", b.Inner("person"), b.Text)
	assert.Equal(t, "/boats?week=48&view=list", b.Inner("path"))
	seen := opens(t, b, "http://"+front+"/seen")
	assert.NotContains(t, seen, "ig-", "none of the gate's cookies: %s", seen)
	u, err := url.Parse("http://" + front)
	require.NoError(t, err)
	var cookies []string
	for _, one := range b.HTTP.Jar.Cookies(u) {
		cookies = append(cookies, one.Name+"="+one.Value)
	}
	for path, want := range map[string]int{"/": 200, "/harbour-master": 403, "/health": 403, "/timetable/..%2fharbour-master": 403,
		"/x/../harbour-master": 403, "//harbour-master": 403, "/.gate/check": 404} {
		status, body := rawAt(
			t,
			front,
			"GET "+path+" HTTP/1.1\nHost: HOST\nX-Berth-User: jhale\nX_Berth_User: jhale\nX-Original-URI: /timetable\n"+
				"X-Original-Method: GET\nCookie: "+strings.Join(cookies, "; ")+"\nConnection: close\n\n",
		)
		assert.Equal(t, want, status, path)
		assert.NotContains(t, body, "jhale", path)
		assert.NotContains(t, body, "desk", path)
	}
	assert.Contains(t, opens(t, b, w.RotaURL+"/sign-in"), "zoberg")
	opens(t, b, w.RotaURL+"/sign-out")
	opens(t, b, "http://"+front+"/")
	assert.NotContains(t, b.Text, "Good day", "signed out is out there as well")
}

func free(t testing.TB) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

// TestRoundInACircle begins one sign-in after the other without ending any, as two gates do that send people to one
// another.
func TestRoundInACircle(t *testing.T) {
	t.Parallel()
	w := world(t)
	b := w.Walker()
	for range 8 {
		opens(t, b, w.RotaURL+"/sign-in")
		require.Contains(t, b.Text, chooses)
	}
	opens(t, b, w.RotaURL+"/sign-in")
	assert.Contains(t, b.Text, "goes round in a circle")
	x := newest(t, w)
	assert.Equal(t, "browser.loop", x.Code)
	assert.NotContains(t, opens(t, b, w.LedgerURL+"/sign-in"), "circle", "another application is none of it")
	assert.Contains(t, opens(t, w.Walker(), w.RotaURL+"/sign-in"), chooses, "nor is another browser")
}
