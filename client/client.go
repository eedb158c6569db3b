// Package client is the typed client of the management API. The command line and the tests use it. Errors that the
// service explains are *api.Problem.
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/config"
	"innergate/core/explain"
)

// Client talks to one gate.
type Client struct {
	URL   string // public URL, without a trailing slash
	Token string
	HTTP  *http.Client
}

// New makes a client.
func New(address, token string) *Client {
	return &Client{URL: strings.TrimSuffix(address, "/"), Token: token, HTTP: &http.Client{Timeout: 60 * time.Second}}
}

// UnreachableError is a gate that does not answer.
type UnreachableError struct {
	URL string
	Err error
}

func (e *UnreachableError) Error() string {
	return fmt.Sprintf("Inner Gate does not answer at %s: %v", e.URL, e.Err)
}

func (e *UnreachableError) Unwrap() error { return e.Err }

// Do makes one call below /api/v1. In is sent as JSON unless nil, or as it is where it is a []byte; out, unless nil,
// takes the answer: a *[]byte or an io.Writer gets it as it is.
func (c *Client) Do(ctx context.Context, method, path string, in, out any) error {
	var body io.Reader
	kind := "application/json"
	if raw, ok := in.([]byte); ok {
		body, kind = bytes.NewReader(raw), "application/octet-stream"
	} else if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(b)
	}
	r, err := http.NewRequestWithContext(ctx, method, c.URL+"/api/v1"+path, body)
	if err != nil {
		return err
	}
	if in != nil {
		r.Header.Set("Content-Type", kind)
	}
	if c.Token != "" {
		r.Header.Set("Authorization", "Bearer "+c.Token)
	}
	answer, err := c.HTTP.Do(r)
	if err != nil {
		var wrapped *url.Error
		if errors.As(err, &wrapped) {
			err = wrapped.Err
		}
		return &UnreachableError{c.URL, err}
	}
	defer answer.Body.Close()
	if w, ok := out.(io.Writer); ok && answer.StatusCode < 300 {
		if _, err := io.Copy(w, answer.Body); err != nil {
			return &UnreachableError{c.URL, err}
		}
		return nil
	}
	data, err := io.ReadAll(io.LimitReader(answer.Body, 64<<20))
	if err != nil {
		return &UnreachableError{c.URL, err}
	}
	if answer.StatusCode >= 300 {
		p := &api.Problem{}
		if json.Unmarshal(data, p) != nil || p.Title == "" {
			return &api.Problem{
				Title:  answer.Status,
				Status: answer.StatusCode,
				Code:   "http",
				Detail: fmt.Sprintf("%s answered with the status %s; is it an Inner Gate?", c.URL, answer.Status),
			}
		}
		return p
	}
	switch v := out.(type) {
	case nil:
		return nil
	case *[]byte:
		*v = data
		return nil
	}
	return json.Unmarshal(data, out)
}

func do[T any](ctx context.Context, c *Client, method, path string, in any) (*T, error) {
	out := new(T)
	return out, c.Do(ctx, method, path, in, out)
}

// Page asks for part of a list.
type Page struct {
	Search, Sort, After string
	Limit               int
	// Filters are further query values that the list knows.
	Filters map[string]string
}

func (p Page) query() string {
	q := url.Values{}
	for k, v := range map[string]string{"search": p.Search, "sort": p.Sort, "after": p.After} {
		if v != "" {
			q.Set(k, v)
		}
	}
	if p.Limit > 0 {
		q.Set("limit", strconv.Itoa(p.Limit))
	}
	for k, v := range p.Filters {
		if v != "" {
			q.Set(k, v)
		}
	}
	if len(q) == 0 {
		return ""
	}
	return "?" + q.Encode()
}

func at(parts ...string) string {
	var b strings.Builder
	for _, p := range parts {
		b.WriteString("/" + url.PathEscape(p))
	}
	return b.String()
}

// Me tells who is asking.
func (c *Client) Me(ctx context.Context) (*api.Me, error) {
	return do[api.Me](ctx, c, http.MethodGet, "/session", nil)
}

// Overview is the first page.
func (c *Client) Overview(ctx context.Context) (*api.Overview, error) {
	return do[api.Overview](ctx, c, http.MethodGet, "/overview", nil)
}

// Applications lists a page.
func (c *Client) Applications(ctx context.Context, p Page) (*api.List[api.Application], error) {
	return do[api.List[api.Application]](ctx, c, http.MethodGet, "/applications"+p.query(), nil)
}

// Application shows one.
func (c *Client) Application(ctx context.Context, slug string) (*api.Application, error) {
	return do[api.Application](ctx, c, http.MethodGet, at("applications", slug), nil)
}

// AddApplication adds one.
func (c *Client) AddApplication(ctx context.Context, a config.Application) (*api.Application, error) {
	return do[api.Application](ctx, c, http.MethodPost, "/applications", a)
}

