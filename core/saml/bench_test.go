package saml_test

import (
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/core/xmlsig"
)

// tenAttributes is an assertion of usual size.
func tenAttributes() saml.Issued {
	s := issued()
	s.Attributes = nil
	for i := range 10 {
		s.Attributes = append(
			s.Attributes,
			saml.Attribute{
				Name:         fmt.Sprintf("urn:oid:2.5.4.%d", i),
				NameFormat:   saml.NameFormatURI,
				FriendlyName: fmt.Sprintf("attribute%d", i),
				Type:         "string",
				Values:       []string{fmt.Sprintf("value %d of Mira Voss", i)},
			},
		)
	}
	return s
}

// BenchmarkIssueResponse makes a response with 10 attributes and, by itself, its one signature. The metric beyond-µs is
// what it takes beyond the signature; the bound is 150.
func BenchmarkIssueResponse(b *testing.B) {
	for _, kind := range []keys.Kind{keys.RSA2048, keys.P256} {
		b.Run(string(kind), func(b *testing.B) {
			p := keyPair(b, "bench "+string(kind), kind)
			s := tenAttributes()
			s.SignAssertion, s.Signer = true, &xmlsig.Signer{Key: p.key, Certificate: p.cert.Raw}
			sum := sha256.Sum256([]byte("x"))
			var bare, whole time.Duration
			for b.Loop() {
				t0 := time.Now()
				if _, err := p.key.Sign(rand.Reader, sum[:], crypto.SHA256); err != nil {
					b.Fatal(err)
				}
				t1 := time.Now()
				if _, err := saml.IssueResponse(s); err != nil {
					b.Fatal(err)
				}
				bare, whole = bare+t1.Sub(t0), whole+time.Since(t1)
			}
			b.ReportMetric(float64((whole-bare).Microseconds())/float64(b.N), "beyond-µs")
			b.ReportMetric(0, "ns/op")
		})
	}
}

// BenchmarkAcceptResponse decodes, parses, verifies and checks a response with one signature and 10 attributes, and
// beside it makes one bare RSA-2048 verification. The metric ratio is the one over the other; the bound is 4.
func BenchmarkAcceptResponse(b *testing.B) {
	p := provider(b)
	s := tenAttributes()
	s.SignAssertion, s.Signer = true, &xmlsig.Signer{Key: p.key, Certificate: p.cert.Raw}
	made, err := saml.IssueResponse(s)
	require.NoError(b, err)
	form := saml.EncodePost(made.XML)
	r := rules(b)
	sum := sha256.Sum256([]byte("x"))
	sig, err := p.key.Sign(rand.Reader, sum[:], crypto.SHA256)
	require.NoError(b, err)
	public := p.cert.PublicKey.(*rsa.PublicKey)
	var bare, whole time.Duration
	for b.Loop() {
		t0 := time.Now()
		if err := rsa.VerifyPKCS1v15(public, crypto.SHA256, sum[:], sig); err != nil {
			b.Fatal(err)
		}
		t1 := time.Now()
		received, err := saml.DecodePost(saml.ParamResponse, form, "relay", gateACS)
		if err != nil {
			b.Fatal(err)
		}
		in, err := saml.OpenResponse(received)
		if err != nil {
			b.Fatal(err)
		}
		if _, err := in.Check(r, trace.NewRecorder(now, func() time.Time { return now })); err != nil {
			b.Fatal(err)
		}
		bare, whole = bare+t1.Sub(t0), whole+time.Since(t1)
	}
	b.ReportMetric(float64(whole)/float64(bare), "ratio")
	b.ReportMetric(float64(bare.Nanoseconds())/float64(b.N)/1000, "bare-µs")
	b.ReportMetric(0, "ns/op")
}
