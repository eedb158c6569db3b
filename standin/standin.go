// Package standin holds small simulated providers and applications for the demo, the tests and rehearsals. They are
// honest peers: they have their own keys, check what they get with their own code, and refuse what is wrong. Each page
// says plainly that it is simulated. A provider can be told to make mistakes.
package standin

import (
	"crypto"
	"crypto/x509"
	"embed"
	"encoding/json"
	"fmt"
	"html/template"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"time"

	"innergate/core/keys"
)

//go:embed pages
var files embed.FS

var pages = template.Must(template.ParseFS(files, "pages/*.html"))

// Recorder keeps every message that a stand-in sends or receives as a file, once the binding's own encoding is undone.
type Recorder struct {
	Folder string
	mu     sync.Mutex
	n      int
}

// Keep writes one message. On nil it does nothing.
func (r *Recorder) Keep(name string, data []byte) error {
	if r == nil || r.Folder == "" {
		return nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.n++
	return os.WriteFile(filepath.Join(r.Folder, fmt.Sprintf("%02d-%s", r.n, name)), data, 0o600)
}

// KeepJSON writes a value as JSON.
func (r *Recorder) KeepJSON(name string, v any) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return r.Keep(name, append(data, '\n'))
}

type keyPair struct {
	key  crypto.Signer
	cert *x509.Certificate
}

func newKeyPair(source keys.Source, name string, now time.Time, life time.Duration) (keyPair, error) {
	key, err := source.Make(keys.RSA2048)
	if err != nil {
		return keyPair{}, err
	}
	der, err := keys.SelfSigned(key, name, now, life)
	if err != nil {
		return keyPair{}, err
	}
	cert, err := x509.ParseCertificate(der)
	return keyPair{key, cert}, err
}

func render(w http.ResponseWriter, status int, name string, data any) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	// A broken page shows in the page itself; there is nobody else to tell.
	if err := pages.ExecuteTemplate(w, name, data); err != nil {
		fmt.Fprintf(w, "<p>page failed: %s</p>", template.HTMLEscapeString(err.Error()))
	}
}

// noPicture answers a browser that looks for the site's picture, so that nothing is missing where people look for mistakes.
func noPicture(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) }
