package xmlsig

import (
	"crypto"
	"crypto/subtle"
	"crypto/x509"
	"encoding/base64"
	"fmt"
	"hash"
	"strings"

	"innergate/core/xmltree"
)

// Reason says in which way a signature failed.
type Reason string

// The ways in which a signature can fail.
const (
	Missing   Reason = "missing"   // there is none on the element
	Malformed Reason = "malformed" // it is outside the profile
	Weak      Reason = "weak"      // SHA-1, where that is not allowed
	Unknown   Reason = "unknown"   // an algorithm that is not known here
	Altered   Reason = "altered"   // signed by a trusted key, but the content differs from what was signed
	WrongKey  Reason = "wrong-key" // none of the trusted keys made it
	NoKey     Reason = "no-key"    // no trusted key was given
)

// Error is a signature that does not hold. It carries what is known for an explanation, none of which may be trusted.
type Error struct {
	Reason Reason
	Detail string
	// Algorithm is the signature method named in the document.
	Algorithm Algorithm
	// Digest is set with Weak where the digest of the content is the weak one, and not the signature over it.
	Digest bool
	// Claimed is the certificate found in KeyInfo, if any.
	Claimed *x509.Certificate
	// ContentIntact is set with WrongKey where the digest fits: the document is whole, only the key is another.
	ContentIntact bool
}

func (e *Error) Error() string { return e.Detail }

// Policy says what a partner may do that others may not.
type Policy struct {
	AllowSHA1 bool
}

// Verified is an element whose signature was found good. It is only ever made by Verify and Within.
type Verified struct {
	element   *xmltree.Element
	key       int
	algorithm Algorithm
}

// Element is exactly the subtree that was signed, its own Signature child excepted.
func (v Verified) Element() *xmltree.Element { return v.element }

// Key is the index, among the keys given to Verify, of the one that made the signature.
func (v Verified) Key() int { return v.key }

// Algorithm is the signature algorithm used.
func (v Verified) Algorithm() Algorithm { return v.algorithm }

// Within narrows a verified element to one below it. It fails for an element that is not part of what was signed.
func (v Verified) Within(e *xmltree.Element) (Verified, error) {
	for at := e; at != nil; at = at.Parent {
		if at.Is(NS, "Signature") {
			break
		}
		if at == v.element {
			return Verified{e, v.key, v.algorithm}, nil
		}
	}
	return Verified{}, fmt.Errorf("<%s> is not part of what was signed", e.Name())
}

// Signed reports whether the element has a Signature child, whatever it is worth.
func Signed(e *xmltree.Element) bool { return e.First(NS, "Signature") != nil }

// Verify checks the signature that is enveloped in e against the trusted keys and the profile of SAML Core 2.0, section
// 5.4. It wants the Signature directly behind the child element after, where the schema puts it, or as the first child
// if after is nil. The error is an *Error.
func Verify(e, after *xmltree.Element, keys []crypto.PublicKey, policy Policy) (Verified, error) {
	sig, err := locate(e, after)
	if err != nil {
		return Verified{}, err
	}
	s, err := read(e, sig, policy)
	if err != nil {
		return Verified{}, err
	}
	if len(keys) == 0 {
		return Verified{}, s.failure(NoKey, "no key of the sender is held, so the signature can't be checked")
	}
	// Whose signature it is comes first: the work that a document asks for is done for those whose key is held.
	maker, weak, err := s.maker(keys)
	if err != nil {
		return Verified{}, err
	}
	intact, err := s.intact(e, sig)
	switch {
	case err != nil:
		return Verified{}, err
	case maker >= 0 && intact:
		return Verified{e, maker, s.algorithm}, nil
	case maker >= 0:
		return Verified{}, s.failure(Altered, "the content is not what was signed: its digest differs")
	case weak != nil && len(keys) == 1:
		return Verified{}, s.failure(WrongKey, "the held key can't be used: "+weak.Error())
	}
	f := s.failure(WrongKey, "the signature was not made by any key that is held for the sender")
	f.ContentIntact = intact
	return Verified{}, f
}

