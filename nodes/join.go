package nodes

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"time"
)

// Invitation is what one machine needs to become a node, once.
type Invitation struct {
	URL    string `json:"u"` // the public address of the gate
	ID     string `json:"i"`
	Secret []byte `json:"s"`
}

// Text is how it is handed over.
func (i Invitation) Text() (string, error) {
	data, err := json.Marshal(i)
	return base64.RawURLEncoding.EncodeToString(data), err
}

// ReadInvitation reads what Text made.
func ReadInvitation(text string) (*Invitation, error) {
	data, err := base64.RawURLEncoding.DecodeString(text)
	i := &Invitation{}
	if err != nil || json.Unmarshal(data, i) != nil || i.URL == "" || i.ID == "" || len(i.Secret) < 32 {
		return nil, errors.New("this is no key for a node; `innergate node invite` prints one at a node that runs")
	}
	return i, nil
}

// NewInvitation makes one.
func NewInvitation(url, id string) (*Invitation, error) {
	i := &Invitation{URL: url, ID: id, Secret: make([]byte, 32)}
	_, err := rand.Read(i.Secret)
	return i, err
}

// Proof shows that somebody knows an invitation's secret, and binds it to what they send.
func Proof(secret []byte, about string, parts ...[]byte) []byte {
	h := hmac.New(sha256.New, secret)
	h.Write([]byte(about))
	for _, p := range parts {
		sum := sha256.Sum256(p)
		h.Write(sum[:])
	}
	return h.Sum(nil)
}

// What proofs are about.
const (
	AboutJoining = "innergate node joins"
	AboutJoined  = "innergate node joined"
)

// CheckAddress refuses what others could not reach.
func CheckAddress(address string) error {
	host, port, err := net.SplitHostPort(address)
	if err != nil || host == "" || port == "" || port == "0" {
		return fmt.Errorf("%q is no address of a node: it is a host and a port at which the other nodes reach this one", address)
	}
	if ip := net.ParseIP(host); ip != nil && ip.IsUnspecified() {
		return fmt.Errorf("the other nodes can't reach %s; name this machine's own address", host)
	}
	return nil
}

// The files of a node in its folder. The authority's own key is there only until the first node has started: from then on it is
// among the records, sealed.
const (
	certificateFile = "node.pem"
	keyFile         = "node.key"
	authorityFile   = "authority.pem"
	authorityKey    = "authority.key"
	setupFile       = "node.json"
	renewedFile     = "renewed.pem" // key and certificate, where they are no more the first ones
)

// Setup is what a node's folder says of it.
type Setup struct {
	Address string   `json:"address"`
	Errands string   `json:"errands,omitempty"`
	Others  []string `json:"others,omitempty"`
}

// check refuses addresses that others could not reach.
func (s Setup) check() error {
	if err := CheckAddress(s.Address); err != nil {
		return err
	}
	errands, err := Options{Address: s.Address, Errands: s.Errands}.ErrandsAddress()
	if err != nil {
		return err
	}
	return CheckAddress(errands)
}

// Folder is where a node's files are, in the data folder.
func Folder(data string) string { return filepath.Join(data, folderName) }

// NewKey makes the key of a node that will join.
func NewKey() (*ecdsa.PrivateKey, error) { return ecdsa.GenerateKey(elliptic.P256(), rand.Reader) }

// Prepare writes the files of a node. Authority is nil where it joins others.
func Prepare(data string, s Setup, key *ecdsa.PrivateKey, certificate []byte, believed *x509.Certificate, own *Authority) error {
	folder := Folder(data)
	if _, err := os.Stat(filepath.Join(folder, setupFile)); err == nil {
		return fmt.Errorf("%s is a node's already", folder)
	}
	if err := s.check(); err != nil {
		return err
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return fmt.Errorf("the node's folder can't be made: %w", err)
	}
	held, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	setup, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	files := map[string][]byte{
		certificateFile: pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: certificate}),
		authorityFile:   pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: believed.Raw}),
		keyFile:         pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: held}),
		setupFile:       append(setup, '\n'),
	}
	if own != nil {
		if files[authorityKey], err = own.PEM(); err != nil {
			return err
		}
	}
	for _, name := range []string{certificateFile, authorityFile, keyFile, authorityKey, setupFile} { // the last makes it one
		if files[name] == nil {
			continue
		}
		if err := os.WriteFile(filepath.Join(folder, name), files[name], 0o600); err != nil {
			return fmt.Errorf("the node's files can't be written: %w", err)
		}
	}
	return nil
}

