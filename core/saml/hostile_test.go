package saml_test

import (
	"bytes"
	"crypto"
	"crypto/x509"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/internal/judge"
	"innergate/core/saml"
	"innergate/core/trace"
	"innergate/core/xmlsig"
	"innergate/core/xmltree"
)

// falselySigned puts a message with a signature by nobody around a body. Its declarations stand on the root.
func falselySigned(root, declarations, prefixes, body string) string {
	list := ""
	if prefixes != "" {
		list = `<ec:InclusiveNamespaces xmlns:ec="` + xmlsig.NSExc + `" PrefixList="` + prefixes + `"/>`
	}
	return `<samlp:` + root + ` xmlns:samlp="` + saml.NSProtocol + `" xmlns:saml="` + saml.NSAssertion + `"` + declarations +
		` ID="x" Version="2.0"><saml:Issuer>` + string(idpID) + `</saml:Issuer><ds:Signature xmlns:ds="` + xmlsig.NS + `"><ds:SignedInfo>` +
		`<ds:CanonicalizationMethod Algorithm="` + xmlsig.Exclusive + `">` + list + `</ds:CanonicalizationMethod>` +
		`<ds:SignatureMethod Algorithm="` + string(xmlsig.RSASHA256) + `"/>` +
		`<ds:Reference URI="#x"><ds:Transforms><ds:Transform Algorithm="` + xmlsig.Enveloped + `"/>` +
		`<ds:Transform Algorithm="` + xmlsig.Exclusive + `">` + list + `</ds:Transform></ds:Transforms>` +
		`<ds:DigestMethod Algorithm="` + xmlsig.NSEnc + `sha256"/>` +
		`<ds:DigestValue>47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU=</ds:DigestValue></ds:Reference></ds:SignedInfo>` +
		`<ds:SignatureValue>AAAA</ds:SignatureValue></ds:Signature>` + body + `</samlp:` + root + `>`
}

// declares makes n declarations whose prefixes begin with a name.
func declares(name string, n, length int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, ` xmlns:%s%d="u%s"`, name, i, strings.Repeat("x", length))
	}
	return b.String()
}

// nested repeats a start tag, filled in with its depth, around a body.
func nested(levels int, start func(int) string, body string) string {
	var b strings.Builder
	for i := range levels {
		b.WriteString(start(i))
	}
	b.WriteString(body)
	b.WriteString(strings.Repeat("</a>", levels))
	return b.String()
}

// hostileBodies are documents that ask their reader for much more than they are long. Each is about size octets.
func hostileBodies(root string, size int) map[string]string {
	fill := func(piece string) string { return strings.Repeat(piece, max(1, (size-2000)/len(piece))) }
	long := func(n int) string { return ` xmlns:a="urn:` + strings.Repeat("a", n) + `"` }
	var many strings.Builder
	for i := range 60 {
		fmt.Fprintf(&many, ` p0x0:%s%c%c=""`, strings.Repeat("n", 20), 'a'+i/26, 'a'+i%26)
	}
	layers := func(levels, each int, leaf string) string {
		return nested(levels, func(d int) string { return "<a" + declares(fmt.Sprintf("p%dx", d), each, 0) + ">" }, fill(leaf))
	}
	return map[string]string{
		"a namespace of 20,000 octets, used everywhere": falselySigned(root, long(20000), "", fill("<a:x/>")),
		"a namespace of 1,000 octets, used everywhere":  falselySigned(root, long(1000), "", fill("<a:x/>")),
		"a namespace in two hundred attributes":         falselySigned(root, long(900), "", fill(`<x a:y=""/>`)),
		"namespaces of a list of prefixes": falselySigned(
			root, declares("q", 60, 900), strings.Repeat("q1 q2 q3 q4 ", 15), fill("<x/>"),
		),
		"thousands of declarations in force":  falselySigned(root, "", "", layers(62, 63, "<a"+many.String()+"/>")),
		"as many declarations as are allowed": falselySigned(root, "", "", layers(4, 60, "<a"+many.String()+"/>")),
		"empty elements":                      falselySigned(root, "", "", fill("<x/>")),
		"instructions and comments":           falselySigned(root, "", "", fill("<?a?><!---->")),
		"text in many pieces": falselySigned(
			root, "", "", "<x>"+strings.Repeat(strings.Repeat("y", size/300)+"<![CDATA[z]]>", 250)+"</x>",
		),
		"text that grows by its references":    falselySigned(root, "", "", "<x>"+fill("&#62;")+"</x>"),
		"attributes that grow by their quotes": falselySigned(root, "", "", fill(`<x y='""""""""""""""""'/>`)),
		"attributes told apart at their ends": falselySigned(
			root, "", "", fill("<a"+strings.ReplaceAll(many.String(), "p0x0:", "")+"/>"),
		),
		"deep, and wide at the bottom": falselySigned(root, "", "", nested(50, func(int) string { return "<a>" }, fill("<a/>"))),
	}
}

