package standin

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// AccountMistakes are the mistakes that a simulated application's SCIM side can be told to make, with what they are in words.
var AccountMistakes = []struct{ Name, Words string }{
	{"down", "It answers that it is not ready (503)"},
	{"silent", "It takes the connection and never answers"},
	{"busy", "It takes three requests a second, and asks the others to wait (429)"},
	{"token", "It refuses every token (401)"},
	{"page", "It answers with a page for people"},
	{"fails", "It fails at every change (500)"},
	{"no-filter", "It ignores filters, and answers with whoever it likes"},
	{"other", "It answers changes with another person's account"},
	{"no-patch", "It knows no PATCH, and does not say so"},
	{"forgets", "It takes titles and departments, and does not keep them"},
	{"twice", "It makes an account and loses the answer"},
}

// Accounts is the SCIM side of a simulated application (RFC 7643, RFC 7644), written from the standard by itself: users and groups, a
// few filters, entity tags, PATCH. Everything is in memory.
type Accounts struct {
	// Base is the address of the service, Token what it takes.
	Base, Token string
	Now         func() time.Time

	mu      sync.Mutex
	stores  map[string]*accountStore // Users and Groups
	mistake string
	asked   int // requests so far
	second  time.Time
	since   int
	last    []string // the newest requests, in a line each
}

// accountStore holds the resources of one type, in the order in which they were made.
type accountStore struct {
	kind   string
	byID   map[string]map[string]any
	order  []string
	byName map[string]string // userName or displayName, folded → id
	byOwn  map[string]string // externalId → id
	next   int
}

// NewAccounts makes an empty one.
func NewAccounts(base, token string) *Accounts {
	a := &Accounts{Base: base, Token: token, Now: time.Now, stores: map[string]*accountStore{}}
	for _, kind := range []string{"User", "Group"} {
		a.stores["/"+kind+"s"] = &accountStore{kind: kind, byID: map[string]map[string]any{}, byName: map[string]string{},
			byOwn: map[string]string{}}
	}
	return a
}

// SetMistake has it make one from now on; empty for none.
func (a *Accounts) SetMistake(name string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.mistake = name
}

// Mistake is the one that it makes.
func (a *Accounts) Mistake() string {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.mistake
}

// Asked is how many requests there were.
func (a *Accounts) Asked() int {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.asked
}

// Find finds a user by userName, or a group by displayName: a copy, nil for none.
func (a *Accounts) Find(name string) map[string]any {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, s := range a.stores {
		if id, ok := s.byName[strings.ToLower(name)]; ok {
			return copied(s.byID[id])
		}
	}
	return nil
}

// Count is how many users there are.
func (a *Accounts) Count() int {
	a.mu.Lock()
	defer a.mu.Unlock()
	return len(a.stores["/Users"].byID)
}

// Names are the userNames of all users, in the order in which they were made.
func (a *Accounts) Names() []string {
	a.mu.Lock()
	defer a.mu.Unlock()
	s := a.stores["/Users"]
	var out []string
	for _, id := range s.order {
		if r := s.byID[id]; r != nil {
			out = append(out, textOf(r, "userName"))
		}
	}
	return out
}

// Plant makes or changes a user behind everybody's back, by userName.
func (a *Accounts) Plant(values map[string]any) {
	a.mu.Lock()
	defer a.mu.Unlock()
	s := a.stores["/Users"]
	if id, ok := s.byName[strings.ToLower(textOf(values, "userName"))]; ok {
		held := s.byID[id]
		for name, v := range values {
			held[name] = v
		}
		a.touch(s, held)
		return
	}
	a.insert(s, copied(values))
}

// Drop deletes a user behind everybody's back.
func (a *Accounts) Drop(userName string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	s := a.stores["/Users"]
	if id, ok := s.byName[strings.ToLower(userName)]; ok {
		s.remove(id)
	}
}

func copied(r map[string]any) map[string]any {
	data, _ := json.Marshal(r)
	var out map[string]any
	_ = json.Unmarshal(data, &out) // it was just written
	return out
}

func textOf(r map[string]any, name string) string {
	s, _ := r[name].(string)
	return s
}

