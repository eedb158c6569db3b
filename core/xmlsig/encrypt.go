package xmlsig

import (
	"crypto"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/rsa"
	"encoding/base64"
	"errors"
	"fmt"

	"innergate/core/xmltree"
)

// Content encryption algorithms (XML Encryption 1.1, section 5.2).
const (
	AES128GCM = NSEnc11 + "aes128-gcm"
	AES256GCM = NSEnc11 + "aes256-gcm"
	AES128CBC = NSEnc + "aes128-cbc"
	AES256CBC = NSEnc + "aes256-cbc"
)

// Key transport algorithms (XML Encryption 1.1, section 5.5).
const (
	OAEPMGF1P = NSEnc + "rsa-oaep-mgf1p" // mask by SHA-1
	OAEP11    = NSEnc11 + "rsa-oaep"     // mask chosen by an MGF element
)

var contentMethods = map[string]struct {
	size int
	cbc  bool
}{AES128GCM: {16, false}, AES256GCM: {32, false}, AES128CBC: {16, true}, AES256CBC: {32, true}}

var maskMethods = map[string]crypto.Hash{
	NSEnc11 + "mgf1sha1": crypto.SHA1, NSEnc11 + "mgf1sha256": crypto.SHA256,
	NSEnc11 + "mgf1sha384": crypto.SHA384, NSEnc11 + "mgf1sha512": crypto.SHA512,
}

// Encrypter encrypts for one RSA key. The zero choices mean AES-256-GCM, rsa-oaep-mgf1p and SHA-1, which every partner
// understands; OAEP does not rest on that hash's resistance to collisions.
type Encrypter struct {
	Key          *rsa.PublicKey
	Content      string
	KeyTransport string
	Digest, Mask crypto.Hash
}

// Encrypt makes an xenc:EncryptedData of type Element with its EncryptedKey inside KeyInfo.
func (x *Encrypter) Encrypt(plain []byte) (*xmltree.Element, error) {
	if err := CheckKey(x.Key); err != nil {
		return nil, err
	}
	content, transport, digest, mask := x.Content, x.KeyTransport, x.Digest, x.Mask
	if content == "" {
		content = AES256GCM
	}
	if transport == "" {
		transport = OAEPMGF1P
	}
	if digest == 0 {
		digest = crypto.SHA1
	}
	if mask == 0 || transport == OAEPMGF1P {
		mask = crypto.SHA1
	}
	method, ok := contentMethods[content]
	if !ok || transport != OAEPMGF1P && transport != OAEP11 {
		return nil, fmt.Errorf("the encryption algorithms %s and %s are not known here", content, transport)
	}
	session := make([]byte, method.size)
	rand.Read(session)
	sealed, err := sealContent(session, plain, method.cbc)
	if err != nil {
		return nil, err
	}
	wrapped, err := rsa.EncryptOAEPWithOptions(rand.Reader, x.Key, session, &rsa.OAEPOptions{Hash: digest, MGFHash: mask})
	if err != nil {
		return nil, fmt.Errorf("wrapping the content key: %w", err)
	}
	data := xmltree.New(NSEnc, "xenc", "EncryptedData").Declare("xenc", NSEnc).Set("Type", NSEnc+"Element")
	data.Child("EncryptionMethod").Set("Algorithm", content)
	info := xmltree.New(NS, "ds", "KeyInfo").Declare("ds", NS)
	data.Append(info)
	key := xmltree.New(NSEnc, "xenc", "EncryptedKey")
	info.Append(key)
	em := key.Child("EncryptionMethod").Set("Algorithm", transport)
	em.Append(xmltree.New(NS, "ds", "DigestMethod").Set("Algorithm", digestURI(digest)))
	if transport == OAEP11 {
		for uri, h := range maskMethods {
			if h == mask {
				em.Append(xmltree.New(NSEnc11, "xenc11", "MGF").Declare("xenc11", NSEnc11).Set("Algorithm", uri))
			}
		}
	}
	key.Child("CipherData").Child("CipherValue").AddText(base64.StdEncoding.EncodeToString(wrapped))
	data.Child("CipherData").Child("CipherValue").AddText(base64.StdEncoding.EncodeToString(sealed))
	return data, nil
}

// ErrDecrypt is all that is ever said about a ciphertext that can't be opened, so that nobody can learn from the
// answers.
var ErrDecrypt = errors.New("the encrypted content can't be opened with any key of ours")

// AlgorithmError is an encryption method outside the profile. It is said of the document's form, before any key is
// used.
type AlgorithmError struct{ Algorithm string }

func (e *AlgorithmError) Error() string {
	return fmt.Sprintf("the encryption algorithm %q is not accepted", e.Algorithm)
}

