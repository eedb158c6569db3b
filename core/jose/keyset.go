package jose

import (
	"cmp"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"encoding/base64"
	"fmt"
	"slices"
	"strings"

	jose "github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/json"

	"innergate/core/explain"
)

// Key is one public key of a set (RFC 7517, section 4).
type Key struct {
	ID        string `json:"kid,omitempty"`
	Algorithm string `json:"alg,omitempty"` // the only one that the key may be used with, if set
	Kind      string `json:"kind"`          // such as rsa-2048
	public    crypto.PublicKey
}

// Public is the key itself.
func (k Key) Public() crypto.PublicKey { return k.public }

// Skipped is a key of a set that is not used, and why.
type Skipped struct {
	ID  string `json:"kid,omitempty"`
	Why string `json:"why"`
}

// KeySet is what a partner publishes to check its signatures with (RFC 7517, section 5).
type KeySet struct {
	Keys    []Key     `json:"keys"`
	Skipped []Skipped `json:"skipped,omitempty"`
}

// ReadKeySet reads a key set. Keys for another use, of a kind unknown here, too weak, or that are secret are skipped,
// as section 5 wants it; a document that is no key set, or has more than MaxKeys, is an error with the code
// jwt.keys-unreadable.
func ReadKeySet(data []byte) (*KeySet, error) {
	bad := func(why string) (*KeySet, error) {
		return nil, explain.New(explain.JWTKeysUnreadable, explain.Fact("key set", why))
	}
	if len(data) > MaxKeySet {
		return bad(fmt.Sprintf("it has %d octets; %d are read", len(data), MaxKeySet))
	}
	o, err := ReadObject(data)
	if err != nil {
		return bad(err.Error())
	}
	list, ok := o["keys"].([]any)
	if !ok {
		return bad(`it has no list "keys"`)
	}
	if len(list) > MaxKeys {
		return bad(fmt.Sprintf("it has %d keys; %d are read", len(list), MaxKeys))
	}
	set := &KeySet{Keys: []Key{}}
	for _, entry := range list {
		members, ok := entry.(map[string]any)
		if !ok {
			set.Skipped = append(set.Skipped, Skipped{Why: "it is not an object"})
			continue
		}
		key, why := readKey(members)
		if why != "" {
			set.Skipped = append(set.Skipped, Skipped{ID: key.ID, Why: why})
			continue
		}
		set.Keys = append(set.Keys, key)
	}
	return set, nil
}

func readKey(o Object) (key Key, why string) {
	var ok bool
	if key.ID, ok = o.Text("kid"); !ok || len(key.ID) > 1024 {
		key.ID = ""
		return key, "its kid is not a string of at most 1024 octets"
	}
	use, _ := o.Text("use")
	operations, _ := o.Texts("key_ops")
	switch {
	case o["kty"] == "oct":
		return key, "it is a shared secret, which has no place in a published set"
	case o.Has("d"):
		return key, "its private part is published, so everybody can sign with it"
	case o.Has("use") && use != "sig":
		return key, "it is not for signatures"
	case o.Has("key_ops") && !slices.Contains(operations, "verify"):
		return key, "it is not for checking signatures"
	}
	// Certificates beside a key are hints for people; a broken one must not cost the key.
	bare := Object{}
	for _, name := range []string{"kty", "n", "e", "crv", "x", "y"} {
		if o.Has(name) {
			bare[name] = o[name]
		}
	}
	data, err := json.Marshal(bare)
	if err != nil {
		return key, "it can't be read"
	}
	var parsed jose.JSONWebKey
	if err := parsed.UnmarshalJSON(data); err != nil || !parsed.Valid() {
		return key, "its kind is unknown here, or it is broken"
	}
	switch k := parsed.Key.(type) {
	case *rsa.PublicKey:
		key.Kind = fmt.Sprintf("rsa-%d", k.N.BitLen())
		if k.N.BitLen() < minRSA || k.N.BitLen() > maxRSA {
			return key, fmt.Sprintf("it has %d bits; %d to %d are taken", k.N.BitLen(), minRSA, maxRSA)
		}
		if k.E < 3 || k.E%2 == 0 {
			return key, "its exponent is no good"
		}
	case *ecdsa.PublicKey:
		key.Kind = "p-" + fmt.Sprint(k.Curve.Params().BitSize)
	case ed25519.PublicKey:
		key.Kind = "ed25519"
	default:
		return key, "its kind is unknown here"
	}
	if key.Algorithm, ok = o.Text("alg"); !ok || key.Algorithm != "" && !Fits(key.Algorithm, parsed.Key) {
		why = fmt.Sprintf("its algorithm %q does not fit its kind or is not taken", key.Algorithm)
		key.Algorithm = ""
		return key, why
	}
	key.public = parsed.Key
	return key, ""
}

