package store

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// Sealer encrypts secrets before they reach the disk, with AES-256-GCM under the master key. What a secret belongs to is bound to it, so that
// one sealed value can't be put in another's place.
type Sealer struct{ aead cipher.AEAD }

// NewSealer takes a master key of 32 bytes.
func NewSealer(master []byte) (*Sealer, error) {
	if len(master) != 32 {
		return nil, fmt.Errorf("the master key has %d bytes; it must have 32", len(master))
	}
	block, err := aes.NewCipher(master)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	return &Sealer{aead}, err
}

const sealVersion = 1

// Seal encrypts plain for a place such as "key/01J…".
func (s *Sealer) Seal(place string, plain []byte) []byte {
	out := make([]byte, 1+s.aead.NonceSize(), 1+s.aead.NonceSize()+len(plain)+s.aead.Overhead())
	out[0] = sealVersion
	rand.Read(out[1:])
	return s.aead.Seal(out, out[1:], plain, []byte(place))
}

// Open decrypts what Seal made for the same place.
func (s *Sealer) Open(place string, sealed []byte) ([]byte, error) {
	n := s.aead.NonceSize()
	if len(sealed) < 1+n || sealed[0] != sealVersion {
		return nil, errors.New("a sealed value has an unknown form")
	}
	plain, err := s.aead.Open(nil, sealed[1:1+n], sealed[1+n:], []byte(place))
	if err != nil {
		return nil, errors.New("a sealed value can't be opened; is the master key the one of this data folder?")
	}
	return plain, nil
}

// MasterKey reads the master key: from text (base64, for the environment) if it is not empty, else from the file. A missing file is made where
// create is set, readable by its owner only.
func MasterKey(text, file string, create bool) ([]byte, error) {
	if text != "" {
		key, err := base64.StdEncoding.DecodeString(strings.TrimSpace(text))
		if err != nil || len(key) != 32 {
			return nil, errors.New("the master key given is not 32 bytes in base64")
		}
		return key, nil
	}
	data, err := os.ReadFile(file)
	switch {
	case err == nil:
		key, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(data)))
		if err != nil || len(key) != 32 {
			return nil, fmt.Errorf("the master key file %s does not hold 32 bytes in base64", file)
		}
		return key, nil
	case !errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("the master key file can't be read: %w", err)
	case !create:
		return nil, fmt.Errorf("the master key file %s is missing; without it the secrets in the data folder can't be opened. Put it back, or name it with --master-key-file", file)
	}
	key := make([]byte, 32)
	rand.Read(key)
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, fmt.Errorf("the folder for the master key can't be made: %w", err)
	}
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the master key file can't be made: %w", err)
	}
	if _, err := f.WriteString(base64.StdEncoding.EncodeToString(key) + "\n"); err != nil {
		return nil, fmt.Errorf("the master key file can't be written: %w", err)
	}
	return key, f.Close()
}