// maker returns the index of the key that made the signature, or -1, and why a key could not be used.
func (s *signature) maker(keys []crypto.PublicKey) (at int, weak, err error) {
	h := s.method.hash.New()
	if err := s.info.WriteCanonical(h, s.infoPrefixes, nil); err != nil {
		return -1, nil, s.grown(err)
	}
	var sum [64]byte
	signed := h.Sum(sum[:0])
	for i, key := range keys {
		if unfit := CheckKey(key); unfit != nil {
			weak = unfit
			continue
		}
		if verifyDigest(key, s.method, signed, s.value) {
			return i, weak, nil
		}
	}
	return -1, weak, nil
}

func malformed(format string, args ...any) *Error {
	return &Error{Reason: Malformed, Detail: fmt.Sprintf(format, args...)}
}

// locate finds the one Signature child in the place where the schema wants it.
func locate(e, after *xmltree.Element) (*xmltree.Element, error) {
	var sig, previous, before *xmltree.Element
	for i := range e.Children {
		c := e.Children[i].Element
		if c == nil {
			continue
		}
		if c.Is(NS, "Signature") {
			if sig != nil {
				return nil, malformed("<%s> carries two signatures", e.Name())
			}
			sig, before = c, previous
		}
		previous = c
	}
	if sig == nil {
		return nil, &Error{Reason: Missing, Detail: fmt.Sprintf("<%s> carries no signature", e.Name())}
	}
	if before != after {
		return nil, malformed("the signature of <%s> does not stand where the schema wants it", e.Name())
	}
	return sig, nil
}

type signature struct {
	info         *xmltree.Element
	infoPrefixes []string
	prefixes     []string
	algorithm    Algorithm
	method       signatureMethod
	digest       crypto.Hash
	wanted       []byte
	value        []byte
	claimed      *xmltree.Element
}

func (s *signature) failure(reason Reason, detail string) *Error {
	e := &Error{Reason: reason, Detail: detail, Algorithm: s.algorithm}
	if s.claimed != nil {
		if text, ok := s.claimed.PlainText(); ok {
			if der, err := DecodeBase64(text); err == nil {
				e.Claimed, _ = x509.ParseCertificate(der)
			}
		}
	}
	return e
}

// intact reports whether the content has the digest that was signed. The error is an *Error, where the content has a
// canonical form beyond all measure.
func (s *signature) intact(e, sig *xmltree.Element) (bool, error) {
	h := s.digest.New()
	if err := e.WriteCanonical(h, s.prefixes, sig); err != nil {
		return false, s.grown(err)
	}
	var sum [64]byte
	return subtle.ConstantTimeCompare(h.Sum(sum[:0]), s.wanted) == 1, nil
}

func (s *signature) grown(err error) *Error { return s.failure(Malformed, err.Error()) }

// children returns the child elements of e, which must have just these names in this order; a name that ends in ? may
// be missing. Text, comments and instructions between them are refused unless they are white space.
func children(e *xmltree.Element, names ...string) ([]*xmltree.Element, error) {
	out := make([]*xmltree.Element, len(names))
	at := 0
	for i := range e.Children {
		n := &e.Children[i]
		if n.Kind == xmltree.KindText && strings.TrimSpace(n.Text) == "" {
			continue
		}
		if n.Kind != xmltree.KindElement {
			return nil, malformed("<%s> holds something other than elements", e.Name())
		}
		found := false
		for at < len(names) && !found {
			name, optional := strings.CutSuffix(names[at], "?")
			if n.Element.Is(NS, name) {
				out[at], found = n.Element, true
			} else if !optional {
				return nil, malformed("<%s> stands in <%s> where <%s> is expected", n.Element.Name(), e.Name(), name)
			}
			at++
		}
		if !found {
			return nil, malformed("<%s> is not expected in <%s>", n.Element.Name(), e.Name())
		}
	}
	for ; at < len(names); at++ {
		if !strings.HasSuffix(names[at], "?") {
			return nil, malformed("<%s> is missing in <%s>", names[at], e.Name())
		}
	}
	return out, nil
}