// Keep writes a node's renewed key and certificate to its folder: first beside those before, so that no pair is ever half there.
func Keep(data string, pair *tls.Certificate) error {
	held, err := x509.MarshalPKCS8PrivateKey(pair.PrivateKey)
	if err != nil {
		return err
	}
	text := append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: pair.Certificate[0]}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: held})...)
	path := filepath.Join(Folder(data), renewedFile)
	if err := os.WriteFile(path+".part", text, 0o600); err != nil {
		return fmt.Errorf("the node's new certificate can't be written: %w", err)
	}
	return os.Rename(path+".part", path)
}

// Begin prepares the first node of some.
func Begin(data string, s Setup, now time.Time) error {
	if err := s.check(); err != nil {
		return err
	}
	a, err := NewAuthority(now)
	if err != nil {
		return err
	}
	key, err := NewKey()
	if err != nil {
		return err
	}
	der, err := a.Sign(&key.PublicKey, now)
	if err != nil {
		return err
	}
	return Prepare(data, s, key, der, a.Certificate, a)
}

// IsNode says whether a data folder is that of a node.
func IsNode(data string) bool { return there(filepath.Join(Folder(data), setupFile)) }

func there(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// First says whether a folder is that of the first of some nodes before it has started: the only one that may make a master key.
func First(data string) (bool, error) {
	o, err := ReadOptions(data)
	if err != nil {
		return false, err
	}
	_, err = os.Stat(filepath.Join(Folder(data), authorityKey))
	return len(o.Others) == 0 && err == nil, nil
}

// ReadOptions reads what Prepare wrote.
func ReadOptions(data string) (Options, error) {
	folder := Folder(data)
	o := Options{Data: data}
	text, err := os.ReadFile(filepath.Join(folder, setupFile))
	if err != nil {
		return o, fmt.Errorf("the node's files can't be read: %w", err)
	}
	var s Setup
	if err := json.Unmarshal(text, &s); err != nil {
		return o, fmt.Errorf("%s is damaged: %w", setupFile, err)
	}
	certificate, key := filepath.Join(folder, certificateFile), filepath.Join(folder, keyFile)
	if renewed := filepath.Join(folder, renewedFile); there(renewed) {
		certificate, key = renewed, renewed
	}
	pair, err := tls.LoadX509KeyPair(certificate, key)
	if err != nil {
		return o, fmt.Errorf("the node's certificate can't be read: %w", err)
	}
	believed, err := os.ReadFile(filepath.Join(folder, authorityFile))
	if err != nil {
		return o, fmt.Errorf("the authority's certificate can't be read: %w", err)
	}
	block, _ := pem.Decode(believed)
	if block == nil {
		return o, fmt.Errorf("%s holds no certificate", authorityFile)
	}
	c, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return o, err
	}
	o.Address, o.Errands, o.Others, o.Identity = s.Address, s.Errands, s.Others, IdentityOf(pair, c)
	return o, nil
}

// PEM is the authority with its key, as it is kept.
func (a *Authority) PEM() ([]byte, error) {
	key, err := x509.MarshalPKCS8PrivateKey(a.Key)
	if err != nil {
		return nil, err
	}
	return append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.Certificate.Raw}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key})...), nil
}

// ReadAuthority reads what PEM made.
func ReadAuthority(text []byte) (*Authority, error) {
	first, rest := pem.Decode(text)
	second, _ := pem.Decode(rest)
	if first == nil || second == nil {
		return nil, errors.New("the nodes' authority is damaged")
	}
	c, err := x509.ParseCertificate(first.Bytes)
	if err != nil {
		return nil, err
	}
	key, err := x509.ParsePKCS8PrivateKey(second.Bytes)
	if err != nil {
		return nil, err
	}
	own, ok := key.(*ecdsa.PrivateKey)
	if !ok {
		return nil, errors.New("the nodes' authority has a key of another kind")
	}
	return &Authority{c, own}, nil
}

// TakeAuthority reads the authority's key that Begin left, for the records; Forget deletes it there.
func TakeAuthority(data string) (a *Authority, forget func() error, err error) {
	path := filepath.Join(Folder(data), authorityKey)
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil, func() error { return nil }, nil
	}
	if err != nil {
		return nil, nil, err
	}
	a, err = ReadAuthority(text)
	return a, func() error { return os.Remove(path) }, err
}
