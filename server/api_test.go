package server_test

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/netip"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/demo"
	"innergate/gate/ground"
	"innergate/gate/traces"
	"innergate/server"
	"innergate/server/management"
	"innergate/testbed"
)

func world(t testing.TB) *demo.World {
	t.Helper()
	w := testbed.World(t, demo.Options{Version: "test"})
	return w
}

func token(t testing.TB, w *demo.World, role string) string {
	t.Helper()
	made, err := w.Gate.Console.NewToken(context.Background(), ground.System, api.NewToken{Name: role, Role: role, Days: 1})
	require.NoError(t, err)
	return made.Secret
}

func send(t testing.TB, client *http.Client, method, address, token, body string, headers ...string) (*http.Response, string) {
	t.Helper()
	r, err := http.NewRequest(method, address, strings.NewReader(body))
	require.NoError(t, err)
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	r.Header.Set("Content-Type", "application/json")
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	answer, err := client.Do(r)
	require.NoError(t, err)
	defer answer.Body.Close()
	out, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return answer, string(out)
}

var parameter = regexp.MustCompile(`\{\w+\}`)

// TestEveryRouteWithEveryRole walks every operation with every role, with no token and with a wrong one. Bodies are
// empty and names unknown, so that those who are let in change nothing: what counts is whether they were let in.
func TestEveryRouteWithEveryRole(t *testing.T) {
	t.Parallel()
	w := world(t)
	tokens := map[string]string{
		ground.RoleViewer:   token(t, w, ground.RoleViewer),
		ground.RoleEngineer: token(t, w, ground.RoleEngineer),
		ground.RoleOwner:    token(t, w, ground.RoleOwner),
	}
	assigner, err := w.Gate.Console.NewToken(
		context.Background(),
		ground.System,
		api.NewToken{Name: "assigner", Role: ground.RoleAssigner, Applications: []string{"crew-rota"}},
	)
	require.NoError(t, err)
	tokens[ground.RoleAssigner] = assigner.Secret
	seen := 0
	for _, r := range management.Routes() {
		if r.Role == "" {
			continue
		}
		seen++
		address := w.URL + "/api/v1" + parameter.ReplaceAllString(r.Path, "nobody")
		for role, secret := range tokens {
			answer, body := send(t, http.DefaultClient, r.Method, address, secret, "{}")
			allowed := ground.Allows(role, r.Role)
			if strings.Contains(r.Path, "/assignments") {
				// An assigner may at the applications named with it, and this is none of them; a viewer reads.
				allowed = ground.Allows(role, ground.RoleEngineer) || role == ground.RoleViewer && r.Method == http.MethodGet
			}
			if allowed {
				assert.NotContains(t, []int{401, 403}, answer.StatusCode, "%s %s as %s: %s", r.Method, r.Path, role, body)
			} else {
				assert.Equal(t, 403, answer.StatusCode, "%s %s as %s: %s", r.Method, r.Path, role, body)
			}
			assert.Equal(t, "no-store", answer.Header.Get("Cache-Control"))
		}
		for _, wrong := range []string{"", "innergate_guessed", tokens[ground.RoleOwner] + "x"} {
			answer, _ := send(t, http.DefaultClient, r.Method, address, wrong, "{}")
			assert.Equal(t, 401, answer.StatusCode, "%s %s", r.Method, r.Path)
		}
	}
	assert.Greater(t, seen, 35)
	for _, r := range management.Routes() {
		if r.Role == ground.RoleAssigner {
			assert.Contains(
				t,
				[]string{
					"/session",
					"/people",
					"/groups",
					"/applications/{slug}/assignments",
					"/applications/{slug}/assignments/{kind}/{who}",
				},
				r.Path,
				"an assigner assigns, and nothing else",
			)
		}
		if r.Method != http.MethodGet && r.Role == ground.RoleViewer {
			assert.Contains(
				t,
				[]string{
					"/session",
					"/compare",
					"/decode",
					"/applications/{slug}/exchange/compare",
					"/providers/{slug}/exchange/compare",
					"/checkup",
					"/bundles",
					"/bundles/file",
				},
				r.Path,
				"a viewer changes nothing",
			)
		}
	}
}