// PutApplication replaces one's configuration, if it still has the revision (0: whatever it has).
func (c *Client) PutApplication(ctx context.Context, a config.Application, revision int) (*api.Application, error) {
	return do[api.Application](ctx, c, http.MethodPut, at("applications", a.Slug)+revisionQuery(revision), a)
}

func revisionQuery(n int) string {
	if n == 0 {
		return ""
	}
	return "?revision=" + strconv.Itoa(n)
}

// Providers lists a page.
func (c *Client) Providers(ctx context.Context, p Page) (*api.List[api.Provider], error) {
	return do[api.List[api.Provider]](ctx, c, http.MethodGet, "/providers"+p.query(), nil)
}

// Provider shows one.
func (c *Client) Provider(ctx context.Context, slug string) (*api.Provider, error) {
	return do[api.Provider](ctx, c, http.MethodGet, at("providers", slug), nil)
}

// AddProvider adds one.
func (c *Client) AddProvider(ctx context.Context, p config.Provider) (*api.Provider, error) {
	return do[api.Provider](ctx, c, http.MethodPost, "/providers", p)
}

// PutProvider replaces one's configuration.
func (c *Client) PutProvider(ctx context.Context, p config.Provider, revision int) (*api.Provider, error) {
	return do[api.Provider](ctx, c, http.MethodPut, at("providers", p.Slug)+revisionQuery(revision), p)
}

// Delete removes an application or provider (kind applications or providers).
func (c *Client) Delete(ctx context.Context, kind, slug string) error {
	return c.Do(ctx, http.MethodDelete, at(kind, slug), nil, nil)
}

// SetReach sets the reach of an application or provider.
func (c *Client) SetReach(ctx context.Context, kind, slug string, reach access.Reach) error {
	return c.Do(ctx, http.MethodPost, at(kind, slug, "reach", string(reach)), nil, nil)
}

// Understand shows what a document would make; slug is empty for something new, kind is application or provider.
func (c *Client) Understand(ctx context.Context, kind, slug string, in api.TakeIn) (*api.Understood, error) {
	path := at("understand", kind)
	if slug != "" {
		path = at(kind+"s", slug, "understand")
	}
	return do[api.Understood](ctx, c, http.MethodPost, path, in)
}

// TakeApplication takes the other side's metadata.
func (c *Client) TakeApplication(ctx context.Context, slug string, in api.TakeIn) (*api.Application, error) {
	return do[api.Application](ctx, c, http.MethodPost, at("applications", slug, "take"), in)
}

// TakeProvider takes the other side's metadata.
func (c *Client) TakeProvider(ctx context.Context, slug string, in api.TakeIn) (*api.Provider, error) {
	return do[api.Provider](ctx, c, http.MethodPost, at("providers", slug, "take"), in)
}

// NewRehearsal orders a rehearsal.
func (c *Client) NewRehearsal(ctx context.Context, n api.NewRehearsal) (*api.Rehearsal, error) {
	return do[api.Rehearsal](ctx, c, http.MethodPost, "/rehearsals", n)
}

// Rehearsal shows one with its traces.
func (c *Client) Rehearsal(ctx context.Context, id string) (*api.Rehearsal, error) {
	return do[api.Rehearsal](ctx, c, http.MethodGet, at("rehearsals", id), nil)
}

// Traces lists a page, the newest first.
func (c *Client) Traces(ctx context.Context, p Page) (*api.List[api.TraceSummary], error) {
	return do[api.List[api.TraceSummary]](ctx, c, http.MethodGet, "/traces"+p.query(), nil)
}

// Trace shows a whole record.
func (c *Client) Trace(ctx context.Context, reference string) (*api.Trace, error) {
	return do[api.Trace](ctx, c, http.MethodGet, at("traces", reference), nil)
}

// Compare compares two values to the letter.
func (c *Client) Compare(ctx context.Context, ours, theirs string) (*explain.Difference, error) {
	return do[explain.Difference](ctx, c, http.MethodPost, "/compare", api.Compare{Ours: ours, Theirs: theirs})
}

// Journal lists a page, the newest first.
func (c *Client) Journal(ctx context.Context, p Page) (*api.List[api.JournalEntry], error) {
	return do[api.List[api.JournalEntry]](ctx, c, http.MethodGet, "/journal"+p.query(), nil)
}

// Tokens lists API tokens.
func (c *Client) Tokens(ctx context.Context) (*api.List[api.Token], error) {
	return do[api.List[api.Token]](ctx, c, http.MethodGet, "/tokens", nil)
}

// NewToken makes one.
func (c *Client) NewToken(ctx context.Context, n api.NewToken) (*api.Token, error) {
	return do[api.Token](ctx, c, http.MethodPost, "/tokens", n)
}

