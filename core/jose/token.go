package jose

import (
	"cmp"
	"crypto"
	"encoding/base64"
	"fmt"
	"slices"
	"strings"
	"sync"

	jose "github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/cryptosigner"
	"github.com/go-jose/go-jose/v4/json"

	"innergate/core/explain"
)

// The types of tokens, as they stand in "typ" (RFC 8725, section 3.11).
const (
	TypeID     = "JWT"        // ID tokens, userinfo, client assertions
	TypeAccess = "at+jwt"     // RFC 9068
	TypeLogout = "logout+jwt" // OpenID Connect Back-Channel Logout 1.0, section 2.4
	TypeGuard  = "guard+jwt"  // who comes, for an application behind the gate; no other kind of token can be taken for it
)

// Header is a token's protected header, as far as it matters.
type Header struct {
	Algorithm string `json:"alg"`
	KeyID     string `json:"kid,omitempty"`
	Type      string `json:"typ,omitempty"`
	// Ignored lists members that name or carry keys; they are not looked at.
	Ignored []string `json:"ignored,omitempty"`
}

// Parsed is a token that nobody has checked yet. It tells only what is needed to find the key and to show it to people.
type Parsed struct {
	Header Header
	Claims Object
	raw    string
}

// Token is a token whose signature holds, and the key that made it.
type Token struct {
	Header Header
	Claims Object
	Key    Key
}

// Parse takes a token in compact form apart (RFC 7515, section 7.1). Failures carry a code; nothing in the result is to
// be believed.
func Parse(compact string) (*Parsed, error) {
	bad := func(why string) (*Parsed, error) {
		return nil, explain.New(explain.JWTUnreadable, explain.Fact("token", why))
	}
	if len(compact) > MaxToken {
		return nil, explain.New(explain.JWTTooLarge, explain.Pair("octets", fmt.Sprint(MaxToken), fmt.Sprint(len(compact))))
	}
	parts := strings.Split(compact, ".")
	switch {
	case compact == "":
		return bad("it is empty")
	case len(parts) == 5:
		return bad("it is encrypted, which was not asked for")
	case len(parts) != 3:
		return bad(fmt.Sprintf("a signed token has three parts with dots between them; this has %d", len(parts)))
	}
	var objects [2]Object
	for i, name := range []string{"header", "content"} {
		data, err := base64.RawURLEncoding.Strict().DecodeString(parts[i])
		if err != nil || strings.ContainsAny(parts[i], "\r\n") {
			return bad("its " + name + " is not base64url")
		}
		if objects[i], err = ReadObject(data); err != nil {
			return bad("its " + name + ": " + err.Error())
		}
	}
	p := &Parsed{Claims: objects[1], raw: compact}
	for name, to := range map[string]*string{"alg": &p.Header.Algorithm, "kid": &p.Header.KeyID, "typ": &p.Header.Type} {
		text, ok := objects[0].Text(name)
		if !ok || len(text) > 1024 {
			return bad("its header's " + name + " is not a string of at most 1024 octets")
		}
		*to = text
	}
	// No extension is understood here, so any that is said to matter refuses the token (RFC 7515, section 4.1.11).
	if _, there := objects[0]["crit"]; there {
		named, _ := objects[0].Texts("crit")
		return nil, explain.New(explain.JWTCritical, explain.Fact("crit", strings.Join(named, " ")))
	}
	if _, there := objects[0]["b64"]; there {
		return nil, explain.New(explain.JWTCritical, explain.Fact("crit", "b64"))
	}
	for _, name := range []string{"jku", "jwk", "x5c", "x5u"} {
		if objects[0].Has(name) {
			p.Header.Ignored = append(p.Header.Ignored, name)
		}
	}
	return p, nil
}

// Rules is what a token is checked against.
type Rules struct {
	// Algorithms that may sign it; all of Algorithms if empty.
	Algorithms []string
	// Types lists what "typ" may say. An empty string in it allows the token to leave it out.
	Types []string
	Keys  KeySet
}

