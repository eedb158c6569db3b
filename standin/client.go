package standin

import (
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	jose "github.com/go-jose/go-jose/v4"
)

// Client is a simulated OpenID Connect application: a web client with a secret, or, with Tool set, a program on
// somebody's own machine, which has none and takes its answer on a loopback address.
type Client struct {
	Name, Base string
	Tool       bool
	Issuer     string
	ID, Secret string
	Scopes     []string
	// Ask adds parameters to each request, such as prompt or acr_values.
	Ask       url.Values
	Now       func() time.Time
	Recorder  *Recorder
	Transport http.RoundTripper

	mu       sync.Mutex
	sent     map[string]sent // by state
	answers  string          // the tool's own address for answers
	loggedBy []string
	leaves   bool // its codes
}

type sent struct{ verifier, nonce, redirect string }

// NewClient makes one.
func NewClient(name, base string) *Client {
	return &Client{
		Name:   name,
		Base:   base,
		Now:    time.Now,
		sent:   map[string]sent{},
		Scopes: []string{"openid", "profile", "email", "groups"},
		Ask:    url.Values{},
	}
}

// RedirectURI is where the client takes its answers.
func (c *Client) RedirectURI() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.Tool {
		return c.answers + "/answer"
	}
	return c.Base + "/answer"
}

// Listen opens the tool's loopback address for answers, on any free port, and returns how to close it.
func (c *Client) Listen() (func(), error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	c.answers = "http://" + l.Addr().String()
	c.mu.Unlock()
	s := &http.Server{Handler: c.Handler(), ReadHeaderTimeout: 10 * time.Second}
	go s.Serve(l) // ends with Close
	return func() { s.Close() }, nil
}

// Got is what the client received.
type Got struct {
	Subject, SessionID   string
	Claims               map[string]any // of the ID token
	UserInfo             map[string]any
	Refresh              bool
	IDToken, AccessToken string
	RefreshToken         string
	Rows                 [][2]string
}

// Handler serves the client's pages.
func (c *Client) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /favicon.ico", noPicture)
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		render(w, http.StatusOK, "client-home.html", clientPage{Client: c})
	})
	mux.HandleFunc("GET /sign-in", func(w http.ResponseWriter, r *http.Request) {
		location, err := c.Request()
		if err != nil {
			c.refuse(w, err)
			return
		}
		http.Redirect(w, r, location, http.StatusFound)
	})
	mux.HandleFunc("GET /answer", func(w http.ResponseWriter, r *http.Request) { c.answered(w, r.URL.Query()) })
	mux.HandleFunc("POST /answer", func(w http.ResponseWriter, r *http.Request) {
		r.Body = http.MaxBytesReader(w, r.Body, 1<<20)
		if err := r.ParseForm(); err != nil {
			c.refuse(w, err)
			return
		}
		c.answered(w, r.PostForm)
	})
	mux.HandleFunc("GET /signed-out", func(w http.ResponseWriter, _ *http.Request) {
		render(w, http.StatusOK, "client-home.html", clientPage{Client: c, SignedOut: true})
	})
	mux.HandleFunc("POST /logout", func(w http.ResponseWriter, r *http.Request) {
		r.Body = http.MaxBytesReader(w, r.Body, 64<<10)
		if err := c.loggedOut(r.FormValue("logout_token")); err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
		}
	})
	return mux
}

type clientPage struct {
	*Client
	Got       *Got
	Refusal   string
	SignedOut bool
	SignOut   string
}

func (c *Client) refuse(w http.ResponseWriter, err error) {
	render(w, http.StatusForbidden, "application-refusal.html", clientPage{Client: c, Refusal: err.Error()})
}

func (c *Client) http() *http.Client {
	return &http.Client{Transport: c.Transport, Timeout: 15 * time.Second}
}

func (c *Client) get(address, bearer string, to any) error {
	r, err := http.NewRequest(http.MethodGet, address, nil)
	if err != nil {
		return err
	}
	if bearer != "" {
		r.Header.Set("Authorization", "Bearer "+bearer)
	}
	return c.do(r, to)
}