// TestCookieNeedsCSRF signs in as the console does and makes changing calls without, with a wrong and with the right
// value.
func TestCookieNeedsCSRF(t *testing.T) {
	t.Parallel()
	w := world(t)
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	browser := &http.Client{Jar: jar}
	answer, body := send(t, browser, http.MethodPost, w.URL+"/api/v1/session", "", `{"name":"`+w.Name+`","password":"`+w.Password+`"}`)
	require.Equal(t, 200, answer.StatusCode, body)
	cookie := answer.Header.Get("Set-Cookie")
	assert.Contains(t, cookie, "HttpOnly")
	assert.Contains(t, cookie, "SameSite=Lax")
	var me api.Me
	require.NoError(t, json.Unmarshal([]byte(body), &me))
	new := `{"name":"Harbour Log","slug":"","kind":"saml","reach":"draft","subject":{}}`
	for _, r := range management.Routes() {
		if r.Method == http.MethodGet || r.Role == "" {
			continue
		}
		answer, _ := send(t, browser, r.Method, w.URL+"/api/v1"+parameter.ReplaceAllString(r.Path, "nobody"), "", "{}")
		assert.Equal(t, 403, answer.StatusCode, "%s %s without the value", r.Method, r.Path)
	}
	answer, _ = send(t, browser, http.MethodPost, w.URL+"/api/v1/applications", "", new, "X-Innergate-CSRF", "guessed")
	assert.Equal(t, 403, answer.StatusCode)
	answer, _ = send(
		t, browser, http.MethodPost, w.URL+"/api/v1/applications", "", new, "X-Innergate-CSRF", me.CSRF,
		"Sec-Fetch-Site", "cross-site",
	)
	assert.Equal(t, 403, answer.StatusCode)
	answer, _ = send(
		t, browser, http.MethodPost, w.URL+"/api/v1/applications", "", new, "X-Innergate-CSRF", me.CSRF, "Origin",
		"https://evil.example",
	)
	assert.Equal(t, 403, answer.StatusCode)
	answer, body = send(t, browser, http.MethodPost, w.URL+"/api/v1/applications", "", new, "X-Innergate-CSRF", me.CSRF)
	assert.Equal(t, 201, answer.StatusCode, body)
	answer, _ = send(
		t, browser, http.MethodPost, w.URL+"/api/v1/session", "", `{"name":"x","password":"y"}`, "Origin",
		"https://evil.example",
	)
	assert.Equal(t, 403, answer.StatusCode, "signing in can't be forced from elsewhere")
	answer, _ = send(t, browser, http.MethodDelete, w.URL+"/api/v1/session", "", "", "X-Innergate-CSRF", me.CSRF)
	assert.Equal(t, 204, answer.StatusCode)
	answer, _ = send(t, browser, http.MethodGet, w.URL+"/api/v1/session", "", "")
	assert.Equal(t, 401, answer.StatusCode)
}

func TestGuessingIsLimited(t *testing.T) {
	t.Parallel()
	w := world(t)
	wrong := `{"name":"` + w.Name + `","password":"not the password"}`
	for range 10 {
		answer, _ := send(t, http.DefaultClient, http.MethodPost, w.URL+"/api/v1/session", "", wrong)
		require.Equal(t, 401, answer.StatusCode)
	}
	answer, body := send(
		t, http.DefaultClient, http.MethodPost, w.URL+"/api/v1/session", "",
		`{"name":"`+w.Name+`","password":"`+w.Password+`"}`,
	)
	assert.Equal(t, 429, answer.StatusCode, "the right password does not help any more either")
	assert.Contains(t, body, "quarter of an hour")
}