// honest is a response with a good signature of about a size.
func honest(t testing.TB, size int) string {
	s := tenAttributes()
	p := provider(t)
	s.SignAssertion, s.SignResponse = true, true
	s.Signer = &xmlsig.Signer{Key: p.key, Certificate: p.cert.Raw}
	usual := s.Attributes
	for len(s.Attributes)*220+4000 < size {
		s.Attributes = append(s.Attributes, usual[0])
	}
	made, err := saml.IssueResponse(s)
	require.NoError(t, err)
	return string(made.XML)
}

// readers are what strangers' documents go through, whichever message they claim to be.
func readers(t testing.TB) map[string]func(doc []byte) {
	r, request := rules(t), requestRules(t)
	request.WantSigned = true
	request.Partner = r.Partner // so that a key is held which did not make the signature
	trusted := []*x509.Certificate{provider(t).cert}
	rec := func() *trace.Recorder { return trace.NewRecorder(now, func() time.Time { return now }) }
	return map[string]func(doc []byte){
		"Response": func(doc []byte) {
			if in, err := saml.OpenResponse(&saml.Received{Binding: saml.BindingPost, Param: saml.ParamResponse, XML: doc}); err == nil {
				_, _ = in.Check(r, rec())
			}
		},
		"LogoutRequest": func(doc []byte) {
			in, err := saml.OpenLogoutRequest(&saml.Received{Binding: saml.BindingSOAP, Param: saml.ParamRequest, XML: inSOAP(doc)})
			if err == nil {
				_, _ = in.Check(request, rec())
			}
		},
		"AuthnRequest": func(doc []byte) {
			_, _ = checkRequest(&saml.Received{Binding: saml.BindingPost, Param: saml.ParamRequest, XML: doc}, request)
		},
		"ArtifactResolve": func(doc []byte) {
			if in, err := saml.OpenArtifactResolve(inSOAP(doc)); err == nil {
				_, _ = in.Check(request, rec())
			}
		},
		"EntityDescriptor": func(doc []byte) {
			saml.ReadMetadata(asMetadata(doc, "EntityDescriptor"), now)
		},
		"EntityDescriptor, verified": func(doc []byte) {
			_ = saml.VerifyMetadata(asMetadata(doc, "EntityDescriptor"), trusted)
		},
		"EntitiesDescriptor, verified": func(doc []byte) {
			_ = saml.VerifyStream(bytes.NewReader(asMetadata(doc, "EntitiesDescriptor")), trusted)
		},
		"EntitiesDescriptor": func(doc []byte) {
			doc = asMetadata(doc, "EntitiesDescriptor")
			_, _ = saml.StreamMetadata(bytes.NewReader(doc), saml.ReadOptions{}, func(*saml.Document, *xmltree.Element) error {
				return nil
			})
		},
	}
}

