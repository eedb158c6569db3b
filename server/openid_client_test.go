package server_test

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	jose "github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/demo"
	"innergate/testbed"
)

// party is a client as its makers would write it, on nothing but net/http and a JOSE library: nothing of the gate's own
// code speaks the protocol here.
type party struct {
	t      testing.TB
	w      *demo.World
	clock  *clock
	id     string
	secret string
	method string // of authentication
	key    *ecdsa.PrivateKey
	scope  string
	server *httptest.Server // where answers come

	mu   sync.Mutex
	got  url.Values
	how  string
	told []string // logout tokens
}

// clock is the world's time, which tests turn.
type clock struct {
	mu  sync.Mutex
	off time.Duration
}

func (c *clock) now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return time.Now().Add(c.off)
}

func (c *clock) turn(d time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.off += d
}

// newParty starts a world and registers a client in it.
func newParty(t testing.TB, change ...func(*config.Application)) *party {
	t.Helper()
	c := &clock{}
	w := testbed.World(t, demo.Options{Version: "test", Now: c.now})
	return addParty(t, w, c, "tide-archive", change...)
}

func addParty(t testing.TB, w *demo.World, c *clock, slug string, change ...func(*config.Application)) *party {
	t.Helper()
	p := &party{t: t, w: w, clock: c, id: slug, method: "client_secret_basic", scope: "openid profile email groups offline_access"}
	p.server = httptest.NewServer(http.HandlerFunc(func(out http.ResponseWriter, r *http.Request) {
		p.mu.Lock()
		defer p.mu.Unlock()
		_ = r.ParseForm()
		if r.URL.Path == "/logout" {
			p.told = append(p.told, r.PostForm.Get("logout_token"))
			return
		}
		if p.got, p.how = r.URL.Query(), "query"; r.Method == http.MethodPost {
			p.got, p.how = r.PostForm, "form_post"
		}
		fmt.Fprint(out, "<p>received</p>")
	}))
	t.Cleanup(p.server.Close)
	a := config.Application{
		Slug:      slug,
		Name:      "Tide Archive " + slug,
		Kind:      "oidc",
		Reach:     access.Everyone,
		Providers: []string{"saltmere-staff"},
		Access:    access.Policy{To: access.Everybody},
		Mapping:   claims.OutgoingOIDC(),
		OIDC: &config.OIDCApplication{
			RedirectURIs:      []string{p.redirect()},
			PostLogoutURIs:    []string{p.server.URL + "/bye"},
			Scopes:            []string{"openid", "profile", "email", "groups", "offline_access"},
			Algorithm:         "ES256",
			BackChannelLogout: p.server.URL + "/logout",
		},
	}
	for _, f := range change {
		f(&a)
	}
	_, err := w.Client().AddApplication(context.Background(), a)
	require.NoError(t, err)
	if a.OIDC.Authentication == "" || strings.HasPrefix(a.OIDC.Authentication, "client_secret") {
		s, err := w.Client().NewSecret(context.Background(), slug, api.NewSecret{})
		require.NoError(t, err)
		p.secret = s.Secret
	}
	if a.OIDC.Authentication != "" {
		p.method = a.OIDC.Authentication
	}
	return p
}

func (p *party) redirect() string { return p.server.URL + "/answer" }

// set changes the client's registration.
func (p *party) set(f func(*config.Application)) {
	p.t.Helper()
	a, err := p.w.Client().Application(context.Background(), p.id)
	require.NoError(p.t, err)
	c := a.Application
	f(&c)
	_, err = p.w.Client().PutApplication(context.Background(), c, a.Revision)
	require.NoError(p.t, err)
}

// verifier is the one that every test uses; real clients make a new one each time.
const verifier = "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"