// TestAnswersFitTheDescription holds what the service answers against the OpenAPI document that it serves.
func TestAnswersFitTheDescription(t *testing.T) {
	t.Parallel()
	w := world(t)
	answer, body := send(t, http.DefaultClient, http.MethodGet, w.URL+"/api/v1/openapi.json", "", "")
	require.Equal(t, 200, answer.StatusCode)
	doc, err := openapi3.NewLoader().LoadFromData([]byte(body))
	require.NoError(t, err)
	doc.Servers = nil
	require.NoError(t, doc.Validate(context.Background()))
	openapi3filter.RegisterBodyDecoder("application/samlmetadata+xml", openapi3filter.PlainBodyDecoder)
	router, err := gorillamux.NewRouter(doc)
	require.NoError(t, err)
	b := demo.NewWalker(nil)
	require.NoError(t, b.SignIn(context.Background(), w.RotaURL+"/sign-in", "mvoss"))
	list, err := w.Gate.Traces.Traces(context.Background(), page1, traces.Filter{})
	require.NoError(t, err)
	metadata, err := w.Desk.Metadata()
	require.NoError(t, err)
	take, err := json.Marshal(api.TakeIn{Text: string(metadata)})
	require.NoError(t, err)
	for _, c := range []struct{ method, path, body string }{
		{"GET", "/session", ""},
		{"GET", "/overview", ""},
		{"GET", "/find?q=rota", ""},
		{"GET", "/applications?search=crew", ""},
		{"GET", "/applications/crew-rota", ""},
		{"GET", "/applications/crew-rota/exchange", ""},
		{"GET", "/applications/nobody", ""},
		{"GET", "/providers", ""},
		{"GET", "/providers/saltmere-staff", ""},
		{"GET", "/providers/saltmere-staff/exchange", ""},
		{"POST", "/understand/application", string(take)},
		{"POST", "/understand/provider", string(take)},
		{"POST", "/understand/application", `{"text":"nonsense"}`},
		{"POST", "/applications", `{"name":"Tide Log","slug":"","kind":"saml","reach":"draft","subject":{}}`},
		{"POST", "/applications/tide-log/take", string(take)},
		{"POST", "/applications", `{"name":"","slug":"Ä","kind":"saml","reach":"draft","subject":{}}`},
		{"POST", "/rehearsals", `{"application":"crew-rota","flow":"sp"}`},
		{"GET", "/traces", ""},
		{"GET", "/traces/" + list.Items[0].Reference, ""},
		{"GET", "/explanations", ""},
		{"GET", "/keys", ""},
		{"GET", "/journal", ""},
		{"GET", "/config", ""},
		{"GET", "/administrators", ""},
		{"GET", "/tokens", ""},
		{"POST", "/compare", `{"ours":"a","theirs":"b"}`},
		{"POST", "/decode", `{"text":"<a/>"}`},
		{"GET", "/metadata/idp?signed=1", ""},
		{"GET", "/metadata/idp/crew-rota", ""},
		{"POST", "/applications/crew-rota/exchange/compare", `{"text":"Issuer: https://gate.example"}`},
		{"POST", "/applications/crew-rota/exchange/handed-out", ""},
		{"GET", "/applications/crew-rota/exchange", ""},
		{"POST", "/providers/saltmere-staff/refresh", ""},
		{"GET", "/providers/saltmere-staff/documents", ""},
		{"GET", "/providers/saltmere-staff/documents/nothing", ""},
		{"POST", "/keys", `{"purpose":"saml-signing","kind":"p-256"}`},
		{"POST", "/keys", `{"purpose":"saml-signing","kind":"p-256"}`},
		{"GET", "/keys", ""},
		{"GET", "/rollover?purpose=saml-signing", ""},
		{"GET", "/rollover?purpose=nothing", ""},
		{"GET", "/certificates?search=crew", ""},
		{"GET", "/sources", ""},
		{"GET", "/sources/harbours", ""},
		{"GET", "/sources/harbours/entities?search=dunmere&role=idp", ""},
		{"POST", "/sources", `{"name":"Old list","slug":"","kind":"file"}`},
		{"POST", "/sources/old-list/refresh", ""},
		{"POST", "/sources/harbours/adopt", `{"as":"application","entityIds":["https://nowhere.example"]}`},
		{"GET", "/templates", ""},
		{"GET", "/templates/role-pairs", ""},
		{"POST", "/templates/provider-oid-names/start", `{"name":"Port Office"}`},
		{"POST", "/templates", `{"name":"Rotas","from":"applications/crew-rota"}`},
		{"POST", "/applications/crew-rota/reach/closed", ""},
		{"GET", "/applications?sort=nonsense", ""},
	} {
		t.Run(c.method+" "+c.path, func(t *testing.T) {
			r, err := http.NewRequest(c.method, w.URL+"/api/v1"+c.path, strings.NewReader(c.body))
			require.NoError(t, err)
			r.Header.Set("Content-Type", "application/json")
			r.Header.Set("Authorization", "Bearer "+w.Token)
			answer, err := http.DefaultClient.Do(r)
			require.NoError(t, err)
			defer answer.Body.Close()
			out, err := io.ReadAll(answer.Body)
			require.NoError(t, err)
			require.Less(t, answer.StatusCode, 500, string(out))
			r.URL.Path = strings.TrimPrefix(r.URL.Path, "/api/v1")
			r.URL.Host, r.URL.Scheme, r.Host = "", "", ""
			found, params, err := router.FindRoute(r)
			require.NoError(t, err)
			input := &openapi3filter.ResponseValidationInput{
				RequestValidationInput: &openapi3filter.RequestValidationInput{Request: r, PathParams: params, Route: found},
				Status:                 answer.StatusCode,
				Header:                 answer.Header,
				Body:                   io.NopCloser(bytes.NewReader(out)),
				Options:                &openapi3filter.Options{IncludeResponseStatus: true},
			}
			assert.NoError(t, openapi3filter.ValidateResponse(context.Background(), input), string(out))
		})
	}
}

// TestDescriptionIsCurrent sees that the document from which the console's types are made is the one that is served.
func TestDescriptionIsCurrent(t *testing.T) {
	t.Parallel()
	kept, err := os.ReadFile("../web/openapi.json")
	require.NoError(t, err)
	assert.Equal(t, string(management.Description()), string(kept), "run `make types`")
}

