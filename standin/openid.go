package standin

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	crand "crypto/rand"
	"crypto/sha256"
	"encoding/base64"
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
	{"issuer", "names another issuer in the ID token"}, {"answer-issuer", "names another issuer in the answer"}, {"no-answer-issuer", "names no issuer in the answer"}, {"audience", "makes the ID token for another client"},
	{"several", "makes the ID token for several clients without azp"}, {"nonce", "sends another nonce"}, {"state", "sends another state"}, {"wrong-key", "signs with a key that it does not publish"}, {"unsigned", "signs with none"}, {"secret-signed", "signs with its public key as a secret"},
	{"critical", "demands an extension"}, {"expired", "its clock is an hour behind"}, {"early", "its clock is an hour ahead"}, {"old-session", "uses a session from yesterday"}, {"no-auth-time", "does not say when the person signed in"},
	{"no-id-token", "gives no ID token"}, {"access-as-id", "gives an access token as ID token"}, {"at-hash", "sends another at_hash"}, {"token-in-answer", "sends a token by way of the browser"}, {"userinfo-subject", "tells in UserInfo about somebody else"},
	{"denied", "answers access_denied"}, {"error-in-200", "answers an error with the status 200"}, {"html", "its token endpoint answers with a page"}, {"content-type", "its token endpoint says that JSON is a picture"}, {"down", "its token endpoint fails"},
	{"slow", "its token endpoint never answers"}, {"huge", "gives an ID token of a megabyte"}, {"many-keys", "publishes 1,000 keys"}, {"changing-keys", "publishes other keys at every request"}, {"no-keys", "its key set can't be fetched"},
	{"client-expired", "says that the client's secret has expired"}, {"client-testers", "lets only testers in"}, {"client-inactive", "says that the client is switched off"},
}

// Registered is a client as a stand-in OpenID provider holds it.
type Registered struct {
	ID, Secret   string
	SecretID     string // stands beside the secret, and is none
	RedirectURIs []string
	Method       string // client_secret_basic (empty), client_secret_post, private_key_jwt or none
	KeysURL      string // of the client, for private_key_jwt
}