func read(e, sig *xmltree.Element, policy Policy) (*signature, error) {
	top, err := children(sig, "SignedInfo", "SignatureValue", "KeyInfo?")
	if err != nil {
		return nil, err
	}
	s := &signature{info: top[0]}
	if top[2] != nil {
		if data := top[2].First(NS, "X509Data"); data != nil {
			s.claimed = data.First(NS, "X509Certificate")
		}
	}
	parts, err := children(s.info, "CanonicalizationMethod", "SignatureMethod", "Reference")
	if err != nil {
		return nil, err
	}
	if s.infoPrefixes, err = canonicalisation(parts[0]); err != nil {
		return nil, err
	}
	s.algorithm = Algorithm(parts[1].Value("Algorithm"))
	var known bool
	if s.method, known = signatureMethods[s.algorithm]; !known || len(parts[1].Children) > 0 {
		f := s.failure(Unknown, fmt.Sprintf("the signature algorithm %q is not known here", s.algorithm))
		return nil, f
	}
	if err := s.reference(e, parts[2]); err != nil {
		return nil, err
	}
	if (s.method.hash == crypto.SHA1 || s.digest == crypto.SHA1) && !policy.AllowSHA1 {
		e := s.failure(Weak, "the signature uses SHA-1, which is not allowed for this partner")
		e.Digest = s.method.hash != crypto.SHA1
		return nil, e
	}
	if s.value, err = octets(top[1]); err != nil {
		return nil, err
	}
	return s, nil
}

func (s *signature) reference(e, ref *xmltree.Element) error {
	id, ok := e.Attr("ID")
	if !ok || id == "" {
		return malformed("<%s> has a signature but no ID", e.Name())
	}
	if uri, ok := ref.Attr("URI"); !ok || uri != "#"+id {
		return malformed("the signature of <%s> refers to %q and not to the element that it stands in", e.Name(), uri)
	}
	if n := countID(e.Root(), id); n != 1 {
		return malformed("the ID %q stands on %d elements", id, n)
	}
	parts, err := children(ref, "Transforms", "DigestMethod", "DigestValue")
	if err != nil {
		return err
	}
	steps, err := children(parts[0], "Transform", "Transform")
	if err != nil {
		return err
	}
	if steps[0].Value("Algorithm") != Enveloped || len(steps[0].Children) > 0 {
		return malformed("the first transform is %q; it must be enveloped-signature", steps[0].Value("Algorithm"))
	}
	if s.prefixes, err = canonicalisation(steps[1]); err != nil {
		return err
	}
	if s.digest, ok = digestMethods[parts[1].Value("Algorithm")]; !ok {
		return s.failure(Unknown, fmt.Sprintf("the digest algorithm %q is not known here", parts[1].Value("Algorithm")))
	}
	if s.wanted, err = octets(parts[2]); err != nil {
		return err
	}
	if len(s.wanted) != s.digest.Size() {
		return malformed("the digest has %d bytes; its algorithm gives %d", len(s.wanted), s.digest.Size())
	}
	return nil
}

// canonicalisation accepts exclusive canonicalisation with at most a PrefixList. The variant with comments is the same
// here: a reference by ID drops comments (XML Signature, section 4.4.3.3), and SignedInfo must not have any.
func canonicalisation(e *xmltree.Element) ([]string, error) {
	if alg := e.Value("Algorithm"); alg != Exclusive && alg != ExclusiveWithRemark {
		return nil, malformed("the transform %q is not accepted; exclusive canonicalisation is", alg)
	}
	var list []string
	for i := range e.Children {
		n := &e.Children[i]
		if n.Kind == xmltree.KindText && strings.TrimSpace(n.Text) == "" {
			continue
		}
		if list != nil || n.Kind != xmltree.KindElement || !n.Element.Is(NSExc, "InclusiveNamespaces") || len(n.Element.Children) > 0 {
			return nil, malformed("<%s> holds something other than one PrefixList", e.Name())
		}
		list = append(strings.Fields(n.Element.Value("PrefixList")), "xml")
		if len(list) > 64 {
			return nil, malformed("the PrefixList is too long")
		}
	}
	return list, nil
}

func countID(e *xmltree.Element, id string) int {
	n := 0
	for i := range e.Attrs {
		a := &e.Attrs[i]
		if len(a.Local) == 2 && a.Value == id && strings.EqualFold(a.Local, "id") {
			n++
		}
	}
	for i := range e.Children {
		if c := e.Children[i].Element; c != nil {
			n += countID(c, id)
		}
	}
	return n
}

