package standin

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	crand "crypto/rand"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	jose "github.com/go-jose/go-jose/v4"
)

// OpenIDMistakes that a stand-in OpenID provider can be told to make, with what they are in words.
var OpenIDMistakes = []struct{ Name, Words string }{
	{"", "none"},
	{
		"issuer",
		"names another issuer in the ID token",
	}, {"answer-issuer", "names another issuer in the answer"}, {"no-answer-issuer", "names no issuer in the answer"},
	{"audience", "makes the ID token for another client"},
	{
		"several",
		"makes the ID token for several clients without azp",
	}, {"nonce", "sends another nonce"}, {"state", "sends another state"}, {"wrong-key", "signs with a key that it does not publish"},
	{"unsigned", "signs with none"}, {"secret-signed", "signs with its public key as a secret"},
	{
		"critical",
		"demands an extension",
	}, {"expired", "its clock is an hour behind"}, {"early", "its clock is an hour ahead"},
	{"old-session", "uses a session from yesterday"}, {"no-auth-time", "does not say when the person signed in"},
	{
		"no-id-token",
		"gives no ID token",
	}, {"access-as-id", "gives an access token as ID token"}, {"at-hash", "sends another at_hash"},
	{"token-in-answer", "sends a token by way of the browser"}, {"userinfo-subject", "tells in UserInfo about somebody else"},
	{
		"denied",
		"answers access_denied",
	}, {"error-in-200", "answers an error with the status 200"}, {"html", "its token endpoint answers with a page"},
	{"content-type", "its token endpoint says that JSON is a picture"}, {"down", "its token endpoint fails"},
	{
		"slow",
		"its token endpoint never answers",
	}, {"huge", "gives an ID token of a megabyte"}, {"many-keys", "publishes 1,000 keys"},
	{"changing-keys", "publishes other keys at every request"}, {"no-keys", "its key set can't be fetched"},
	{
		"client-expired",
		"says that the client's secret has expired",
	}, {"client-testers", "lets only testers in"}, {"client-inactive", "says that the client is switched off"},
}

// Registered is a client as a stand-in OpenID provider holds it.
type Registered struct {
	ID, Secret   string
	SecretID     string // stands beside the secret, and is none
	RedirectURIs []string
	Method       string // client_secret_basic (empty), client_secret_post, private_key_jwt or none
	KeysURL      string // of the client, for private_key_jwt
}

// OpenID is a simulated OpenID provider; with Plain set it knows only OAuth 2.0: no discovery, no ID token, two
// addresses that tell about a person.
type OpenID struct {
	Name, Base string
	Plain      bool
	People     []Person
	Clients    []Registered
	Now        func() time.Time
	Recorder   *Recorder

	mu    sync.Mutex
	key   *ecdsa.PrivateKey
	kid   string
	rogue *ecdsa.PrivateKey
	desk[url.Values]
	codes    map[string]*grant
	access   map[string]string // access token → person
	mistake  string
	contexts bool // says acr
	names    bool // itself in its answers, though it is a plain one
	requests int
	// assertions are the IDs of those that were used.
	assertions map[string]bool
	done       chan struct{}
}

type grant struct {
	query  url.Values
	person *Person
	at     time.Time
	used   bool
}

// NewOpenID makes one with keys of its own.
func NewOpenID(name, base string, people []Person) (*OpenID, error) {
	p := &OpenID{
		Name:   name,
		Base:   base,
		People: people,
		Now:    time.Now,
		codes:  map[string]*grant{},
		access: map[string]string{},
		kid:    "key-1",
		done:   make(chan struct{}),
	}
	var err error
	if p.key, err = ecdsa.GenerateKey(elliptic.P256(), crand.Reader); err != nil {
		return nil, err
	}
	p.rogue, err = ecdsa.GenerateKey(elliptic.P256(), crand.Reader)
	return p, err
}

// Close lets go of requests that were never answered.
func (p *OpenID) Close() { close(p.done) }

// SetMistake tells the provider which mistake to make from now on; empty for none.
func (p *OpenID) SetMistake(name string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.mistake = name
}

func (p *OpenID) mistaken() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.mistake
}

// ChangeKey signs with a new key at once, without having announced it.
func (p *OpenID) ChangeKey() error {
	k, err := ecdsa.GenerateKey(elliptic.P256(), crand.Reader)
	if err != nil {
		return err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.key, p.kid = k, "key-"+rand()[:6]
	return nil
}

// SetSecret replaces a client's secret.
func (p *OpenID) SetSecret(client, secret string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for i := range p.Clients {
		if p.Clients[i].ID == client {
			p.Clients[i].Secret = secret
		}
	}
}

// Requests is how many requests came to the token endpoint.
func (p *OpenID) Requests() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.requests
}

