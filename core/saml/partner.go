package saml

import (
	"crypto"
	"crypto/rsa"
	"crypto/x509"
	"fmt"
	"strings"
	"time"

	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/core/trace"
	"innergate/core/xmlsig"
	"innergate/core/xmltree"
)

// Certificate is a trusted certificate: its key is what is trusted.
type Certificate = x509.Certificate

// Trust is what is held to verify a partner's signatures with.
type Trust struct {
	Certificates []*Certificate
	// Others are certificates that are held for something else. They verify nothing; a signature that they would fit is only
	// explained by them.
	Others    []*Certificate
	AllowSHA1 bool
	// EnforceDates refuses signatures by keys whose certificate is out of its dates. Without it the dates are only a
	// finding.
	EnforceDates bool
}

func (t Trust) keys() []crypto.PublicKey {
	out := make([]crypto.PublicKey, len(t.Certificates))
	for i, c := range t.Certificates {
		out[i] = c.PublicKey
	}
	return out
}

// checker records checks and turns the first one that does not hold into a failure.
type checker struct {
	rec     *trace.Recorder
	partner string
	now     time.Time
	skew    time.Duration
}

// rule is a check's fixed part.
type rule struct{ name, text, section string }

func (c *checker) fail(code explain.Code, evidence ...trace.Evidence) error {
	return explain.New(code, evidence...).Of(c.partner)
}

// that records a check that needs no comparison.
func (c *checker) that(r rule, ok bool, expected, got string) bool {
	return c.rec.Check(trace.Check{Name: r.name, Text: r.text, Section: r.section, Expected: expected, Got: got, OK: ok})
}

// equal records an exact comparison.
func (c *checker) equal(r rule, expected, got string) bool {
	return c.that(r, expected == got, expected, got)
}

var (
	ruleSignature = rule{"saml.signature", "Signed by a key that is held", "SAML Core 5.4, XML Signature"}
	ruleSigned    = rule{"saml.signed", "Signed where it must be", "SAML Profiles 4.1.4"}
	ruleCertDates = rule{"saml.certificate-dates", "The signing certificate is in its dates", "our rule"}
)

// signature verifies what is enveloped in e, which was found to carry a signature.
func (c *checker) signature(e *xmltree.Element, t Trust) (xmlsig.Verified, error) {
	v, err := xmlsig.Verify(e, e.First(NSAssertion, "Issuer"), t.keys(), xmlsig.Policy{AllowSHA1: t.AllowSHA1})
	if err != nil {
		failed := err.(*xmlsig.Error)
		if failed.Reason == xmlsig.WrongKey && len(t.Others) > 0 {
			for _, other := range t.Others {
				_, err := xmlsig.Verify(e, e.First(NSAssertion, "Issuer"), []crypto.PublicKey{other.PublicKey},
					xmlsig.Policy{AllowSHA1: t.AllowSHA1})
				if err == nil {
					return xmlsig.Verified{}, c.otherKey(other, e.Local, t)
				}
			}
		}
		return v, c.signatureFailed(failed, e.Local, t)
	}
	cert := t.Certificates[v.Key()]
	if c.rec != nil {
		c.that(ruleSignature, true, "", e.Local+", "+v.Algorithm().Name()+", "+keys.Fingerprint(cert.Raw))
	}
	return v, c.dates(cert, t)
}

// otherKey tells that a certificate made the signature which is held for encryption alone.
func (c *checker) otherKey(other *Certificate, what string, t Trust) error {
	got := keys.Fingerprint(other.Raw)
	c.that(ruleSignature, false, t.fingerprints(), what+": by the certificate held for encryption, "+got)
	return c.fail(explain.SAMLSignatureEncryptionKey, explain.Pair("SHA-256 fingerprint", t.fingerprints(), got))
}

func (t Trust) fingerprints() string {
	var held []string
	for _, cert := range t.Certificates {
		held = append(held, keys.Fingerprint(cert.Raw))
	}
	return strings.Join(held, ", ")
}

func (c *checker) dates(cert *Certificate, t Trust) error {
	if !t.EnforceDates {
		return nil
	}
	ok := c.now.After(cert.NotBefore) && c.now.Before(cert.NotAfter)
	if !c.that(ruleCertDates, ok, formatTime(c.now), formatTime(cert.NotAfter)) {
		return c.fail(
			explain.SAMLCertificateExpired, explain.Fact("certificate ends", formatTime(cert.NotAfter)),
			explain.Fact("fingerprint", keys.Fingerprint(cert.Raw)),
		)
	}
	return nil
}

