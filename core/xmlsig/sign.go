package xmlsig

import (
	"crypto"
	"encoding/base64"
	"errors"
	"fmt"

	"innergate/core/xmltree"
)

// Signer signs elements with one key. Algorithm defaults to the one that fits the key; Certificate, in DER, goes into
// KeyInfo if set.
type Signer struct {
	Key         crypto.Signer
	Algorithm   Algorithm
	Certificate []byte
	// Digest is the hash of the signed element; the algorithm's own if it is zero.
	Digest crypto.Hash
}

// Sign puts an enveloped signature into e as the child behind after (or as its first child if after is nil). The
// element must carry its identifier in the attribute ID. Nothing inside e may be changed afterwards. KeyInfo holds the
// certificate only.
func (s *Signer) Sign(e *xmltree.Element, after *xmltree.Element) error {
	id, ok := e.Attr("ID")
	if !ok || id == "" {
		return errors.New("an element without an ID can't be signed")
	}
	alg := s.Algorithm
	if alg == "" {
		alg = DefaultAlgorithm(s.Key.Public())
	}
	method, ok := signatureMethods[alg]
	if !ok {
		return fmt.Errorf("%s is not a signature algorithm that is known here", alg)
	}
	hash := s.Digest
	if hash == 0 {
		hash = method.hash
	}
	h := hash.New()
	h.Write(e.Canonical(make([]byte, 0, 4096), nil, nil))

	sig := xmltree.New(NS, "ds", "Signature").Declare("ds", NS)
	info := sig.Child("SignedInfo")
	info.Child("CanonicalizationMethod").Set("Algorithm", Exclusive)
	info.Child("SignatureMethod").Set("Algorithm", string(alg))
	ref := info.Child("Reference").Set("URI", "#"+id)
	transforms := ref.Child("Transforms")
	transforms.Child("Transform").Set("Algorithm", Enveloped)
	transforms.Child("Transform").Set("Algorithm", Exclusive)
	ref.Child("DigestMethod").Set("Algorithm", digestURI(hash))
	ref.Child("DigestValue").AddText(base64.StdEncoding.EncodeToString(h.Sum(nil)))

	value, err := SignRaw(s.Key, alg, info.Canonical(make([]byte, 0, 1024), nil, nil))
	if err != nil {
		return err
	}
	sig.Child("SignatureValue").AddText(base64.StdEncoding.EncodeToString(value))
	if len(s.Certificate) > 0 {
		sig.Child("KeyInfo").Child("X509Data").Child("X509Certificate").AddText(base64.StdEncoding.EncodeToString(s.Certificate))
	}
	e.InsertAfter(after, sig)
	return nil
}