// Handler serves the provider's pages and endpoints.
func (p *OpenID) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /favicon.ico", noPicture)
	if !p.Plain {
		mux.HandleFunc("GET /.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
			sendJSON(w, http.StatusOK, map[string]any{
				"issuer": p.Base, "authorization_endpoint": p.Base + "/authorize", "token_endpoint": p.Base + "/token",
				"userinfo_endpoint": p.Base + "/userinfo", "jwks_uri": p.Base + "/keys", "end_session_endpoint": p.Base + "/logout",
				"response_types_supported": []string{
					"code",
				}, "subject_types_supported": []string{"public"}, "id_token_signing_alg_values_supported": []string{"ES256"},
				"scopes_supported": []string{"openid", "profile", "email"},
				"token_endpoint_auth_methods_supported": []string{
					"client_secret_basic",
					"client_secret_post",
				}, "code_challenge_methods_supported": []string{"S256"}, "authorization_response_iss_parameter_supported": true,
			})
		})
		mux.HandleFunc("GET /keys", p.keys)
		mux.HandleFunc("GET /logout", p.logout)
		mux.HandleFunc("GET /userinfo", p.userInfo)
	} else {
		mux.HandleFunc("GET /profile", p.profile)
		mux.HandleFunc("GET /mail", p.mail)
	}
	mux.HandleFunc("GET /authorize", p.authorize)
	mux.HandleFunc("POST /sign-in", p.signIn)
	mux.HandleFunc("POST /token", p.token)
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		render(w, http.StatusOK, "openid-home.html", openidPage{OpenID: p, Mistakes: OpenIDMistakes, Chosen: p.mistaken()})
	})
	mux.HandleFunc("POST /mistake", func(w http.ResponseWriter, r *http.Request) {
		p.SetMistake(r.FormValue("mistake"))
		http.Redirect(w, r, "/", http.StatusSeeOther)
	})
	mux.HandleFunc("POST /key", func(w http.ResponseWriter, r *http.Request) {
		if err := p.ChangeKey(); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		http.Redirect(w, r, "/", http.StatusSeeOther)
	})
	return mux
}

type openidPage struct {
	*OpenID
	Handle, Refusal, Chosen string
	Mistakes                []struct{ Name, Words string }
}

func sendJSON(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(v)
}

func (p *OpenID) keys(w http.ResponseWriter, _ *http.Request) {
	set := jose.JSONWebKeySet{}
	add := func(k crypto.PublicKey, id string) {
		set.Keys = append(set.Keys, jose.JSONWebKey{Key: k, KeyID: id, Use: "sig", Algorithm: "ES256"})
	}
	p.mu.Lock()
	mistake, key, kid := p.mistake, p.key, p.kid
	p.mu.Unlock()
	switch mistake {
	case "no-keys":
		http.Error(w, "closed for the winter", http.StatusServiceUnavailable)
		return
	case "many-keys":
		for i := range 1000 {
			add(key.Public(), fmt.Sprintf("key-%d", i+1))
		}
	case "changing-keys":
		other, err := ecdsa.GenerateKey(elliptic.P256(), crand.Reader)
		if err != nil {
			return
		}
		add(other.Public(), rand())
	default:
		add(key.Public(), kid)
	}
	sendJSON(w, http.StatusOK, set)
}

func (p *OpenID) client(id string) *Registered {
	p.mu.Lock()
	defer p.mu.Unlock()
	for i := range p.Clients {
		if p.Clients[i].ID == id {
			c := p.Clients[i]
			return &c
		}
	}
	return nil
}

func (p *OpenID) refuse(w http.ResponseWriter, why string) {
	render(w, http.StatusBadRequest, "provider-refusal.html", openidPage{OpenID: p, Refusal: why})
}

