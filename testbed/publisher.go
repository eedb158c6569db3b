package testbed

import (
	"crypto/sha256"
	"crypto/x509"
	"fmt"
	"net/http"
	"net/http/httptest"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/xmlsig"
)

// Pair is a key of a partner's with its certificate.
type Pair struct {
	Signer *xmlsig.Signer
	Cert   *x509.Certificate
}

// NewPair makes one.
func NewPair(t testing.TB, name string) Pair {
	t.Helper()
	k, err := keys.Generate(keys.P256)
	require.NoError(t, err)
	der, err := keys.SelfSigned(k, name, time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC), 365*24*time.Hour)
	require.NoError(t, err)
	cert, err := keys.ParseCertificate(der)
	require.NoError(t, err)
	return Pair{&xmlsig.Signer{Key: k}, cert}
}

// Publisher is a partner that publishes its metadata.
type Publisher struct {
	*httptest.Server
	mu     sync.Mutex
	body   string
	status int
	Asked  atomic.Int64
	Unseen atomic.Int64 // conditional requests that were answered by 304
}

// NewPublisher starts one that publishes nothing yet.
func NewPublisher(t testing.TB) *Publisher {
	p := &Publisher{}
	p.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p.Asked.Add(1)
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.status != 0 {
			w.WriteHeader(p.status)
			return
		}
		tag := fmt.Sprintf(`"%x"`, sha256.Sum256([]byte(p.body)))
		w.Header().Set("ETag", tag)
		if r.Header.Get("If-None-Match") == tag {
			p.Unseen.Add(1)
			w.WriteHeader(http.StatusNotModified)
			return
		}
		w.Write([]byte(p.body))
	}))
	t.Cleanup(p.Close)
	return p
}

// Publish says what is answered from now on: a text, or a status of its own.
func (p *Publisher) Publish(body string, status int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.body, p.status = body, status
}

// IDP is an identity provider as its metadata describes it. A negative validity is one that is over.
type IDP struct {
	ID     string
	SSO    string
	Certs  []*x509.Certificate
	Valid  time.Duration
	Signer *xmlsig.Signer
}

// Document is its metadata.
func (i IDP) Document(t testing.TB, now time.Time) string {
	t.Helper()
	role := saml.Role{
		Kind:        saml.RoleIDP,
		DisplayName: "Ferry idp",
		Endpoints:   []saml.Endpoint{{Service: saml.ServiceSSO, Binding: saml.BindingPost, Location: i.SSO}},
	}
	for _, c := range i.Certs {
		role.Keys = append(role.Keys, saml.KeyDescriptor{Use: "signing", Certificate: c})
	}
	if i.Valid < 0 {
		now, i.Valid = now.Add(2*i.Valid), -i.Valid
	}
	doc, err := saml.WriteMetadata(saml.Entity{EntityID: i.ID, Roles: []saml.Role{role}}, i.Valid, now, i.Signer)
	require.NoError(t, err)
	return string(doc)
}