func challenge(v string) string {
	sum := sha256.Sum256([]byte(v))
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

// asks is the usual request, changed by extra; an empty value takes a parameter out.
func (p *party) asks(extra url.Values) url.Values {
	q := url.Values{
		"response_type":         {"code"},
		"client_id":             {p.id},
		"redirect_uri":          {p.redirect()},
		"scope":                 {p.scope},
		"state":                 {"st-1"},
		"nonce":                 {"n-1"},
		"code_challenge":        {challenge(verifier)},
		"code_challenge_method": {"S256"},
	}
	for name, values := range extra {
		if q[name] = values; values[0] == "" {
			q.Del(name)
		}
	}
	return q
}

// goes walks a request through as a browser would, and returns what came to the redirect URI, if anything did, and the
// last page.
func (p *party) goes(raw, user string) (url.Values, *demo.Walker) {
	p.t.Helper()
	return p.goesIn(p.w.Walker(), raw, user)
}

func (p *party) goesIn(b *demo.Walker, raw, user string) (url.Values, *demo.Walker) {
	p.t.Helper()
	p.mu.Lock()
	p.got = nil
	p.mu.Unlock()
	require.NoError(p.t, b.SignIn(context.Background(), p.w.URL+"/oidc/authorize?"+raw, user))
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.got, b
}

// code signs somebody in and returns the code.
func (p *party) code(extra url.Values) string {
	p.t.Helper()
	got, b := p.goes(p.asks(extra).Encode(), "mvoss")
	require.NotEmpty(p.t, got.Get("code"), "%v\n%s", got, b.Text)
	return got.Get("code")
}

// answer is what an endpoint answered.
type answer struct {
	status int
	header http.Header
	body   map[string]any
	raw    string
}

func (a answer) err() string { s, _ := a.body["error"].(string); return s }

func (a answer) text(name string) string { s, _ := a.body[name].(string); return s }

// send posts a form with whatever headers.
func (p *party) send(path string, form url.Values, header map[string]string) answer {
	p.t.Helper()
	r, err := http.NewRequest(http.MethodPost, p.w.URL+path, strings.NewReader(form.Encode()))
	require.NoError(p.t, err)
	r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	for name, value := range header {
		r.Header.Set(name, value)
	}
	return p.do(r)
}

func (p *party) do(r *http.Request) answer {
	p.t.Helper()
	got, err := http.DefaultTransport.RoundTrip(r)
	require.NoError(p.t, err)
	defer got.Body.Close()
	data, err := io.ReadAll(got.Body)
	require.NoError(p.t, err)
	a := answer{status: got.StatusCode, header: got.Header, raw: string(data), body: map[string]any{}}
	_ = json.Unmarshal(data, &a.body)
	return a
}

// proves adds the client's proof to a form.
func (p *party) proves(form url.Values) map[string]string {
	switch p.method {
	case "client_secret_basic":
		return map[string]string{
			"Authorization": "Basic " + base64.StdEncoding.EncodeToString([]byte(url.QueryEscape(p.id)+":"+url.QueryEscape(p.secret))),
		}
	case "client_secret_post":
		form.Set("client_id", p.id)
		form.Set("client_secret", p.secret)
	case "private_key_jwt":
		form.Set("client_assertion_type", "urn:ietf:params:oauth:client-assertion-type:jwt-bearer")
		form.Set(
			"client_assertion",
			p.sign(
				"JWT",
				map[string]any{
					"iss": p.id,
					"sub": p.id,
					"aud": p.w.URL,
					"jti": fmt.Sprint(time.Now().UnixNano()),
					"exp": p.clock.now().Add(time.Minute).Unix(),
				},
			),
		)
	default:
		form.Set("client_id", p.id)
	}
	return nil
}

// sign signs with the client's own key.
func (p *party) sign(typ string, content map[string]any) string {
	p.t.Helper()
	signer, err := jose.NewSigner(
		jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: p.key, KeyID: "c-1"}},
		(&jose.SignerOptions{}).WithType(jose.ContentType(typ)),
	)
	require.NoError(p.t, err)
	body, err := json.Marshal(content)
	require.NoError(p.t, err)
	signed, err := signer.Sign(body)
	require.NoError(p.t, err)
	out, err := signed.CompactSerialize()
	require.NoError(p.t, err)
	return out
}

// call sends a form with the client's proof.
func (p *party) call(path string, form url.Values) answer {
	p.t.Helper()
	header := p.proves(form)
	return p.send(path, form, header)
}

func redeeming(p *party, code string) url.Values {
	return url.Values{"grant_type": {"authorization_code"}, "code": {code}, "redirect_uri": {p.redirect()}, "code_verifier": {verifier}}
}

// tokens signs somebody in and exchanges the code.
func (p *party) tokens(extra url.Values) answer {
	p.t.Helper()
	a := p.call("/oidc/token", redeeming(p, p.code(extra)))
	require.Equal(p.t, 200, a.status, a.raw)
	return a
}

// userinfo asks UserInfo with an access token.
func (p *party) userinfo(access string) answer {
	p.t.Helper()
	r, err := http.NewRequest(http.MethodGet, p.w.URL+"/oidc/userinfo", nil)
	require.NoError(p.t, err)
	r.Header.Set("Authorization", "Bearer "+access)
	return p.do(r)
}

func (p *party) get(path string, to any) {
	p.t.Helper()
	got, err := http.Get(p.w.URL + path)
	require.NoError(p.t, err)
	defer got.Body.Close()
	require.Equal(p.t, 200, got.StatusCode)
	require.NoError(p.t, json.NewDecoder(got.Body).Decode(to))
}

// opens verifies a token of the gate's with its key set, and returns header and content.
func (p *party) opens(token string) (jose.Header, map[string]any) {
	p.t.Helper()
	var set jose.JSONWebKeySet
	p.get("/oidc/keys", &set)
	parsed, err := jose.ParseSignedCompact(token, []jose.SignatureAlgorithm{jose.RS256, jose.PS256, jose.ES256, jose.EdDSA})
	require.NoError(p.t, err)
	header := parsed.Signatures[0].Header
	key := set.Key(header.KeyID)
	require.Len(p.t, key, 1)
	body, err := parsed.Verify(key[0])
	require.NoError(p.t, err)
	var content map[string]any
	require.NoError(p.t, json.Unmarshal(body, &content))
	return header, content
}

func newClientKey(t testing.TB) (*ecdsa.PrivateKey, string) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	set, err := json.Marshal(
		jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: crypto.PublicKey(&k.PublicKey), KeyID: "c-1", Use: "sig", Algorithm: "ES256"}}},
	)
	require.NoError(t, err)
	return k, string(set)
}