func (p *OpenID) authorize(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	if err := p.Recorder.Keep("authorization-request-to-"+slug(p.Name)+".txt", []byte(r.URL.String())); err != nil {
		p.refuse(w, err.Error())
		return
	}
	c := p.client(q.Get("client_id"))
	switch {
	case c == nil:
		p.refuse(w, fmt.Sprintf("The client %q is not registered.", q.Get("client_id")))
		return
	case !slices.Contains(c.RedirectURIs, q.Get("redirect_uri")):
		p.refuse(w, fmt.Sprintf("The redirect URI %q is not registered.", q.Get("redirect_uri")))
		return
	case q.Get("response_type") != "code":
		p.reply(w, r, q, url.Values{"error": {"unsupported_response_type"}})
		return
	case q.Get("code_challenge_method") != "S256" || len(q.Get("code_challenge")) != 43:
		p.reply(w, r, q, url.Values{"error": {"invalid_request"}, "error_description": {"PKCE with S256 is required"}})
		return
	case !p.Plain && !slices.Contains(strings.Fields(q.Get("scope")), "openid"):
		p.reply(w, r, q, url.Values{"error": {"invalid_scope"}})
		return
	case p.mistaken() == "denied":
		p.reply(w, r, q, url.Values{"error": {"access_denied"}, "error_description": {"not on the list"}})
		return
	}
	old := p.desk.known(r, p.Base)
	prompt := strings.Fields(q.Get("prompt"))
	person := findPerson(p.People, old.person)
	tooOld := false
	if age, err := strconv.Atoi(q.Get("max_age")); err == nil {
		tooOld = p.Now().Sub(old.at) > time.Duration(age)*time.Second
	}
	ask := slices.Contains(prompt, "login") || slices.Contains(prompt, "select_account") || tooOld
	if person != nil && (!ask || p.mistaken() == "old-session") {
		p.give(w, r, q, person, old.at)
		return
	}
	if slices.Contains(prompt, "none") {
		p.reply(w, r, q, url.Values{"error": {"login_required"}})
		return
	}
	render(w, http.StatusOK, "provider-sign-in.html", openidPage{OpenID: p, Handle: p.desk.wait(q)})
}

func slug(name string) string { return strings.ReplaceAll(strings.ToLower(name), " ", "-") }

func (p *OpenID) signIn(w http.ResponseWriter, r *http.Request) {
	q, ok := p.desk.take(r.FormValue("handle"))
	person := findPerson(p.People, r.FormValue("person"))
	if !ok || person == nil {
		p.refuse(w, "This sign-in page is no longer good. Start again at the application.")
		return
	}
	p.desk.remember(w, p.Base, person, p.Now())
	p.give(w, r, q, person, p.Now())
}

func (p *OpenID) give(w http.ResponseWriter, r *http.Request, q url.Values, person *Person, at time.Time) {
	if p.mistaken() == "old-session" {
		at = p.Now().Add(-24 * time.Hour)
	}
	code := rand()
	p.mu.Lock()
	if len(p.codes) > 20000 {
		p.codes = map[string]*grant{}
	}
	p.codes[code] = &grant{query: q, person: person, at: at}
	p.mu.Unlock()
	answer := url.Values{"code": {code}}
	if p.mistaken() == "token-in-answer" {
		answer.Set("id_token", "eyJ.eyJ.x")
	}
	p.reply(w, r, q, answer)
}

// reply sends an answer to the client's redirect URI.
func (p *OpenID) reply(w http.ResponseWriter, r *http.Request, q, answer url.Values) {
	answer.Set("state", q.Get("state"))
	if p.namesIssuer() {
		answer.Set("iss", p.Base)
	}
	switch p.mistaken() {
	case "state":
		answer.Set("state", "another")
	case "answer-issuer":
		answer.Set("iss", "https://other.example")
	case "no-answer-issuer":
		answer.Del("iss")
	}
	if q.Get("response_mode") == "form_post" {
		var fields [][2]string
		for name := range answer {
			fields = append(fields, [2]string{name, answer.Get(name)})
		}
		render(
			w,
			http.StatusOK,
			"form-post.html",
			map[string]any{"Who": "Simulated provider for demonstration", "Action": q.Get("redirect_uri"), "Fields": fields},
		)
		return
	}
	http.Redirect(w, r, q.Get("redirect_uri")+"?"+answer.Encode(), http.StatusFound)
}

// logout is the end session endpoint.
func (p *OpenID) logout(w http.ResponseWriter, r *http.Request) {
	p.desk.leave(r, p.Base)
	back := r.URL.Query().Get("post_logout_redirect_uri")
	c := p.client(r.URL.Query().Get("client_id"))
	if c == nil || len(c.RedirectURIs) == 0 || back != c.RedirectURIs[0]+"/signed-out" {
		p.refuse(w, "You are signed out. The way back is not registered.")
		return
	}
	http.Redirect(w, r, back+"?"+url.Values{"state": {r.URL.Query().Get("state")}}.Encode(), http.StatusFound)
}