// RevokeToken takes one back.
func (c *Client) RevokeToken(ctx context.Context, id string) error {
	return c.Do(ctx, http.MethodDelete, at("tokens", id), nil, nil)
}

// SetupNeeded says whether the first administrator is missing.
func (c *Client) SetupNeeded(ctx context.Context) (bool, error) {
	var out struct {
		Needed bool `json:"needed"`
	}
	err := c.Do(ctx, http.MethodGet, "/set-up", nil, &out)
	return out.Needed, err
}

// SetUp makes the first administrator.
func (c *Client) SetUp(ctx context.Context, s api.Setup) error {
	return c.Do(ctx, http.MethodPost, "/set-up", s, nil)
}

// CompareTraces lays two traces side by side; without the second, the newest good sign-in before the first is taken.
func (c *Client) CompareTraces(ctx context.Context, one, other string) (*api.TraceComparison, error) {
	path := "/traces/" + url.PathEscape(one) + "/compare"
	if other != "" {
		path += "?with=" + url.QueryEscape(other)
	}
	return do[api.TraceComparison](ctx, c, "GET", path, nil)
}

// Statistics counts the sign-ins of the last days. Filters are application and provider.
func (c *Client) Statistics(ctx context.Context, days int, filters map[string]string) (*api.Statistics, error) {
	q := url.Values{"days": {strconv.Itoa(days)}}
	for name, value := range filters {
		if value != "" {
			q.Set(name, value)
		}
	}
	return do[api.Statistics](ctx, c, "GET", "/statistics?"+q.Encode(), nil)
}

// TraceRetention is how long traces are kept.
func (c *Client) TraceRetention(ctx context.Context) (*api.TraceRetention, error) {
	return do[api.TraceRetention](ctx, c, "GET", "/trace-retention", nil)
}

// SetTraceRetention says how long.
func (c *Client) SetTraceRetention(ctx context.Context, in api.TraceRetention) (*api.TraceRetention, error) {
	return do[api.TraceRetention](ctx, c, "PUT", "/trace-retention", in)
}

// FollowRehearsal calls a function with what comes to a rehearsal's trace, as it comes, until its sign-in has ended or
// the function returns an error.
func (c *Client) FollowRehearsal(ctx context.Context, id string, each func(api.FollowedTrace) error) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, c.URL+"/api/v1/rehearsals/"+url.PathEscape(id)+"/events", nil)
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+c.Token)
	patient := *c.HTTP
	patient.Timeout = 0
	answer, err := patient.Do(r)
	if err != nil {
		return &UnreachableError{c.URL, err}
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		p := &api.Problem{}
		if json.NewDecoder(io.LimitReader(answer.Body, 1<<20)).Decode(p) != nil || p.Title == "" {
			return &api.Problem{
				Title:  answer.Status,
				Status: answer.StatusCode,
				Code:   "http",
				Detail: c.URL + " answered with the status " + answer.Status + ".",
			}
		}
		return p
	}
	lines := bufio.NewScanner(answer.Body)
	lines.Buffer(nil, 16<<20)
	name := ""
	for lines.Scan() {
		if rest, ok := strings.CutPrefix(lines.Text(), "event: "); ok {
			name = rest
		}
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		switch {
		case !ok:
		case name == "end":
			return nil
		case name == "trace":
			var t api.FollowedTrace
			if err := json.Unmarshal([]byte(data), &t); err != nil {
				return err
			}
			if err := each(t); err != nil {
				return err
			}
		}
	}
	if err := lines.Err(); err != nil {
		return &UnreachableError{c.URL, err}
	}
	return &UnreachableError{c.URL, io.ErrUnexpectedEOF}
}

// Bundle tells what a bundle for support would hold.
func (c *Client) Bundle(ctx context.Context, q api.BundleQuestion) (*api.Bundle, error) {
	return do[api.Bundle](ctx, c, "POST", "/bundles", q)
}

// BundleFile is a bundle as one HTML file.
func (c *Client) BundleFile(ctx context.Context, q api.BundleQuestion) ([]byte, error) {
	var out []byte
	err := c.Do(ctx, "POST", "/bundles/file", q, &out)
	return out, err
}

// Judge tells what would become of a SAML response.
func (c *Client) Judge(ctx context.Context, q api.Judge) (*api.Judged, error) {
	return do[api.Judged](ctx, c, "POST", "/judge", q)
}

// RefusedThere tells what to compare where the application refused what it was sent in a sign-in, and what its message means.
func (c *Client) RefusedThere(ctx context.Context, reference, message string) (*api.RefusedThere, error) {
	path := "/traces/" + url.PathEscape(reference) + "/refused-there"
	if message != "" {
		path += "?message=" + url.QueryEscape(message)
	}
	return do[api.RefusedThere](ctx, c, "GET", path, nil)
}