func TestProblemsAreSentences(t *testing.T) {
	t.Parallel()
	w := world(t)
	for _, c := range []struct {
		method, path, body, contentType string
		status                          int
		says                            string
	}{
		{"GET", "/nothing", "", "", 404, "no such operation"},
		{"GET", "/applications/nobody", "", "", 404, `no application "nobody"`},
		{"POST", "/applications", "{", "", 400, "not what is expected"},
		{"POST", "/applications", `{"nmae":"x"}`, "", 400, "nmae"},
		{"POST", "/applications", `{"name":"x"}`, "text/plain", 415, "application/json"},
		{"POST", "/applications", `{"name":"Crew Rota"}`, "", 409, "short name crew-rota already"},
		{"PUT", "/applications/crew-rota?revision=7", `{"name":"Crew Rota"}`, "", 409, "was changed since"},
		{"POST", "/understand/application", `{"url":"http://127.0.0.1:1/metadata"}`, "", 502, "can't be fetched"},
		{"POST", "/rehearsals", `{"application":"crew-rota","flow":"sideways"}`, "", 400, "no way to sign in"},
		{"DELETE", "/providers/saltmere-staff", "", "", 409, "Crew Rota"},
		{"POST", "/applications/crew-rota/take", `{"text":"<html><body>Sign in</body></html>"}`, "", 422, "web page"},
		{"POST", "/tokens", `{"name":"x","role":"king"}`, "", 400, "no role"},
	} {
		headers := []string{}
		if c.contentType != "" {
			headers = append(headers, "Content-Type", c.contentType)
		}
		answer, body := send(t, http.DefaultClient, c.method, w.URL+"/api/v1"+c.path, w.Token, c.body, headers...)
		assert.Equal(t, c.status, answer.StatusCode, "%s %s: %s", c.method, c.path, body)
		assert.Contains(t, answer.Header.Get("Content-Type"), "application/problem+json")
		var p api.Problem
		require.NoError(t, json.Unmarshal([]byte(body), &p), body)
		assert.Contains(t, p.Detail, c.says)
	}
}

func TestBodiesAreLimited(t *testing.T) {
	t.Parallel()
	w := world(t)
	r, err := http.NewRequest(http.MethodPost, w.URL+"/api/v1/decode", io.LimitReader(zeroes{}, 5<<20))
	require.NoError(t, err)
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Authorization", "Bearer "+w.Token)
	answer, err := http.DefaultClient.Do(r)
	if err == nil {
		answer.Body.Close()
		assert.Equal(t, http.StatusRequestEntityTooLarge, answer.StatusCode)
	}
}

type zeroes struct{}

func (zeroes) Read(b []byte) (int, error) { return len(b), nil }

// TestForwardedAddress believes X-Forwarded-For from trusted proxies only, and reads it from the right.
func TestForwardedAddress(t *testing.T) {
	t.Parallel()
	w := world(t)
	for _, c := range []struct {
		trusted []string
		header  string
		want    string
	}{
		{nil, "192.0.2.7", "127.0.0.1"},
		{[]string{"127.0.0.0/8"}, "192.0.2.7", "192.0.2.7"},
		{[]string{"127.0.0.0/8"}, "203.0.113.9, 192.0.2.7", "192.0.2.7"},
		{[]string{"127.0.0.0/8", "192.0.2.0/24"}, "203.0.113.9, 192.0.2.7", "203.0.113.9"},
		{[]string{"127.0.0.0/8"}, "nonsense", "127.0.0.1"},
	} {
		o := server.Options{}
		for _, p := range c.trusted {
			o.TrustedProxies = append(o.TrustedProxies, netip.MustParsePrefix(p))
		}
		s := server.New(w.Gate, o)
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		go func() { _ = s.Serve(l, nil) }()
		answer, _ := send(
			t, http.DefaultClient, http.MethodPost, "http://"+l.Addr().String()+"/api/v1/tokens", w.Token,
			`{"name":"probe","role":"viewer"}`, "X-Forwarded-For", c.header,
		)
		require.Equal(t, 201, answer.StatusCode)
		lines, err := w.Gate.Journal(context.Background(), ground.System, page1, "")
		require.NoError(t, err)
		assert.Equal(t, c.want, lines.Items[0].From, "%v", c)
		require.NoError(t, s.Shutdown(time.Second))
	}
}

func TestOperations(t *testing.T) {
	t.Parallel()
	w := world(t)
	for path, want := range map[string]string{"/healthz": "ok", "/readyz": "ready", "/metrics": "innergate_sign_ins_completed_total"} {
		answer, body := send(t, http.DefaultClient, http.MethodGet, w.URL+path, "", "")
		assert.Equal(t, 200, answer.StatusCode)
		assert.Contains(t, body, want)
	}
}