// Decrypt opens an EncryptedData that stands in holder (saml:EncryptedAssertion, saml:EncryptedID), with its
// EncryptedKey inside or beside it. AES-CBC is opened only with allowCBC, which a caller may give for content whose
// ciphertext is itself under a verified signature.
func Decrypt(holder *xmltree.Element, keys []*rsa.PrivateKey, allowCBC bool) ([]byte, error) {
	data := holder.First(NSEnc, "EncryptedData")
	if data == nil {
		return nil, &AlgorithmError{"none"}
	}
	name := methodOf(data)
	method, ok := contentMethods[name]
	if !ok || method.cbc && !allowCBC {
		return nil, &AlgorithmError{name}
	}
	sealed, err := cipherValue(data)
	if err != nil {
		return nil, ErrDecrypt
	}
	var wrapped []*xmltree.Element
	if info := data.First(NS, "KeyInfo"); info != nil {
		wrapped = append(wrapped, info.All(NSEnc, "EncryptedKey")...)
	}
	wrapped = append(wrapped, holder.All(NSEnc, "EncryptedKey")...)
	if len(wrapped) > 8 {
		wrapped = wrapped[:8]
	}
	var plain []byte
	err = ErrDecrypt
	for _, w := range wrapped {
		options, formErr := oaepOptions(w)
		if formErr != nil {
			return nil, formErr
		}
		value, valueErr := cipherValue(w)
		if valueErr != nil {
			continue
		}
		for _, key := range keys {
			session, keyErr := key.Decrypt(nil, value, options)
			if keyErr != nil || len(session) != method.size {
				// A key of random octets takes the same way, so that time says nothing either.
				session = make([]byte, method.size)
				rand.Read(session)
			}
			if opened, openErr := openContent(session, sealed, method.cbc); openErr == nil && keyErr == nil && err != nil {
				plain, err = opened, nil
			}
		}
	}
	return plain, err
}

func methodOf(e *xmltree.Element) string {
	if m := e.First(NSEnc, "EncryptionMethod"); m != nil {
		return m.Value("Algorithm")
	}
	return ""
}

func oaepOptions(w *xmltree.Element) (*rsa.OAEPOptions, error) {
	o := &rsa.OAEPOptions{Hash: crypto.SHA1, MGFHash: crypto.SHA1}
	name := methodOf(w)
	if name != OAEPMGF1P && name != OAEP11 {
		return nil, &AlgorithmError{name}
	}
	m := w.First(NSEnc, "EncryptionMethod")
	if d := m.First(NS, "DigestMethod"); d != nil {
		h, ok := digestMethods[d.Value("Algorithm")]
		if !ok {
			return nil, &AlgorithmError{d.Value("Algorithm")}
		}
		o.Hash = h
	}
	if g := m.First(NSEnc11, "MGF"); g != nil && name == OAEP11 {
		h, ok := maskMethods[g.Value("Algorithm")]
		if !ok {
			return nil, &AlgorithmError{g.Value("Algorithm")}
		}
		o.MGFHash = h
	}
	return o, nil
}

func cipherValue(e *xmltree.Element) ([]byte, error) {
	data := e.First(NSEnc, "CipherData")
	if data == nil {
		return nil, ErrDecrypt
	}
	value := data.First(NSEnc, "CipherValue")
	if value == nil {
		return nil, ErrDecrypt
	}
	return octets(value)
}

func sealContent(key, plain []byte, cbc bool) ([]byte, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	if cbc {
		pad := aes.BlockSize - len(plain)%aes.BlockSize
		padded := make([]byte, len(plain)+pad)
		copy(padded, plain)
		padded[len(padded)-1] = byte(pad)
		out := make([]byte, aes.BlockSize+len(padded))
		rand.Read(out[:aes.BlockSize])
		cipher.NewCBCEncrypter(block, out[:aes.BlockSize]).CryptBlocks(out[aes.BlockSize:], padded)
		return out, nil
	}
	gcm, err := cipher.NewGCM(block)
	if err != nil {
		return nil, err
	}
	nonce := make([]byte, gcm.NonceSize(), gcm.NonceSize()+len(plain)+gcm.Overhead())
	rand.Read(nonce)
	return gcm.Seal(nonce, nonce, plain, nil), nil
}

func openContent(key, sealed []byte, cbc bool) ([]byte, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	if cbc {
		if len(sealed) < 2*aes.BlockSize || len(sealed)%aes.BlockSize != 0 {
			return nil, ErrDecrypt
		}
		out := make([]byte, len(sealed)-aes.BlockSize)
		cipher.NewCBCDecrypter(block, sealed[:aes.BlockSize]).CryptBlocks(out, sealed[aes.BlockSize:])
		pad := int(out[len(out)-1])
		if pad < 1 || pad > aes.BlockSize {
			return nil, ErrDecrypt
		}
		return out[:len(out)-pad], nil
	}
	gcm, err := cipher.NewGCM(block)
	if err != nil {
		return nil, err
	}
	if len(sealed) < gcm.NonceSize() {
		return nil, ErrDecrypt
	}
	return gcm.Open(nil, sealed[:gcm.NonceSize()], sealed[gcm.NonceSize():], nil)
}