func octets(e *xmltree.Element) ([]byte, error) {
	text, ok := e.PlainText()
	if !ok {
		return nil, malformed("<%s> holds something other than text", e.Name())
	}
	out, err := DecodeBase64(text)
	if err != nil || len(out) == 0 {
		return nil, malformed("<%s> is not base64", e.Name())
	}
	return out, nil
}

// DecodeBase64 decodes standard base64 with padding, white space allowed anywhere (XML Schema 2, base64Binary).
func DecodeBase64(text string) ([]byte, error) {
	// The decoder passes over ends of lines by itself.
	for _, blank := range []string{" ", "\t"} {
		if strings.Contains(text, blank) {
			text = strings.ReplaceAll(text, blank, "")
		}
	}
	return base64.StdEncoding.Strict().DecodeString(text)
}

// Opened passes the verdict on to what was decrypted from holder, an element under the verified signature: its
// ciphertext was signed, and authenticated encryption or that signature binds the plain text to it.
func (v Verified) Opened(holder, plain *xmltree.Element) (Verified, error) {
	if _, err := v.Within(holder); err != nil {
		return Verified{}, err
	}
	return Verified{plain, v.key, v.algorithm}, nil
}

// Intact reports whether the content of e is what the signature enveloped in it says was signed, whoever signed it. It
// proves nothing; it tells a document that was changed on its way from one that was not. The error is an *Error.
func Intact(e, after *xmltree.Element) error {
	sig, err := locate(e, after)
	if err != nil {
		return err
	}
	s, err := read(e, sig, Policy{AllowSHA1: true})
	if err != nil {
		return err
	}
	whole, err := s.intact(e, sig)
	if err != nil {
		return err
	}
	if !whole {
		return s.failure(Altered, "the content is not what was signed: its digest differs")
	}
	return nil
}

// Streamed checks the signature over a document that is read as a stream. It is made when the Signature, the root's
// first child, has come; all pieces but the Signature go through Put, those before it as well, and Finish tells whether
// the digest holds. Nothing of the document may be used before.
type Streamed struct {
	s     *signature
	key   int
	root  *xmltree.Element
	id    string
	sum   hash.Hash
	canon *xmltree.CanonicalStream
	ids   int
}

// NewStreamed checks everything about a signature but the digest of the content. Root is the container that carries it,
// without children.
func NewStreamed(root, sig *xmltree.Element, keys []crypto.PublicKey, policy Policy) (*Streamed, error) {
	s, err := read(root, sig, policy)
	if err != nil {
		return nil, err
	}
	if len(keys) == 0 {
		return nil, s.failure(NoKey, "no key of the sender is held, so the signature can't be checked")
	}
	maker, _, err := s.maker(keys)
	if err != nil {
		return nil, err
	}
	if maker < 0 {
		return nil, s.failure(WrongKey, "the signature was not made by any key that is held for the sender")
	}
	st := &Streamed{s: s, key: maker, root: root, id: root.Value("ID"), sum: s.digest.New(), ids: countID(sig, root.Value("ID"))}
	st.canon = xmltree.NewCanonicalStream(st.sum, s.prefixes)
	return st, nil
}

// Put takes one piece.
func (st *Streamed) Put(p xmltree.Piece) error {
	if p.Kind == xmltree.PieceElement {
		st.ids += countID(p.Element, st.id)
	} else if p.Kind == xmltree.PieceOpen && p.Element != st.root {
		st.ids += countID(p.Element, st.id)
	}
	if err := st.canon.Put(p); err != nil {
		return st.s.grown(err)
	}
	return nil
}

// Finish returns the index of the key that signed. The error is an *Error.
func (st *Streamed) Finish() (int, error) {
	if st.ids > 0 {
		return 0, malformed("the ID %q stands on %d elements", st.id, st.ids+1)
	}
	if subtle.ConstantTimeCompare(st.sum.Sum(nil), st.s.wanted) != 1 {
		return 0, st.s.failure(Altered, "the content is not what was signed: its digest differs")
	}
	return st.key, nil
}