func inSOAP(doc []byte) []byte {
	return []byte(`<s:Envelope xmlns:s="` + saml.NSSOAP + `"><s:Body>` + string(doc) + `</s:Body></s:Envelope>`)
}

// asMetadata makes metadata out of a message: the signature is its first child.
func asMetadata(doc []byte, root string) []byte {
	s := strings.Replace(string(doc), `<saml:Issuer>`+string(idpID)+`</saml:Issuer>`, "", 1)
	s = strings.ReplaceAll(s, "samlp:"+root, "md:"+root)
	return []byte(strings.Replace(s, `xmlns:samlp="`+saml.NSProtocol+`"`, `xmlns:md="`+saml.NSMetadata+`"`, 1))
}

// TestHostileDocumentsCostNoMoreThanHonestOnes holds the memory that each asks for against that of an honest document
// of the same size, before any key was found that made its signature.
func TestHostileDocumentsCostNoMoreThanHonestOnes(t *testing.T) {
	const size = 40 << 10
	good := []byte(honest(t, size))
	read := readers(t)
	read["Response"](good)
	usual := judge.Measure(func() { read["Response"](good) })
	perOctet := float64(usual.Memory) / float64(len(good))
	for root, reader := range read {
		for name, doc := range hostileBodies(strings.TrimSuffix(root, ", verified"), size) {
			spent := judge.Measure(func() { reader([]byte(doc)) })
			assert.Less(t, float64(spent.Memory)/float64(len(doc)), 20*perOctet, "%s: %s: %d octets took %d", root, name, len(doc),
				spent.Memory)
		}
	}
}

// TestCanonicalFormHasABudget refuses a document by its own key's signature all the same, where its canonical form is
// beyond all measure.
func TestCanonicalFormHasABudget(t *testing.T) {
	p := provider(t)
	doc := hostileBodies("Response", 40<<10)["a namespace of 1,000 octets, used everywhere"]
	root, err := xmltree.Parse([]byte(doc), xmltree.Limits{})
	require.NoError(t, err)
	_, err = xmlsig.Verify(root, root.First(saml.NSAssertion, "Issuer"), []crypto.PublicKey{p.cert.PublicKey}, xmlsig.Policy{})
	assert.ErrorContains(t, err, "far larger than the document")
}

// BenchmarkHostile reads documents that were made to be costly. The metrics are processor time and memory per octet,
// as multiples of those of an honest document of the same size; the bound is 20, and worst is the worst of them.
func BenchmarkHostile(b *testing.B) {
	for _, size := range []int{40 << 10, 500 << 10} {
		b.Run(fmt.Sprintf("%dkB", size>>10), func(b *testing.B) {
			good := []byte(honest(b, size))
			read := readers(b)
			least := func(work func()) judge.Spent {
				best := judge.Measure(work)
				for range 4 {
					if s := judge.Measure(work); s.Time < best.Time {
						best = s
					}
				}
				return best
			}
			var worstTime, worstMemory float64
			for b.Loop() {
				usual := least(func() { read["Response"](good) })
				for root, reader := range read {
					for name, doc := range hostileBodies(strings.TrimSuffix(root, ", verified"), size) {
						s := least(func() { reader([]byte(doc)) })
						scale := float64(len(good)) / float64(len(doc))
						inTime := float64(s.Time) / float64(usual.Time) * scale
						inMemory := float64(s.Memory) / float64(usual.Memory) * scale
						if inTime > 10 || inMemory > 10 {
							b.Logf("%s: %s: %.1f times the time, %.1f times the memory", root, name, inTime, inMemory)
						}
						worstTime, worstMemory = max(worstTime, inTime), max(worstMemory, inMemory)
					}
				}
			}
			b.ReportMetric(worstTime, "worst-time")
			b.ReportMetric(worstMemory, "worst-memory")
			b.ReportMetric(0, "ns/op")
		})
	}
}