func (c *Client) do(r *http.Request, to any) error {
	answer, err := c.http().Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	body, err := io.ReadAll(io.LimitReader(answer.Body, 1<<20))
	if err != nil {
		return err
	}
	if answer.StatusCode != http.StatusOK {
		return fmt.Errorf("%s answers %s: %s", r.URL.Path, answer.Status, body)
	}
	return json.Unmarshal(body, to)
}

// discovered is what the client takes from the provider's discovery document.
type discovered struct {
	Issuer        string `json:"issuer"`
	Authorization string `json:"authorization_endpoint"`
	Token         string `json:"token_endpoint"`
	UserInfo      string `json:"userinfo_endpoint"`
	Keys          string `json:"jwks_uri"`
	EndSession    string `json:"end_session_endpoint"`
}

func (c *Client) discover() (*discovered, error) {
	var d discovered
	if err := c.get(c.Issuer+"/.well-known/openid-configuration", "", &d); err != nil {
		return nil, err
	}
	if d.Issuer != c.Issuer {
		return nil, fmt.Errorf("the discovery document names the issuer %q", d.Issuer)
	}
	return &d, nil
}

// Request makes the address at which a sign-in begins.
func (c *Client) Request() (string, error) {
	d, err := c.discover()
	if err != nil {
		return "", err
	}
	state, s := rand(), sent{rand() + rand(), rand(), c.RedirectURI()}
	sum := sha256.Sum256([]byte(s.verifier))
	q := url.Values{
		"response_type":         {"code"},
		"client_id":             {c.ID},
		"redirect_uri":          {s.redirect},
		"scope":                 {strings.Join(c.Scopes, " ")},
		"state":                 {state},
		"nonce":                 {s.nonce},
		"code_challenge":        {base64.RawURLEncoding.EncodeToString(sum[:])},
		"code_challenge_method": {"S256"},
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for name, values := range c.Ask {
		q[name] = values
	}
	if len(c.sent) > 20000 {
		c.sent = map[string]sent{}
	}
	c.sent[state] = s
	return d.Authorization + "?" + q.Encode(), nil
}

func (c *Client) answered(w http.ResponseWriter, q url.Values) {
	got, err := c.Redeem(q)
	if err != nil {
		c.refuse(w, err)
		return
	}
	page := clientPage{Client: c, Got: got}
	if d, err := c.discover(); err == nil && !c.Tool {
		page.SignOut = d.EndSession + "?" + url.Values{
			"id_token_hint":            {got.IDToken},
			"post_logout_redirect_uri": {c.Base + "/signed-out"},
		}.Encode()
	}
	render(w, http.StatusOK, "client-received.html", page)
}

// Redeem checks an answer and exchanges its code.
func (c *Client) Redeem(q url.Values) (*Got, error) {
	c.mu.Lock()
	s, known := c.sent[q.Get("state")]
	delete(c.sent, q.Get("state"))
	c.mu.Unlock()
	switch {
	case !known:
		return nil, errors.New("this answer belongs to no request of ours")
	case q.Get("iss") != c.Issuer:
		return nil, fmt.Errorf("another provider answers: %q", q.Get("iss"))
	case q.Get("error") != "":
		return nil, fmt.Errorf("the provider answered %s: %s", q.Get("error"), q.Get("error_description"))
	}
	if c.leavesCodes() {
		return nil, errors.New("we have a code, and can't reach the token endpoint")
	}
	d, err := c.discover()
	if err != nil {
		return nil, err
	}
	var tokens struct {
		Access  string `json:"access_token"`
		ID      string `json:"id_token"`
		Refresh string `json:"refresh_token"`
		Type    string `json:"token_type"`
	}
	if err := c.post(d.Token, url.Values{"grant_type": {"authorization_code"}, "code": {q.Get("code")}, "redirect_uri": {s.redirect},
		"code_verifier": {s.verifier}}, &tokens); err != nil {
		return nil, err
	}
	if tokens.Type != "Bearer" {
		return nil, errors.New("the access token is no bearer token")
	}
	got := &Got{IDToken: tokens.ID, AccessToken: tokens.Access, RefreshToken: tokens.Refresh, Refresh: tokens.Refresh != ""}
	var alg string
	if got.Claims, alg, err = c.check(d, tokens.ID, "JWT"); err != nil {
		return nil, err
	}
	if got.Claims["nonce"] != s.nonce {
		return nil, errors.New("the ID token was made for another request")
	}
	short, long := sha256.Sum256([]byte(tokens.Access)), sha512.Sum512([]byte(tokens.Access))
	half := short[:16]
	if alg == "EdDSA" {
		half = long[:32]
	}
	if got.Claims["at_hash"] != base64.RawURLEncoding.EncodeToString(half) {
		return nil, errors.New("the access token is not the ID token's")
	}
	got.Subject, _ = got.Claims["sub"].(string)
	got.SessionID, _ = got.Claims["sid"].(string)
	if err := c.get(d.UserInfo, tokens.Access, &got.UserInfo); err != nil {
		return nil, err
	}
	if got.UserInfo["sub"] != got.Subject {
		return nil, errors.New("UserInfo is about somebody else")
	}
	for _, name := range slices.Sorted(maps.Keys(got.UserInfo)) {
		got.Rows = append(got.Rows, [2]string{name, fmt.Sprint(got.UserInfo[name])})
	}
	return got, c.Recorder.KeepJSON("tokens-at-"+slug(c.Name)+".json", map[string]any{"id_token": got.Claims, "userinfo": got.UserInfo})
}

// post sends a form with the client's proof.
func (c *Client) post(address string, form url.Values, to any) error {
	if c.Secret == "" {
		form.Set("client_id", c.ID)
	}
	r, err := http.NewRequest(http.MethodPost, address, strings.NewReader(form.Encode()))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	if c.Secret != "" {
		r.SetBasicAuth(url.QueryEscape(c.ID), url.QueryEscape(c.Secret))
	}
	return c.do(r, to)
}

// check verifies a token with the provider's key set and this client's own rules.
func (c *Client) check(d *discovered, token, typ string) (content map[string]any, alg string, err error) {
	var set jose.JSONWebKeySet
	if err := c.get(d.Keys, "", &set); err != nil {
		return nil, "", err
	}
	parsed, err := jose.ParseSignedCompact(token, []jose.SignatureAlgorithm{jose.RS256, jose.ES256, jose.PS256, jose.EdDSA})
	if err != nil {
		return nil, "", fmt.Errorf("the token can't be read: %w", err)
	}
	header := parsed.Signatures[0].Header
	if header.ExtraHeaders[jose.HeaderType] != typ {
		return nil, "", fmt.Errorf("the token is of the type %v", header.ExtraHeaders[jose.HeaderType])
	}
	found := set.Key(header.KeyID)
	if len(found) != 1 {
		return nil, "", fmt.Errorf("the key %q is not in the key set", header.KeyID)
	}
	body, err := parsed.Verify(found[0])
	if err != nil {
		return nil, "", errors.New("the token's signature is wrong")
	}
	var claims map[string]any
	if err := json.Unmarshal(body, &claims); err != nil {
		return nil, "", err
	}
	end, _ := claims["exp"].(float64)
	switch {
	case claims["iss"] != c.Issuer:
		return nil, "", fmt.Errorf("the issuer is %v", claims["iss"])
	case claims["aud"] != c.ID:
		return nil, "", fmt.Errorf("the audience is %v", claims["aud"])
	case !c.Now().Before(time.Unix(int64(end), 0)):
		return nil, "", errors.New("the token is over")
	}
	return claims, header.Algorithm, nil
}

// loggedOut takes a logout token.
func (c *Client) loggedOut(token string) error {
	d, err := c.discover()
	if err != nil {
		return err
	}
	claims, _, err := c.check(d, token, "logout+jwt")
	if err != nil {
		return err
	}
	if _, has := claims["nonce"]; has || claims["events"] == nil {
		return errors.New("this is not a logout token")
	}
	session, _ := claims["sid"].(string)
	c.mu.Lock()
	c.loggedBy = append(c.loggedBy, session)
	c.mu.Unlock()
	return nil
}

// LoggedOut lists the sessions that the client was told have ended.
func (c *Client) LoggedOut() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.Clone(c.loggedBy)
}