// Verify checks type, algorithm and signature. Failures carry a code; jwt.key-unknown is the one after which fetching
// the key set again may help.
func (p *Parsed) Verify(r Rules) (*Token, error) {
	allowed := r.Algorithms
	if len(allowed) == 0 {
		allowed = Algorithms
	}
	if !slices.Contains(allowed, p.Header.Algorithm) || !slices.Contains(Algorithms, p.Header.Algorithm) {
		return nil, explain.New(
			explain.JWTAlgorithm,
			explain.Pair("alg", strings.Join(allowed, ", "), cmp.Or(p.Header.Algorithm, "no algorithm")),
		)
	}
	if !typeAllowed(r.Types, p.Header.Type) {
		return nil, explain.New(explain.JWTType,
			explain.Pair("typ", strings.Join(spoken(r.Types), " or "), cmp.Or(p.Header.Type, "of no type")))
	}
	keys := r.Keys.candidates(p.Header.Algorithm, p.Header.KeyID)
	unknown := explain.New(explain.JWTKeyUnknown, explain.Pair("kid", r.Keys.names(), p.Header.KeyID),
		explain.Fact("alg", p.Header.Algorithm))
	if p.Header.KeyID == "" {
		unknown.Evidence[0].Got = "(without an ID)"
	}
	if why := r.Keys.unfit(p.Header.Algorithm, p.Header.KeyID); len(keys) == 0 && why != "" {
		return nil, explain.New(explain.JWTKeyUnfit, explain.Pair("key "+p.Header.KeyID, "one that can be used", why),
			explain.Fact("alg", p.Header.Algorithm))
	}
	if len(keys) == 0 {
		return nil, unknown
	}
	signed, err := jose.ParseSignedCompact(p.raw, []jose.SignatureAlgorithm{jose.SignatureAlgorithm(p.Header.Algorithm)})
	if err != nil {
		return nil, explain.New(explain.JWTUnreadable, explain.Fact("token", "its signature can't be read"))
	}
	for _, k := range keys {
		if _, err := signed.Verify(k.public); err == nil {
			return &Token{Header: p.Header, Claims: p.Claims, Key: k}, nil
		}
	}
	// Without a key ID the right key may be one that is not held yet.
	if p.Header.KeyID == "" {
		return nil, unknown
	}
	return nil, explain.New(explain.JWTSignature, explain.Fact("kid", p.Header.KeyID), explain.Fact("alg", p.Header.Algorithm))
}

// typeAllowed compares as media types are compared: without case, "application/" left out (RFC 7515, section 4.1.9).
func typeAllowed(types []string, typ string) bool {
	typ = strings.ToLower(typ)
	if after, cut := strings.CutPrefix(typ, "application/"); cut && !strings.Contains(after, "/") {
		typ = after
	}
	return slices.ContainsFunc(types, func(t string) bool { return strings.ToLower(t) == typ })
}

func spoken(types []string) []string {
	out := slices.Clone(types)
	for i, t := range out {
		if t == "" {
			out[i] = "no type"
		}
	}
	return out
}

// Signer signs tokens with one key and algorithm. It may be used by several goroutines.
type Signer struct {
	id, alg string
	private crypto.Signer
	made    sync.Map // type → jose.Signer
}

// NewSigner binds a key to an algorithm; one that does not fit the key is an error.
func NewSigner(id, alg string, private crypto.Signer) (*Signer, error) {
	if !Fits(alg, private.Public()) {
		return nil, fmt.Errorf("a key of this kind can't sign with %s", alg)
	}
	return &Signer{id: id, alg: alg, private: private}, nil
}

// Algorithm is the signer's algorithm.
func (s *Signer) Algorithm() string { return s.alg }

// of is the library's signer for tokens of one type.
func (s *Signer) of(typ string) (jose.Signer, error) {
	if held, ok := s.made.Load(typ); ok {
		return held.(jose.Signer), nil
	}
	options := (&jose.SignerOptions{}).WithHeader("kid", s.id)
	if typ != "" {
		options = options.WithType(jose.ContentType(typ))
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.SignatureAlgorithm(s.alg), Key: cryptosigner.Opaque(s.private)}, options)
	if err != nil {
		return nil, fmt.Errorf("the key can't sign: %w", err)
	}
	s.made.Store(typ, signer)
	return signer, nil
}

// Sign makes a token of one type in compact form. Claims is anything that JSON can hold.
func (s *Signer) Sign(typ string, claims any) (string, error) {
	data, err := json.Marshal(claims)
	if err != nil {
		return "", fmt.Errorf("the claims can't be written as JSON: %w", err)
	}
	signer, err := s.of(typ)
	if err != nil {
		return "", err
	}
	signed, err := signer.Sign(data)
	if err != nil {
		return "", fmt.Errorf("signing failed: %w", err)
	}
	return signed.CompactSerialize()
}