// OpenID is a simulated OpenID provider; with Plain set it knows only OAuth 2.0: no discovery, no ID token, two addresses that tell about a person.
type OpenID struct {
	Name, Base string
	Plain      bool
	People     []Person
	Clients    []Registered
	Now        func() time.Time
	Recorder   *Recorder

	mu       sync.Mutex
	key      *ecdsa.PrivateKey
	kid      string
	rogue    *ecdsa.PrivateKey
	asked    map[string]url.Values
	codes    map[string]*grant
	access   map[string]string // access token → person
	sessions map[string]session
	mistake  string
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
	p := &OpenID{Name: name, Base: base, People: people, Now: time.Now, asked: map[string]url.Values{}, codes: map[string]*grant{}, access: map[string]string{}, sessions: map[string]session{}, kid: "key-1", done: make(chan struct{})}
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

// Forget ends all sessions at the provider.
func (p *OpenID) Forget() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.sessions = map[string]session{}
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
	if !p.Plain {
		mux.HandleFunc("GET /.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
			sendJSON(w, http.StatusOK, map[string]any{
				"issuer": p.Base, "authorization_endpoint": p.Base + "/authorize", "token_endpoint": p.Base + "/token", "userinfo_endpoint": p.Base + "/userinfo", "jwks_uri": p.Base + "/keys", "end_session_endpoint": p.Base + "/logout",
				"response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"}, "id_token_signing_alg_values_supported": []string{"ES256"}, "scopes_supported": []string{"openid", "profile", "email"},
				"token_endpoint_auth_methods_supported": []string{"client_secret_basic", "client_secret_post"}, "code_challenge_methods_supported": []string{"S256"}, "authorization_response_iss_parameter_supported": true,
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
	p.mu.Lock()
	var old session
	if cookie, err := r.Cookie("standin-openid-" + port(p.Base)); err == nil {
		old = p.sessions[cookie.Value]
	}
	p.mu.Unlock()
	prompt := strings.Fields(q.Get("prompt"))
	person := p.find(old.person)
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
	handle := rand()
	p.mu.Lock()
	if len(p.asked) > 10000 {
		p.asked = map[string]url.Values{}
	}
	p.asked[handle] = q
	p.mu.Unlock()
	render(w, http.StatusOK, "provider-sign-in.html", openidPage{OpenID: p, Handle: handle})
}

func port(base string) string {
	if u, err := url.Parse(base); err == nil {
		return u.Port()
	}
	return ""
}

func slug(name string) string { return strings.ReplaceAll(strings.ToLower(name), " ", "-") }

func (p *OpenID) find(id string) *Person {
	for i := range p.People {
		if p.People[i].ID == id {
			return &p.People[i]
		}
	}
	return nil
}

func (p *OpenID) signIn(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	q := p.asked[r.FormValue("handle")]
	delete(p.asked, r.FormValue("handle"))
	p.mu.Unlock()
	person := p.find(r.FormValue("person"))
	if q == nil || person == nil {
		p.refuse(w, "This sign-in page is no longer good. Start again at the application.")
		return
	}
	id := rand()
	p.mu.Lock()
	if len(p.sessions) > 10000 {
		p.sessions = map[string]session{}
	}
	p.sessions[id] = session{person.ID, p.Now()}
	p.mu.Unlock()
	http.SetCookie(w, &http.Cookie{Name: "standin-openid-" + port(p.Base), Value: id, Path: "/", HttpOnly: true, Secure: strings.HasPrefix(p.Base, "https:"), SameSite: http.SameSiteLaxMode})
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
	if !p.Plain {
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
		render(w, http.StatusOK, "form-post.html", map[string]any{"Who": "Simulated provider for demonstration", "Action": q.Get("redirect_uri"), "Fields": fields})
		return
	}
	http.Redirect(w, r, q.Get("redirect_uri")+"?"+answer.Encode(), http.StatusFound)
}

// proves checks a client's proof as this provider's own code sees it, and says why not.
func (p *OpenID) proves(r *http.Request) (c *Registered, why string) {
	id, secret := r.PostFormValue("client_id"), r.PostFormValue("client_secret")
	method := "client_secret_post"
	if user, pass, ok := r.BasicAuth(); ok {
		method = "client_secret_basic"
		id, _ = url.QueryUnescape(user)
		secret, _ = url.QueryUnescape(pass)
	}
	if r.PostFormValue("client_assertion") != "" {
		return p.provesByKey(r.PostFormValue("client_assertion"))
	}
	c = p.client(id)
	wanted := "client_secret_basic"
	if c != nil && c.Method == "none" && secret == "" {
		return c, ""
	}
	switch {
	case c == nil:
		return nil, "unknown client"
	case c.Method != "":
		wanted = c.Method
	}
	switch p.mistaken() {
	case "client-expired":
		return nil, "the client secret has expired"
	case "client-testers":
		return nil, "the client is in testing and limited to test users"
	case "client-inactive":
		return nil, "the client is disabled"
	}
	switch {
	case method != wanted:
		return nil, "the client's authentication method is another one"
	case c.SecretID != "" && secret == c.SecretID:
		return nil, "the key number was sent as the secret value; the key text is wanted"
	case secret != c.Secret:
		return nil, ""
	}
	return c, ""
}

// provesByKey checks a client's assertion with the key set that it publishes (RFC 7523, section 3).
func (p *OpenID) provesByKey(assertion string) (*Registered, string) {
	parsed, err := jose.ParseSignedCompact(assertion, []jose.SignatureAlgorithm{jose.ES256, jose.RS256, jose.EdDSA})
	if err != nil {
		return nil, "the assertion can't be read"
	}
	var said struct {
		Iss, Sub, Aud, Jti string
		Exp                int64
	}
	if err := json.Unmarshal(parsed.UnsafePayloadWithoutVerification(), &said); err != nil {
		return nil, "the assertion can't be read"
	}
	c := p.client(said.Sub)
	if c == nil || c.Method != "private_key_jwt" {
		return nil, "the client's authentication method is another one"
	}
	answer, err := http.Get(c.KeysURL)
	if err != nil {
		return nil, "the client's keys can't be fetched"
	}
	defer answer.Body.Close()
	var set jose.JSONWebKeySet
	if err := json.NewDecoder(answer.Body).Decode(&set); err != nil {
		return nil, "the client's keys can't be read"
	}
	keys := set.Key(parsed.Signatures[0].Header.KeyID)
	if len(keys) != 1 {
		return nil, "the key is not in the client's key set"
	}
	if _, err := parsed.Verify(keys[0]); err != nil {
		return nil, "the assertion's signature is wrong"
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if said.Iss != said.Sub || said.Aud != p.Base || said.Jti == "" || p.assertions[said.Jti] || !p.Now().Before(time.Unix(said.Exp, 0)) {
		return nil, "the assertion is not for us, not in time, or was used before"
	}
	if p.assertions == nil || len(p.assertions) > 20000 {
		p.assertions = map[string]bool{}
	}
	p.assertions[said.Jti] = true
	return c, ""
}

func (p *OpenID) token(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 1<<20)
	p.mu.Lock()
	p.requests++
	p.mu.Unlock()
	mistake := p.mistaken()
	switch mistake {
	case "html":
		render(w, http.StatusOK, "provider-refusal.html", openidPage{OpenID: p, Refusal: "This page is for people."})
		return
	case "down":
		http.Error(w, "closed for the winter", http.StatusServiceUnavailable)
		return
	case "slow":
		select {
		case <-r.Context().Done():
		case <-p.done:
		}
		return
	case "error-in-200":
		sendJSON(w, http.StatusOK, map[string]string{"error": "bad_verification_code", "error_description": "The code is incorrect or expired."})
		return
	}
	c, why := p.proves(r)
	if c == nil || why != "" {
		refusal := map[string]string{"error": "invalid_client"}
		if why != "" {
			refusal["error_description"] = why
		}
		sendJSON(w, http.StatusUnauthorized, refusal)
		return
	}
	p.mu.Lock()
	g := p.codes[r.PostFormValue("code")]
	again := g != nil && g.used
	if g != nil {
		g.used = true
	}
	p.mu.Unlock()
	sum := sha256.Sum256([]byte(r.PostFormValue("code_verifier")))
	switch {
	case r.PostFormValue("grant_type") != "authorization_code":
		sendJSON(w, http.StatusBadRequest, map[string]string{"error": "unsupported_grant_type"})
		return
	case g == nil || again || g.query.Get("client_id") != c.ID:
		sendJSON(w, http.StatusBadRequest, map[string]string{"error": "invalid_grant", "error_description": "the code is not good"})
		return
	case g.query.Get("redirect_uri") != r.PostFormValue("redirect_uri"):
		sendJSON(w, http.StatusBadRequest, map[string]string{"error": "invalid_grant", "error_description": "another redirect_uri"})
		return
	case g.query.Get("code_challenge") != base64.RawURLEncoding.EncodeToString(sum[:]):
		sendJSON(w, http.StatusBadRequest, map[string]string{"error": "invalid_grant", "error_description": "the code_verifier does not fit"})
		return
	}
	access := rand() + rand()
	p.mu.Lock()
	if len(p.access) > 20000 {
		p.access = map[string]string{}
	}
	p.access[access] = g.person.ID
	p.mu.Unlock()
	out := map[string]any{"access_token": access, "token_type": "Bearer", "expires_in": 300, "scope": g.query.Get("scope")}
	if !p.Plain && mistake != "no-id-token" {
		token, err := p.idToken(g, c, access, mistake)
		if err != nil {
			sendJSON(w, http.StatusInternalServerError, map[string]string{"error": "server_error"})
			return
		}
		out["id_token"] = token
	}
	if mistake == "content-type" {
		w.Header().Set("Content-Type", "image/png")
		w.WriteHeader(http.StatusOK)
		w.Write([]byte("\x89PNG"))
		return
	}
	sendJSON(w, http.StatusOK, out)
}

func (p *OpenID) idToken(g *grant, c *Registered, access, mistake string) (string, error) {
	now := p.Now()
	switch mistake {
	case "expired":
		now = now.Add(-time.Hour)
	case "early":
		now = now.Add(time.Hour)
	}
	sum := sha256.Sum256([]byte(access))
	content := map[string]any{"iss": p.Base, "sub": g.person.ID, "aud": c.ID, "iat": now.Unix(), "exp": now.Add(5 * time.Minute).Unix(), "nonce": g.query.Get("nonce"), "auth_time": g.at.Unix(), "at_hash": base64.RawURLEncoding.EncodeToString(sum[:16]), "sid": "session-of-" + g.person.ID}
	if wanted := strings.Fields(g.query.Get("acr_values")); len(wanted) > 0 && wanted[0] != "harbour-gold" {
		content["acr"] = wanted[0]
	}
	switch mistake {
	case "issuer":
		content["iss"] = "https://other.example"
	case "audience":
		content["aud"] = "another-client"
	case "several":
		content["aud"] = []string{c.ID, "another-client"}
	case "nonce":
		content["nonce"] = "another"
	case "no-auth-time":
		delete(content, "auth_time")
	case "at-hash":
		content["at_hash"] = "AAAAAAAAAAAAAAAAAAAAAA"
	case "huge":
		content["padding"] = strings.Repeat("x", 1<<20)
	}
	p.mu.Lock()
	key, kid := p.key, p.kid
	p.mu.Unlock()
	signing := jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: key, KeyID: kid}}
	options := (&jose.SignerOptions{}).WithType("JWT")
	switch mistake {
	case "wrong-key":
		signing.Key = jose.JSONWebKey{Key: p.rogue, KeyID: kid}
	case "access-as-id":
		options = (&jose.SignerOptions{}).WithType("at+jwt")
	case "critical":
		options = options.WithHeader("crit", []string{"tide"}).WithHeader("tide", "high")
	case "unsigned":
		body, err := json.Marshal(content)
		return base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none","typ":"JWT"}`)) + "." + base64.RawURLEncoding.EncodeToString(body) + ".", err
	case "secret-signed":
		public, err := json.Marshal(jose.JSONWebKey{Key: key.Public(), KeyID: kid})
		if err != nil {
			return "", err
		}
		signing = jose.SigningKey{Algorithm: jose.HS256, Key: jose.JSONWebKey{Key: public, KeyID: kid}}
	}
	signer, err := jose.NewSigner(signing, options)
	if err != nil {
		return "", err
	}
	body, err := json.Marshal(content)
	if err != nil {
		return "", err
	}
	signed, err := signer.Sign(body)
	if err != nil {
		return "", err
	}
	return signed.CompactSerialize()
}

// bearer finds the person of an access token.
func (p *OpenID) bearer(w http.ResponseWriter, r *http.Request) *Person {
	p.mu.Lock()
	id := p.access[strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")]
	p.mu.Unlock()
	person := p.find(id)
	if person == nil {
		w.Header().Set("WWW-Authenticate", `Bearer error="invalid_token"`)
		sendJSON(w, http.StatusUnauthorized, map[string]string{"error": "invalid_token"})
	}
	return person
}

func (p *OpenID) userInfo(w http.ResponseWriter, r *http.Request) {
	person := p.bearer(w, r)
	if person == nil {
		return
	}
	out := map[string]any{"sub": person.ID}
	for name, value := range person.Claims {
		out[name] = value
	}
	if p.mistaken() == "userinfo-subject" {
		out["sub"] = "somebody-else"
	}
	sendJSON(w, http.StatusOK, out)
}

// profile and mail are the two addresses of the provider that knows only OAuth 2.0.
func (p *OpenID) profile(w http.ResponseWriter, r *http.Request) {
	if person := p.bearer(w, r); person != nil {
		sendJSON(w, http.StatusOK, map[string]any{"account": map[string]any{"number": json.Number(person.ID), "label": person.Name}})
	}
}

func (p *OpenID) mail(w http.ResponseWriter, r *http.Request) {
	if person := p.bearer(w, r); person != nil {
		sendJSON(w, http.StatusOK, []map[string]any{{"address": "old-" + fmt.Sprint(person.Claims["email"]), "main": false, "confirmed": true}, {"address": person.Claims["email"], "main": true, "confirmed": true}})
	}
}

// logout is the end session endpoint.
func (p *OpenID) logout(w http.ResponseWriter, r *http.Request) {
	if cookie, err := r.Cookie("standin-openid-" + port(p.Base)); err == nil {
		p.mu.Lock()
		delete(p.sessions, cookie.Value)
		p.mu.Unlock()
	}
	back := r.URL.Query().Get("post_logout_redirect_uri")
	c := p.client(r.URL.Query().Get("client_id"))
	if c == nil || len(c.RedirectURIs) == 0 || back != c.RedirectURIs[0]+"/signed-out" {
		p.refuse(w, "You are signed out. The way back is not registered.")
		return
	}
	http.Redirect(w, r, back+"?"+url.Values{"state": {r.URL.Query().Get("state")}}.Encode(), http.StatusFound)
}

// LogoutToken makes a token that tells a client that a person's session here has ended.
func (p *OpenID) LogoutToken(client, person string) (string, error) {
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: p.key, KeyID: p.kid}}, (&jose.SignerOptions{}).WithType("logout+jwt"))
	if err != nil {
		return "", err
	}
	body, err := json.Marshal(map[string]any{"iss": p.Base, "aud": client, "iat": p.Now().Unix(), "exp": p.Now().Add(time.Minute).Unix(), "jti": rand(), "sid": "session-of-" + person, "events": map[string]any{"http://schemas.openid.net/event/backchannel-logout": map[string]any{}}})
	if err != nil {
		return "", err
	}
	signed, err := signer.Sign(body)
	if err != nil {
		return "", err
	}
	return signed.CompactSerialize()
}
