package standin

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"sync"
	"time"
)

// Sender pushes the people of a simulated provider to a service provider over SCIM 2.0 (RFC 7644), with the habits of many senders: it
// looks somebody up before it makes them, changes what it changes by PATCH, and writes its operations with a capital.
type Sender struct {
	// Base is the address of the service, Token what proves who it is.
	Base, Token string
	HTTP        *http.Client

	mu    sync.Mutex
	known map[string]string // userName or the group's name → identifier there
}

// NewSender makes one.
func NewSender(base, token string) *Sender {
	return &Sender{Base: base, Token: token, HTTP: &http.Client{Timeout: 20 * time.Second}, known: map[string]string{}}
}

// Push has somebody be there as they are here: userName and whatever else values hold.
func (s *Sender) Push(ctx context.Context, values map[string]any) error {
	name := textOf(values, "userName")
	id, err := s.find(ctx, "/Users", "userName", name)
	if err != nil {
		return err
	}
	values["schemas"] = []string{"urn:ietf:params:scim:schemas:core:2.0:User"}
	if id == "" {
		return s.make(ctx, "/Users", name, values)
	}
	delete(values, "schemas")
	return s.patch(ctx, "/Users/"+url.PathEscape(id), map[string]any{"op": "Replace", "value": values})
}

// SetActive says that somebody is active or not, as a text.
func (s *Sender) SetActive(ctx context.Context, userName string, active bool) error {
	id, err := s.find(ctx, "/Users", "userName", userName)
	if err != nil {
		return err
	}
	if id == "" {
		return fmt.Errorf("%s is not there", userName)
	}
	text := map[bool]string{true: "True", false: "False"}[active]
	return s.patch(ctx, "/Users/"+url.PathEscape(id), map[string]any{"op": "Replace", "path": "active", "value": text})
}

// PushGroup has a group be there with those members, by userName.
func (s *Sender) PushGroup(ctx context.Context, name string, members []string) error {
	var list []any
	for _, m := range members {
		id, err := s.find(ctx, "/Users", "userName", m)
		if err != nil {
			return err
		}
		list = append(list, map[string]any{"value": id})
	}
	id, err := s.find(ctx, "/Groups", "displayName", name)
	if err != nil {
		return err
	}
	if id == "" {
		return s.make(ctx, "/Groups", name, map[string]any{"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:Group"},
			"displayName": name, "members": list})
	}
	return s.patch(ctx, "/Groups/"+url.PathEscape(id), map[string]any{"op": "Replace", "path": "members", "value": list})
}

// find looks for a resource by its name; empty where there is none.
func (s *Sender) find(ctx context.Context, kind, attribute, name string) (string, error) {
	s.mu.Lock()
	id := s.known[kind+name]
	s.mu.Unlock()
	if id != "" {
		return id, nil
	}
	quoted, _ := json.Marshal(name) // a text
	var list struct {
		Resources []struct {
			ID string `json:"id"`
		} `json:"Resources"`
	}
	if err := s.ask(ctx, http.MethodGet, kind+"?filter="+url.QueryEscape(attribute+" eq "+string(quoted)), nil, &list); err != nil {
		return "", err
	}
	if len(list.Resources) == 0 {
		return "", nil
	}
	s.remember(kind+name, list.Resources[0].ID)
	return list.Resources[0].ID, nil
}

func (s *Sender) remember(key, id string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.known[key] = id
}

func (s *Sender) make(ctx context.Context, kind, name string, values map[string]any) error {
	var made struct {
		ID string `json:"id"`
	}
	if err := s.ask(ctx, http.MethodPost, kind, values, &made); err != nil {
		return err
	}
	s.remember(kind+name, made.ID)
	return nil
}

func (s *Sender) patch(ctx context.Context, path string, operation map[string]any) error {
	return s.ask(ctx, http.MethodPatch, path, map[string]any{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:PatchOp"},
		"Operations": []any{operation}}, nil)
}

// ask makes a request, and takes its answer into what is given.
func (s *Sender) ask(ctx context.Context, method, path string, body, into any) error {
	var data []byte
	if body != nil {
		var err error
		if data, err = json.Marshal(body); err != nil {
			return err
		}
	}
	request, err := http.NewRequestWithContext(ctx, method, s.Base+path, bytes.NewReader(data))
	if err != nil {
		return err
	}
	request.Header.Set("Authorization", "Bearer "+s.Token)
	request.Header.Set("Content-Type", "application/scim+json")
	answer, err := s.HTTP.Do(request)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, 4<<20))
	if err != nil {
		return err
	}
	if answer.StatusCode >= 300 {
		return fmt.Errorf("%s %s: %s: %s", method, path, answer.Status, text)
	}
	if into == nil || len(text) == 0 {
		return nil
	}
	return json.Unmarshal(text, into)
}
