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

// Sealer encrypts secrets before they reach the disk, with AES-256-GCM under the master key. What a secret belongs to
// is bound to it, so that one sealed value can't be put in another's place.
type Sealer struct {
	aead cipher.AEAD
	old  []cipher.AEAD
}

// NewSealer takes a master key of 32 bytes, and older ones with which things may still be sealed.
func NewSealer(master []byte, older ...[]byte) (*Sealer, error) {
	s := &Sealer{}
	for i, key := range append([][]byte{master}, older...) {
		if len(key) != 32 {
			return nil, fmt.Errorf("the master key has %d bytes; it must have 32", len(key))
		}
		block, err := aes.NewCipher(key)
		if err != nil {
			return nil, err
		}
		aead, err := cipher.NewGCM(block)
		if err != nil {
			return nil, err
		}
		if i == 0 {
			s.aead = aead
		} else {
			s.old = append(s.old, aead)
		}
	}
	return s, nil
}

const sealVersion = 1

// Seal encrypts plain for what has an ID in a place.
func (s *Sealer) Seal(place *Place, id string, plain []byte) []byte {
	out := make([]byte, 1+s.aead.NonceSize(), 1+s.aead.NonceSize()+len(plain)+s.aead.Overhead())
	out[0] = sealVersion
	rand.Read(out[1:])
	return s.aead.Seal(out, out[1:], plain, []byte(place.name+id))
}

// Open decrypts what Seal made for the same place.
func (s *Sealer) Open(place *Place, id string, sealed []byte) ([]byte, error) {
	bound := []byte(place.name + id)
	n := s.aead.NonceSize()
	if len(sealed) < 1+n || sealed[0] != sealVersion {
		return nil, errors.New("a sealed value has an unknown form")
	}
	plain, err := s.aead.Open(nil, sealed[1:1+n], sealed[1+n:], bound)
	for i := 0; err != nil && i < len(s.old); i++ {
		plain, err = s.old[i].Open(nil, sealed[1:1+n], sealed[1+n:], bound)
	}
	if err != nil {
		return nil, errors.New("a sealed value can't be opened; is the master key the one of this data folder?")
	}
	return plain, nil
}

// current reports whether a value is sealed with the current master key.
func (s *Sealer) current(place *Place, id string, sealed []byte) bool {
	n := s.aead.NonceSize()
	if len(sealed) < 1+n {
		return false
	}
	_, err := s.aead.Open(nil, sealed[1:1+n], sealed[1+n:], []byte(place.name+id))
	return err == nil
}

// MasterKeys reads the master keys, the current one first: from text (base64, for the environment, several separated by
// commas) if it is not empty, else from the lines of the file. A missing file is made where create is set, readable by
// its owner only.
func MasterKeys(text, file string, create bool) ([][]byte, error) {
	if text != "" {
		keys, err := masterKeys(strings.Split(text, ","))
		if err != nil {
			return nil, errors.New("the master key given is not 32 bytes in base64")
		}
		return keys, nil
	}
	data, err := os.ReadFile(file)
	switch {
	case err == nil:
		keys, err := masterKeys(strings.Fields(string(data)))
		if err != nil {
			return nil, fmt.Errorf("the master key file %s does not hold 32 bytes in base64", file)
		}
		return keys, nil
	case !errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("the master key file can't be read: %w", err)
	case !create:
		return nil, fmt.Errorf(
			"the master key file %s is missing; without it the secrets in the data folder can't be opened. Put it back, or name it "+
				"with --master-key-file",
			file,
		)
	}
	key := NewMasterKey()
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
	return [][]byte{key}, f.Close()
}

func masterKeys(words []string) ([][]byte, error) {
	var out [][]byte
	for _, w := range words {
		key, err := base64.StdEncoding.DecodeString(strings.TrimSpace(w))
		if err != nil || len(key) != 32 {
			return nil, errors.New("not 32 bytes in base64")
		}
		out = append(out, key)
	}
	if len(out) == 0 {
		return nil, errors.New("nothing there")
	}
	return out, nil
}

// NewMasterKey makes one.
func NewMasterKey() []byte {
	key := make([]byte, 32)
	rand.Read(key)
	return key
}

// WriteMasterKeys replaces the master key file by one with these keys, in one step.
func WriteMasterKeys(file string, keys [][]byte) error {
	var b strings.Builder
	for _, k := range keys {
		b.WriteString(base64.StdEncoding.EncodeToString(k) + "\n")
	}
	next := file + ".new"
	f, err := os.OpenFile(next, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return fmt.Errorf("the master key file can't be written: %w", err)
	}
	if _, err = f.WriteString(b.String()); err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Rename(next, file)
	}
	if err != nil {
		return fmt.Errorf("the master key file can't be written: %w", err)
	}
	return nil
}
