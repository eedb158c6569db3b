package nodes

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"sync/atomic"
)

// configs are those with which a node listens to others, and calls them. Both sides show a certificate of the same authority that
// was not taken back.
func (i *Identity) configs() (listen, dial *tls.Config) {
	pool := x509.NewCertPool()
	pool.AddCert(i.Authority)
	listen = &tls.Config{
		MinVersion: tls.VersionTLS13,
		GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
			return i.certificate.Load(), nil
		},
		ClientCAs:        pool,
		ClientAuth:       tls.RequireAndVerifyClientCert,
		VerifyConnection: i.verify,
	}
	dial = &tls.Config{
		MinVersion: tls.VersionTLS13,
		GetClientCertificate: func(*tls.CertificateRequestInfo) (*tls.Certificate, error) {
			return i.certificate.Load(), nil
		},
		RootCAs:            pool,
		ServerName:         nodeName,
		VerifyConnection:   i.verify,
		ClientSessionCache: &i.sessions,
	}
	return listen, dial
}

// sessions are those that may be resumed, of this certificate: others would show the one before.
type sessions struct {
	of atomic.Pointer[tls.ClientSessionCache]
}

// Get is for the library.
func (s *sessions) Get(key string) (*tls.ClientSessionState, bool) {
	if of := s.of.Load(); of != nil {
		return (*of).Get(key)
	}
	return nil, false
}

// Put is for the library.
func (s *sessions) Put(key string, state *tls.ClientSessionState) {
	if of := s.of.Load(); of != nil {
		(*of).Put(key, state)
	}
}

// forget begins anew.
func (s *sessions) forget() {
	fresh := tls.NewLRUClientSessionCache(64)
	s.of.Store(&fresh)
}

// verify refuses a certificate that was taken back; the library has verified it otherwise.
func (i *Identity) verify(c tls.ConnectionState) error {
	set := i.withdrawn.Load()
	if set == nil || len(c.PeerCertificates) == 0 {
		return nil
	}
	if serial := SerialOf(c.PeerCertificates[0]); (*set)[serial] {
		return fmt.Errorf("the certificate %s is no node's any more", serial)
	}
	return nil
}