// Why says why keys of the set are not used, for people.
func (s *KeySet) Why() string {
	var out []string
	for _, k := range s.Skipped {
		out = append(out, cmp.Or(k.ID, "a key without an ID")+": "+k.Why)
	}
	return cmp.Or(strings.Join(out, "; "), "it is empty")
}

// candidates are the keys that a token of this algorithm and key ID may be checked with. A token without a key ID may
// be checked with every key that fits (OpenID Connect Core 1.0, section 10.1, demands the ID where there are several,
// and many providers leave it out).
func (s *KeySet) candidates(alg, kid string) []Key {
	var out []Key
	for _, k := range s.Keys {
		if (kid == "" || k.ID == kid) && (k.Algorithm == "" || k.Algorithm == alg) && Fits(alg, k.public) && len(out) < maxTried {
			out = append(out, k)
		}
	}
	return out
}

// unfit says why the key of this ID can't check a token of this algorithm, though it stands in the set; empty where it does not
// stand there.
func (s *KeySet) unfit(alg, kid string) string {
	if kid == "" {
		return ""
	}
	for _, k := range s.Skipped {
		if k.ID == kid {
			return k.Why
		}
	}
	for _, k := range s.Keys {
		switch {
		case k.ID != kid:
		case k.Algorithm != "" && k.Algorithm != alg:
			return "it is published for " + k.Algorithm + ", and the token is signed with " + alg
		case !Fits(alg, k.public):
			return "it is of the kind " + k.Kind + ", which does not sign with " + alg
		}
	}
	return ""
}

// names lists the set's key IDs, for people.
func (s *KeySet) names() string {
	var out []string
	for _, k := range s.Keys {
		out = append(out, cmp.Or(k.ID, "(without an ID)"))
	}
	return cmp.Or(strings.Join(out, ", "), "none")
}

// One makes a set of a single key.
func One(id, alg string, public crypto.PublicKey) KeySet {
	return KeySet{Keys: []Key{{ID: id, Algorithm: alg, public: public}}}
}

// Thumbprint is a key's ID after RFC 7638, base64url of SHA-256.
func Thumbprint(public crypto.PublicKey) (string, error) {
	sum, err := (&jose.JSONWebKey{Key: public}).Thumbprint(crypto.SHA256)
	if err != nil {
		return "", fmt.Errorf("the key has no thumbprint: %w", err)
	}
	return base64.RawURLEncoding.EncodeToString(sum), nil
}

// Published is one of our keys as it stands in our key set.
type Published struct {
	ID        string
	Algorithm string
	Public    crypto.PublicKey
}

// WriteKeySet writes our key set. Only public keys are written; another is an error.
func WriteKeySet(keys []Published) ([]byte, error) {
	set := jose.JSONWebKeySet{Keys: []jose.JSONWebKey{}}
	for _, k := range keys {
		j := jose.JSONWebKey{Key: k.Public, KeyID: k.ID, Algorithm: k.Algorithm, Use: "sig"}
		if !j.IsPublic() {
			return nil, fmt.Errorf("the key %s is not a public one", k.ID)
		}
		set.Keys = append(set.Keys, j)
	}
	return json.Marshal(set)
}