func (s *accountStore) nameOf(r map[string]any) string {
	if s.kind == "Group" {
		return strings.ToLower(textOf(r, "displayName"))
	}
	return strings.ToLower(textOf(r, "userName"))
}

// insert gives a resource its identifier and keeps it.
func (a *Accounts) insert(s *accountStore, r map[string]any) map[string]any {
	s.next++
	id := fmt.Sprintf("%s-%06d", strings.ToLower(s.kind[:1]), s.next)
	r["id"] = id
	s.byID[id], s.order = r, append(s.order, id)
	a.touch(s, r)
	return r
}

// touch writes a resource's version and what it is found by.
func (a *Accounts) touch(s *accountStore, r map[string]any) {
	id := textOf(r, "id")
	meta, _ := r["meta"].(map[string]any)
	if meta == nil {
		meta = map[string]any{"resourceType": s.kind, "created": a.Now().UTC().Format(time.RFC3339), "n": 0.0,
			"location": a.Base + "/" + s.kind + "s/" + id}
	}
	n, _ := meta["n"].(float64)
	meta["n"], meta["version"] = n+1, fmt.Sprintf(`W/"%d"`, int(n)+1)
	meta["lastModified"] = a.Now().UTC().Format(time.RFC3339)
	r["meta"] = meta
	for name, held := range s.byName {
		if held == id && name != s.nameOf(r) && len(s.byName) < 1000 {
			delete(s.byName, name)
		}
	}
	s.byName[s.nameOf(r)] = id
	if own := textOf(r, "externalId"); own != "" {
		s.byOwn[own] = id
	}
}

func (s *accountStore) remove(id string) {
	r := s.byID[id]
	delete(s.byName, s.nameOf(r))
	delete(s.byOwn, textOf(r, "externalId"))
	delete(s.byID, id)
	s.order = slices.DeleteFunc(s.order, func(o string) bool { return o == id })
}

// ServeHTTP serves the protocol below the address of the service.
func (a *Accounts) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	a.mu.Lock()
	a.asked++
	mistake := a.mistake
	if a.last = append(a.last, r.Method+" "+r.URL.RequestURI()); len(a.last) > 50 {
		a.last = a.last[1:]
	}
	a.mu.Unlock()
	if a.wrong(w, r, mistake) {
		return
	}
	if r.Header.Get("Authorization") != "Bearer "+a.Token {
		refuseSCIM(w, http.StatusUnauthorized, "", "The token is not known here.")
		return
	}
	base, _ := url.Parse(a.Base)
	path := strings.TrimPrefix(r.URL.Path, base.Path)
	kind, id := path, ""
	if i := strings.IndexByte(strings.TrimPrefix(path, "/"), '/'); i >= 0 {
		kind, id = path[:i+1], path[i+2:]
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	s := a.stores[kind]
	switch {
	case s == nil && r.Method == http.MethodGet:
		a.about(w, path)
	case s == nil:
		refuseSCIM(w, http.StatusNotFound, "", "There is nothing here.")
	case id == "" && r.Method == http.MethodGet:
		a.list(w, r, s)
	case id == "" && r.Method == http.MethodPost:
		a.make(w, r, s)
	default:
		a.single(w, r, s, id)
	}
}

// wrong makes the mistake, if it is one of the answer as a whole.
func (a *Accounts) wrong(w http.ResponseWriter, r *http.Request, mistake string) bool {
	changes := r.Method != http.MethodGet
	switch {
	case mistake == "down":
		refuseSCIM(w, http.StatusServiceUnavailable, "", "Not ready.")
	case mistake == "silent":
		<-r.Context().Done()
	case mistake == "token":
		refuseSCIM(w, http.StatusUnauthorized, "", "The token is over.")
	case mistake == "page":
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprint(w, "<!doctype html><title>Sign in</title><p>Please sign in.")
	case mistake == "fails" && changes:
		refuseSCIM(w, http.StatusInternalServerError, "", "The crane is stuck.")
	case mistake == "no-patch" && r.Method == http.MethodPatch:
		refuseSCIM(w, http.StatusNotImplemented, "", "PATCH is not known here.")
	case mistake == "busy":
		a.mu.Lock()
		now := a.Now()
		if now.Sub(a.second) >= time.Second {
			a.second, a.since = now, 0
		}
		a.since++
		over := a.since > 3
		a.mu.Unlock()
		if !over {
			return false
		}
		w.Header().Set("Retry-After", "1")
		refuseSCIM(w, http.StatusTooManyRequests, "", "Three requests a second are the most.")
	default:
		return false
	}
	return true
}

