package standin

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	jose "github.com/go-jose/go-jose/v4"
)

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
		sendJSON(
			w,
			http.StatusOK,
			map[string]string{"error": "bad_verification_code", "error_description": "The code is incorrect or expired."},
		)
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
		sendJSON(
			w,
			http.StatusBadRequest,
			map[string]string{"error": "invalid_grant", "error_description": "the code_verifier does not fit"},
		)
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
	content := map[string]any{
		"iss":       p.Base,
		"sub":       g.person.ID,
		"aud":       c.ID,
		"iat":       now.Unix(),
		"exp":       now.Add(5 * time.Minute).Unix(),
		"nonce":     g.query.Get("nonce"),
		"auth_time": g.at.Unix(),
		"at_hash":   base64.RawURLEncoding.EncodeToString(sum[:16]),
		"sid":       "session-of-" + g.person.ID,
	}
	if wanted := strings.Fields(g.query.Get("acr_values")); len(wanted) > 0 && wanted[0] != "harbour-gold" && p.saysContexts() {
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
		return base64.RawURLEncoding.EncodeToString(
			[]byte(`{"alg":"none","typ":"JWT"}`),
		) + "." + base64.RawURLEncoding.EncodeToString(
			body,
		) + ".", err
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
	person := findPerson(p.People, id)
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
		sendJSON(
			w,
			http.StatusOK,
			[]map[string]any{
				{"address": "old-" + fmt.Sprint(person.Claims["email"]), "main": false, "confirmed": true},
				{"address": person.Claims["email"], "main": true, "confirmed": true},
			},
		)
	}
}

// LogoutToken makes a token that tells a client that a person's session here has ended.
func (p *OpenID) LogoutToken(client, person string) (string, error) {
	signer, err := jose.NewSigner(
		jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: p.key, KeyID: p.kid}},
		(&jose.SignerOptions{}).WithType("logout+jwt"),
	)
	if err != nil {
		return "", err
	}
	body, err := json.Marshal(map[string]any{
		"iss":    p.Base,
		"aud":    client,
		"iat":    p.Now().Unix(),
		"exp":    p.Now().Add(time.Minute).Unix(),
		"jti":    rand(),
		"sid":    "session-of-" + person,
		"events": map[string]any{"http://schemas.openid.net/event/backchannel-logout": map[string]any{}},
	})
	if err != nil {
		return "", err
	}
	signed, err := signer.Sign(body)
	if err != nil {
		return "", err
	}
	return signed.CompactSerialize()
}

// IDTokenFor makes an ID token outside of a sign-in, as somebody would paste it who has it from elsewhere.
func (p *OpenID) IDTokenFor(client, person string) (string, error) {
	who := findPerson(p.People, person)
	if who == nil {
		return "", fmt.Errorf("there is no person %q", person)
	}
	return p.idToken(&grant{person: who, query: url.Values{"nonce": {rand()}}, at: p.Now()}, &Registered{ID: client}, rand(), "")
}
