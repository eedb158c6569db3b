package nodes

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"math/big"
	"sync/atomic"
	"time"
)

const (
	// nodeName is the name in every node's certificate: which of them it is, its address tells.
	nodeName = "nodes.innergate.internal"
	// authorityYears and identityYears are how long certificates are good.
	authorityYears = 20
	identityYears  = 2
)

// Authority signs the certificates with which nodes know each other. It is one for all nodes, and known to nobody else.
type Authority struct {
	Certificate *x509.Certificate
	Key         *ecdsa.PrivateKey
}

// Identity is a node's own certificate, with its key, and the authority that it believes. The certificate may be renewed while
// it is used, and others may be taken back.
type Identity struct {
	Authority   *x509.Certificate
	certificate atomic.Pointer[tls.Certificate]
	withdrawn   atomic.Pointer[map[string]bool]
	sessions    sessions
}

// IdentityOf is a node's identity with a certificate that is there already.
func IdentityOf(pair tls.Certificate, believed *x509.Certificate) *Identity {
	i := &Identity{Authority: believed}
	i.Use(pair)
	return i
}

// Certificate is the node's own, as others see it.
func (i *Identity) Certificate() (*x509.Certificate, error) {
	return x509.ParseCertificate(i.certificate.Load().Certificate[0])
}

// Use takes another certificate from now on. Connections that are open stay open.
func (i *Identity) Use(pair tls.Certificate) {
	i.certificate.Store(&pair)
	i.sessions.forget()
}

// Withdraw says which certificates, by serial number, are good no more.
func (i *Identity) Withdraw(serials []string) {
	set := make(map[string]bool, len(serials))
	for _, s := range serials {
		set[s] = true
	}
	i.withdrawn.Store(&set)
}

// SerialOf is the number by which a certificate is known.
func SerialOf(c *x509.Certificate) string { return c.SerialNumber.Text(16) }

func serial() (*big.Int, error) { return rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120)) }

// NewAuthority makes one.
func NewAuthority(now time.Time) (*Authority, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	number, err := serial()
	if err != nil {
		return nil, err
	}
	form := &x509.Certificate{
		SerialNumber:          number,
		Subject:               pkix.Name{CommonName: "Inner Gate nodes"},
		NotBefore:             now.Add(-time.Hour),
		NotAfter:              now.AddDate(authorityYears, 0, 0),
		IsCA:                  true,
		BasicConstraintsValid: true,
		MaxPathLenZero:        true,
		KeyUsage:              x509.KeyUsageCertSign,
	}
	der, err := x509.CreateCertificate(rand.Reader, form, form, key.Public(), key)
	if err != nil {
		return nil, err
	}
	c, err := x509.ParseCertificate(der)
	return &Authority{c, key}, err
}

// Sign makes the certificate of a node with a public key.
func (a *Authority) Sign(public *ecdsa.PublicKey, now time.Time) ([]byte, error) {
	number, err := serial()
	if err != nil {
		return nil, err
	}
	form := &x509.Certificate{
		SerialNumber: number,
		Subject:      pkix.Name{CommonName: "Inner Gate node"},
		DNSNames:     []string{nodeName},
		NotBefore:    now.Add(-time.Hour),
		NotAfter:     now.AddDate(identityYears, 0, 0),
		KeyUsage:     x509.KeyUsageDigitalSignature,
		ExtKeyUsage:  []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth},
	}
	return x509.CreateCertificate(rand.Reader, form, a.Certificate, public, a.Key)
}

// Renewed makes another key and certificate for the same node.
func (i *Identity) Renewed(a *Authority, now time.Time) (*tls.Certificate, error) {
	fresh, err := a.NewIdentity(now)
	if err != nil {
		return nil, err
	}
	pair := fresh.certificate.Load()
	pair.Leaf, err = fresh.Certificate()
	return pair, err
}

// NewIdentity makes a key and has it signed.
func (a *Authority) NewIdentity(now time.Time) (*Identity, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	der, err := a.Sign(&key.PublicKey, now)
	if err != nil {
		return nil, err
	}
	return IdentityOf(tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, a.Certificate), nil
}