func refuseSCIM(w http.ResponseWriter, status int, kind, detail string) {
	body := map[string]any{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:Error"}, "status": strconv.Itoa(status),
		"detail": detail}
	if kind != "" {
		body["scimType"] = kind
	}
	answerSCIM(w, status, body)
}

func answerSCIM(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/scim+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body) // whoever asked may have left
}

// about says what the service can do (RFC 7644, section 4).
func (a *Accounts) about(w http.ResponseWriter, path string) {
	yes, no := map[string]any{"supported": true}, map[string]any{"supported": false}
	switch path {
	case "/ServiceProviderConfig":
		answerSCIM(w, http.StatusOK, map[string]any{
			"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"},
			"patch":   yes, "bulk": no, "sort": no, "etag": yes, "changePassword": no,
			"filter":                map[string]any{"supported": true, "maxResults": 100},
			"authenticationSchemes": []any{map[string]any{"type": "oauthbearertoken", "name": "Token", "description": "A bearer token"}},
		})
	case "/ResourceTypes":
		answerSCIM(w, http.StatusOK, listOf([]any{
			map[string]any{"name": "User", "endpoint": "/Users", "schema": "urn:ietf:params:scim:schemas:core:2.0:User",
				"schemaExtensions": []any{
					map[string]any{"schema": "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User", "required": false},
					map[string]any{"schema": cargoSchema, "required": false},
				}},
			map[string]any{"name": "Group", "endpoint": "/Groups", "schema": "urn:ietf:params:scim:schemas:core:2.0:Group"},
		}, 2, 1))
	case "/Schemas":
		answerSCIM(w, http.StatusOK, listOf([]any{map[string]any{"id": cargoSchema, "name": "Cargo", "description": "What the ledger adds",
			"attributes": []any{
				map[string]any{"name": "deck", "type": "integer", "multiValued": false, "description": "The deck of the person's desk"},
				map[string]any{"name": "mayRelease", "type": "boolean", "multiValued": false, "description": "May release cargo"},
			}}}, 1, 1))
	default:
		refuseSCIM(w, http.StatusNotFound, "", "There is nothing here.")
	}
}

// cargoSchema is the application's own schema.
const cargoSchema = "urn:example:cargo-ledger:2.0:User"

func listOf(items []any, total, start int) map[string]any {
	return map[string]any{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:ListResponse"}, "totalResults": total,
		"startIndex": start, "itemsPerPage": len(items), "Resources": items}
}

// resourceShown is a resource as it is answered: some attributes may be left out, and what counts its versions is nobody's business.
func resourceShown(r map[string]any, without string) map[string]any {
	out := copied(r)
	if without != "" {
		delete(out, without)
	}
	if meta, ok := out["meta"].(map[string]any); ok {
		delete(meta, "n")
	}
	return out
}

// list answers a filter of equality, or a page of all.
func (a *Accounts) list(w http.ResponseWriter, r *http.Request, s *accountStore) {
	query := r.URL.Query()
	without := query.Get("excludedAttributes")
	start, err := strconv.Atoi(query.Get("startIndex"))
	if err != nil || start < 1 {
		start = 1
	}
	count, err := strconv.Atoi(query.Get("count"))
	if err != nil || count > 100 || count < 0 {
		count = 100
	}
	found := s.order
	if f := query.Get("filter"); f != "" && a.mistake != "no-filter" {
		name, value, ok := equality(f)
		if !ok {
			refuseSCIM(w, http.StatusBadRequest, "invalidFilter", "Only eq is known here.")
			return
		}
		found = nil
		by := s.byName
		switch strings.ToLower(name) {
		case "externalid":
			by = s.byOwn
		case "username", "displayname":
			value = strings.ToLower(value)
		default:
			refuseSCIM(w, http.StatusBadRequest, "invalidFilter", name+" can't be looked for here.")
			return
		}
		if id, ok := by[value]; ok && s.byID[id] != nil {
			found = []string{id}
		}
	}
	items := []any{}
	for i := start - 1; i < len(found) && len(items) < count; i++ {
		items = append(items, resourceShown(s.byID[found[i]], without))
	}
	answerSCIM(w, http.StatusOK, listOf(items, len(found), start))
}

