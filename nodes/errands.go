package nodes

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"strconv"
	"time"
)

// An errand is what one node asks another that is not among the records: what it is, and what it keeps itself, such as traces.
// They go over HTTP and the nodes' own TLS, to an address of their own, since the engine has the other to itself.

const (
	// mostAsked and mostAnswered are how many octets a question and an answer may have.
	mostAsked    = 1 << 20
	mostAnswered = 64 << 20
	errandLimit  = 10 * time.Second
)

// Errand answers a question of another node.
type Errand func(ctx context.Context, question json.RawMessage) (any, error)

// ErrandsAddress is where a node is asked, if its folder does not say: at the port behind the one at which the engine is reached.
func (o Options) ErrandsAddress() (string, error) {
	if o.Errands != "" {
		return o.Errands, nil
	}
	host, port, err := net.SplitHostPort(o.Address)
	if err != nil {
		return "", err
	}
	n, err := strconv.Atoi(port)
	if err != nil || n >= 65535 {
		return "", fmt.Errorf("there is no port behind the one of %s at which other nodes could ask this one; name "+
			"it with --errands", o.Address)
	}
	return net.JoinHostPort(host, strconv.Itoa(n+1)), nil
}

// Errands answers the other nodes.
type Errands struct {
	server *http.Server
	known  map[string]Errand
}

// Listen begins to answer what other nodes ask, each question as known says.
func (i *Identity) Listen(address string, known map[string]Errand) (*Errands, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("the other nodes can't ask this one at %s: %w", address, err)
	}
	listen, _ := i.configs()
	e := &Errands{known: known}
	e.server = &http.Server{
		Handler:           e,
		ReadHeaderTimeout: 2 * time.Second,
		ReadTimeout:       errandLimit,
		WriteTimeout:      2 * errandLimit,
		IdleTimeout:       time.Minute,
		MaxHeaderBytes:    8 << 10,
		ErrorLog:          log.New(io.Discard, "", 0), // strangers who have no certificate would fill it
	}
	go e.server.Serve(tls.NewListener(l, listen)) // ends with Close
	return e, nil
}

// Close ends it.
func (e *Errands) Close() error { return e.server.Close() }

// ServeHTTP answers one question.
func (e *Errands) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	do := e.known[r.URL.Path]
	if do == nil || r.Method != http.MethodPost {
		http.Error(w, "This node, of another version, does not know this question.", http.StatusNotFound)
		return
	}
	question, err := io.ReadAll(http.MaxBytesReader(w, r.Body, mostAsked))
	if err != nil {
		http.Error(w, "The question is too long.", http.StatusRequestEntityTooLarge)
		return
	}
	ctx, cancel := context.WithTimeout(r.Context(), errandLimit)
	defer cancel()
	answer, err := do(ctx, question)
	var text []byte
	if err == nil {
		text, err = json.Marshal(answer)
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	_, _ = w.Write(text) // who asked has gone
}

// Caller asks other nodes.
type Caller struct{ client *http.Client }

// Caller makes one.
func (i *Identity) Caller() *Caller {
	_, dial := i.configs()
	return &Caller{&http.Client{
		Timeout:       errandLimit,
		Transport:     &http.Transport{TLSClientConfig: dial, MaxIdleConnsPerHost: 4, IdleConnTimeout: 30 * time.Second},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}
}

// Ask asks a node, and gives its answer.
func (c *Caller) Ask(ctx context.Context, address, name string, question any) (json.RawMessage, error) {
	text, err := json.Marshal(question)
	if err != nil {
		return nil, err
	}
	q, err := http.NewRequestWithContext(ctx, http.MethodPost, "https://"+address+name, bytes.NewReader(text))
	if err != nil {
		return nil, err
	}
	answer, err := c.client.Do(q)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	body, err := io.ReadAll(io.LimitReader(answer.Body, mostAnswered+1))
	switch {
	case err != nil:
		return nil, err
	case len(body) > mostAnswered:
		return nil, errors.New("the answer is too long")
	case answer.StatusCode != http.StatusOK:
		return nil, fmt.Errorf("the node at %s answered: %s", address, bytes.TrimSpace(body[:min(len(body), 500)]))
	}
	return body, nil
}

// Close forgets open connections.
func (c *Caller) Close() { c.client.CloseIdleConnections() }