func (c *checker) signatureFailed(e *xmlsig.Error, what string, t Trust) error {
	held := t.fingerprints()
	c.that(ruleSignature, false, held, what+": "+e.Detail)
	switch e.Reason {
	case xmlsig.NoKey:
		return c.fail(explain.SAMLSignatureNoKey)
	case xmlsig.Weak:
		if e.Digest {
			return c.fail(explain.SAMLSignatureSHA1, explain.Pair("digest of the content", "SHA-256", "SHA-1, under "+e.Algorithm.Name()))
		}
		return c.fail(explain.SAMLSignatureSHA1, explain.Pair("signature algorithm", "RSA-SHA256", e.Algorithm.Name()))
	case xmlsig.Unknown:
		return c.fail(explain.SAMLSignatureAlgorithm, explain.Fact("algorithm", string(e.Algorithm)), explain.Fact("detail", e.Detail))
	case xmlsig.Altered:
		return c.fail(explain.SAMLSignatureAltered, explain.Fact("signed element", what))
	case xmlsig.WrongKey:
		got := "no certificate in the message"
		evidence := []trace.Evidence{}
		if e.Claimed != nil {
			got = keys.Fingerprint(e.Claimed.Raw)
			evidence = append(
				evidence, explain.Fact("certificate in the message", e.Claimed.Subject.String()),
				explain.Fact("it ends", formatTime(e.Claimed.NotAfter)),
			)
		}
		return c.fail(
			explain.SAMLSignatureWrongKey,
			append([]trace.Evidence{explain.Pair("SHA-256 fingerprint", held, got)}, evidence...)...)
	}
	return c.fail(explain.SAMLSignatureMalformed, explain.Fact("detail", e.Detail))
}

// query verifies the signature over a Redirect query.
func (c *checker) query(r *Received, t Trust) (*Certificate, error) {
	alg := r.signatureAlgorithm
	if alg == xmlsig.RSASHA1 && !t.AllowSHA1 {
		return nil, c.signatureFailed(
			&xmlsig.Error{Reason: xmlsig.Weak, Algorithm: alg, Detail: "the query is signed with SHA-1"}, "query", t,
		)
	}
	if !alg.Known() && alg != xmlsig.RSASHA1 {
		return nil, c.signatureFailed(
			&xmlsig.Error{Reason: xmlsig.Unknown, Algorithm: alg, Detail: fmt.Sprintf("the algorithm %q is not known", alg)},
			"query", t,
		)
	}
	if len(t.Certificates) == 0 {
		return nil, c.signatureFailed(&xmlsig.Error{Reason: xmlsig.NoKey, Detail: "no certificate is held"}, "query", t)
	}
	key, ok := r.queryVerified(t.keys())
	if !ok {
		for _, other := range t.Others {
			if _, fits := r.queryVerified([]crypto.PublicKey{other.PublicKey}); fits {
				return nil, c.otherKey(other, "query", t)
			}
		}
		c.that(ruleSignature, false, t.fingerprints(), "query: no held key made it, or the query was changed")
		return nil, c.fail(explain.SAMLQuerySignature, explain.Pair("signature over the query", "by a key of "+t.fingerprints(),
			"one that fits none of them, "+alg.Name()))
	}
	cert := t.Certificates[key]
	if c.rec != nil {
		c.that(ruleSignature, true, "", "query, "+alg.Name()+", "+keys.Fingerprint(cert.Raw))
	}
	return cert, c.dates(cert, t)
}

// RSAKeys picks the RSA keys, which alone can decrypt, out of private keys.
func RSAKeys(private []crypto.Signer) []*rsa.PrivateKey {
	var out []*rsa.PrivateKey
	for _, k := range private {
		if r, ok := k.(*rsa.PrivateKey); ok {
			out = append(out, r)
		}
	}
	return out
}

// RSAPublic picks the RSA keys, which alone can be encrypted for, out of certificates.
func RSAPublic(certs []*Certificate) []*rsa.PublicKey {
	var out []*rsa.PublicKey
	for _, c := range certs {
		if k, ok := c.PublicKey.(*rsa.PublicKey); ok {
			out = append(out, k)
		}
	}
	return out
}

// plain reads an element's text as a value that identifies something: nothing but text, no control characters, bounded.
func (c *checker) plain(e *xmltree.Element, limit int) (string, error) {
	text, ok := e.PlainText()
	if !ok {
		return "", c.fail(
			explain.SAMLValueRefused,
			explain.Fact("value", fmt.Sprintf("<%s> holds something other than text, such as a comment", e.Local)),
		)
	}
	return text, c.bounded(e.Local, text, limit)
}

func (c *checker) bounded(name, text string, limit int) error {
	if len(text) > limit {
		return c.fail(
			explain.SAMLValueRefused,
			explain.Fact("value", fmt.Sprintf("<%s> has %d bytes; %d are the most", name, len(text), limit)),
		)
	}
	for i := 0; i < len(text); i++ {
		if ch := text[i]; ch < 0x20 && ch != '\t' && ch != '\n' && ch != '\r' || ch == 0x7F {
			return c.fail(explain.SAMLValueRefused, explain.Fact("value", fmt.Sprintf("<%s> holds a control character", name)))
		}
	}
	return nil
}

func (c *checker) time(e *xmltree.Element, attr string) (time.Time, bool, error) {
	v, ok := e.Attr(attr)
	if !ok {
		return time.Time{}, false, nil
	}
	t, err := parseTime(v)
	if err != nil {
		return t, true, c.fail(explain.SAMLStructure, explain.Fact("detail", attr+" of <"+e.Local+">: "+err.Error()))
	}
	return t, true, nil
}