// equality reads a filter such as userName eq "mira".
func equality(text string) (name, value string, ok bool) {
	name, rest, ok := strings.Cut(text, " eq ")
	if !ok || json.Unmarshal([]byte(rest), &value) != nil {
		return "", "", false
	}
	return name, value, true
}

// make makes a resource (RFC 7644, section 3.3).
func (a *Accounts) make(w http.ResponseWriter, r *http.Request, s *accountStore) {
	var in map[string]any
	if json.NewDecoder(r.Body).Decode(&in) != nil {
		refuseSCIM(w, http.StatusBadRequest, "invalidSyntax", "This is no JSON.")
		return
	}
	if s.nameOf(in) == "" {
		refuseSCIM(w, http.StatusBadRequest, "invalidValue", "A name is needed.")
		return
	}
	if _, taken := s.byName[s.nameOf(in)]; taken {
		refuseSCIM(w, http.StatusConflict, "uniqueness", "There is one of that name already.")
		return
	}
	a.forget(in)
	if s.kind == "User" && in["active"] == nil {
		in["active"] = true
	}
	made := a.insert(s, in)
	if a.mistake == "twice" {
		a.mistake = ""
		panic(http.ErrAbortHandler)
	}
	a.answer(w, http.StatusCreated, s, made)
}

// forget is one of the mistakes: some values are taken and not kept.
func (a *Accounts) forget(r map[string]any) {
	if a.mistake != "forgets" {
		return
	}
	delete(r, "title")
	if e, ok := r["urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"].(map[string]any); ok {
		delete(e, "department")
	}
}

func (a *Accounts) answer(w http.ResponseWriter, status int, s *accountStore, r map[string]any) {
	if a.mistake == "other" && status != http.StatusNoContent {
		for _, id := range s.order {
			if other := s.byID[id]; textOf(other, "id") != textOf(r, "id") {
				r = other
				break
			}
		}
	}
	meta, _ := r["meta"].(map[string]any)
	w.Header().Set("ETag", textOf(meta, "version"))
	answerSCIM(w, status, resourceShown(r, ""))
}

// single reads or changes one resource.
func (a *Accounts) single(w http.ResponseWriter, r *http.Request, s *accountStore, id string) {
	held := s.byID[id]
	if held == nil {
		refuseSCIM(w, http.StatusNotFound, "", "There is none such.")
		return
	}
	if r.Method == http.MethodGet {
		meta, _ := held["meta"].(map[string]any)
		w.Header().Set("ETag", textOf(meta, "version"))
		answerSCIM(w, http.StatusOK, resourceShown(held, r.URL.Query().Get("excludedAttributes")))
		return
	}
	meta, _ := held["meta"].(map[string]any)
	if want := r.Header.Get("If-Match"); want != "" && want != textOf(meta, "version") {
		refuseSCIM(w, http.StatusPreconditionFailed, "", "It was changed meanwhile.")
		return
	}
	switch r.Method {
	case http.MethodDelete:
		s.remove(id)
		w.WriteHeader(http.StatusNoContent)
	case http.MethodPut:
		var in map[string]any
		if json.NewDecoder(r.Body).Decode(&in) != nil || s.nameOf(in) == "" {
			refuseSCIM(w, http.StatusBadRequest, "invalidValue", "A name is needed.")
			return
		}
		a.forget(in)
		in["id"], in["meta"] = id, held["meta"]
		s.byID[id] = in
		a.touch(s, in)
		a.answer(w, http.StatusOK, s, in)
	case http.MethodPatch:
		changed := copied(held)
		if err := patchOf(r, changed); err != "" {
			refuseSCIM(w, http.StatusBadRequest, "invalidPath", err)
			return
		}
		a.forget(changed)
		changed["id"] = id
		s.byID[id] = changed
		a.touch(s, changed)
		a.answer(w, http.StatusOK, s, changed)
	default:
		refuseSCIM(w, http.StatusMethodNotAllowed, "", "This is not done here.")
	}
}
