package saml_test

import (
	"bufio"
	"bytes"
	"crypto/x509"
	"encoding/base64"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/saml"
	"innergate/core/xmlsig"
	"innergate/core/xmltree"
)

// federation makes a document of many entities of usual size, about 6 kB each, optionally signed.
func federation(t testing.TB, entities int, signer *pair) []byte {
	cert := base64.StdEncoding.EncodeToString(provider(t).cert.Raw)
	var b bytes.Buffer
	b.WriteString(
		`<md:EntitiesDescriptor xmlns:md="urn:oasis:names:tc:SAML:2.0:metadata" xmlns:ds="http://www.w3.org/2000/09/xmldsig#" ` +
			`xmlns:mdui="urn:oasis:names:tc:SAML:metadata:ui" ID="all" Name="harbours.example" validUntil="2026-12-01T00:00:00Z" ` +
			`cacheDuration="PT6H">` + "\n",
	)
	for i := range entities {
		fmt.Fprintf(&b, `  <md:EntityDescriptor entityID="https://port-%05d.harbours.example/saml">
    <md:SPSSODescriptor protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol">
      <md:Extensions><mdui:UIInfo><mdui:DisplayName xml:lang="en">Port %d &amp; sons</mdui:DisplayName><mdui:Description `+
			`xml:lang="en">%s</mdui:Description></mdui:UIInfo></md:Extensions>
      <md:KeyDescriptor use="signing"><ds:KeyInfo><ds:X509Data><ds:X509Certificate>%s</ds:X509Certificate></ds:X509Data>`+
			`</ds:KeyInfo></md:KeyDescriptor>
      <md:KeyDescriptor use="encryption"><ds:KeyInfo><ds:X509Data><ds:X509Certificate>%s</ds:X509Certificate></ds:X509Data>`+
			`</ds:KeyInfo></md:KeyDescriptor>
`, i, i, strings.Repeat("A quiet place by the sea. ", 40), cert, cert)
		for n := range 6 {
			fmt.Fprintf(
				&b,
				`      <md:AssertionConsumerService Binding="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST" `+
					`Location="https://port-%05d.harbours.example/acs/%d" index="%d"/>`+"\n",
				i,
				n,
				n,
			)
		}
		b.WriteString("      <md:AttributeConsumingService index=\"0\"><md:ServiceName xml:lang=\"en\">Port</md:ServiceName>\n")
		for n := range 8 {
			fmt.Fprintf(
				&b,
				`        <md:RequestedAttribute Name="urn:oid:2.5.4.%d" NameFormat="urn:oasis:names:tc:SAML:2.0:attrname-format:uri" `+
					`FriendlyName="attribute%d"/>`+"\n",
				n,
				n,
			)
		}
		b.WriteString("      </md:AttributeConsumingService>\n    </md:SPSSODescriptor>\n  </md:EntityDescriptor>\n")
	}
	b.WriteString("</md:EntitiesDescriptor>\n")
	if signer == nil {
		return b.Bytes()
	}
	root, err := xmltree.Parse(b.Bytes(), xmltree.Limits{Bytes: 1 << 30, Elements: 1 << 30})
	require.NoError(t, err)
	require.NoError(t, (&xmlsig.Signer{Key: signer.key, Certificate: signer.cert.Raw}).Sign(root, nil))
	return root.Bytes()
}

func TestStreamMetadata(t *testing.T) {
	doc := federation(t, 50, nil)
	for name, r := range map[string]io.Reader{"at once": bytes.NewReader(doc), "byte by byte": iotest.OneByteReader(bytes.NewReader(doc)),
		"byte order mark": io.MultiReader(strings.NewReader("\ufeff"), bytes.NewReader(doc)),
		"declaration":     io.MultiReader(strings.NewReader("<?xml version=\"1.0\"?>\n<!-- made nightly -->"), bytes.NewReader(doc))} {
		t.Run(name, func(t *testing.T) {
			var ids []string
			a, err := saml.StreamMetadata(r, saml.ReadOptions{Now: now}, func(d *saml.Document, raw *xmltree.Element) error {
				require.Len(t, d.Entities, 1)
				e := d.Entities[0]
				ids = append(ids, e.EntityID)
				assert.Equal(t, 2026, e.ValidUntil.Year(), "validUntil is inherited")
				alone := saml.ReadMetadata(raw.Bytes(), now)
				require.Empty(t, alone.Problems, "the piece is a document of its own")
				assert.Equal(t, e.Roles, alone.Entities[0].Roles)
				return nil
			})
			require.NoError(t, err)
			assert.Equal(
				t,
				saml.Aggregate{Name: "harbours.example", ValidUntil: a.ValidUntil, CacheDuration: 6 * time.Hour, Entities: 50},
				*a,
			)
			assert.Len(t, ids, 50)
			assert.Equal(t, "https://port-00049.harbours.example/saml", ids[49])
		})
	}
}

func TestStreamMetadataStopsWhenTold(t *testing.T) {
	enough := errors.New("enough")
	n := 0
	_, err := saml.StreamMetadata(
		bytes.NewReader(federation(t, 10, nil)),
		saml.ReadOptions{Now: now},
		func(*saml.Document, *xmltree.Element) error {
			if n++; n == 3 {
				return enough
			}
			return nil
		},
	)
	assert.ErrorIs(t, err, enough)
	assert.Equal(t, 3, n)
}

func TestStreamMetadataRefuses(t *testing.T) {
	good := string(federation(t, 3, nil))
	for name, c := range map[string]struct{ doc, says string }{
		"truncated": {good[:len(good)-200], "has no end"},
		"in a tag":  {good[:strings.Index(good, "entityID=")+12], "has no end"},
		"one entity only": {`<EntityDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata" entityID="urn:x"/>`,
			"not EntitiesDescriptor"},
		"text between":   {strings.Replace(good, "<md:EntityDescriptor", "x<md:EntityDescriptor", 1), "text stands between"},
		"CDATA between":  {strings.Replace(good, "<md:EntityDescriptor", "<![CDATA[ ]]><md:EntityDescriptor", 1), "text stands between"},
		"DOCTYPE":        {"<!DOCTYPE x>" + good, "document type declaration"},
		"behind the end": {good + "<x/>", "something stands after"},
		"crossed end tags": {strings.Replace(good, "</md:SPSSODescriptor>\n  </md:EntityDescriptor>",
			"</md:EntityDescriptor></md:SPSSODescriptor>", 1), "does not fit"},
		"undeclared prefix": {strings.Replace(good, "<mdui:UIInfo", "<other:UIInfo", 1), "not declared"},
		"nested too deep":   {strings.Repeat(`<EntitiesDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata">`, 40), "nested deeper"},
		"endless element": {`<EntitiesDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata"><EntityDescriptor entityID="` +
			strings.Repeat("x", 5<<20), "more than the"},
		"nothing":   {"", "no root element"},
		"not UTF-8": {strings.Replace(good, "Port 1 ", "Port \xff ", 1), "UTF-8"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := saml.StreamMetadata(
				strings.NewReader(c.doc),
				saml.ReadOptions{Now: now},
				func(*saml.Document, *xmltree.Element) error { return nil },
			)
			assert.ErrorContains(t, err, c.says)
		})
	}
}

func TestVerifyStream(t *testing.T) {
	p := provider(t)
	doc := string(federation(t, 5, &p))
	verify := func(doc string, pinned ...*x509.Certificate) error {
		return saml.VerifyStream(strings.NewReader(doc), pinned)
	}
	require.NoError(t, verify(doc, stranger(t).cert, p.cert))
	require.NoError(t, saml.VerifyMetadata([]byte(doc), []*x509.Certificate{p.cert}), "both ways of reading agree")
	require.NoError(t, saml.VerifyStream(iotest.OneByteReader(strings.NewReader(doc)), []*x509.Certificate{p.cert}))

	signature := doc[strings.Index(doc, "<ds:Signature") : strings.Index(doc, "</ds:Signature>")+len("</ds:Signature>")]
	for name, c := range map[string]struct {
		doc    string
		reason xmlsig.Reason
	}{
		"another key":     {doc, xmlsig.WrongKey},
		"changed text":    {strings.Replace(doc, "Port 3 ", "Port 8 ", 1), xmlsig.Altered},
		"changed address": {strings.Replace(doc, "/acs/1", "/acs/9", 1), xmlsig.Altered},
		"changed end":     {strings.Replace(doc, "2026-12-01", "2027-12-01", 1), xmlsig.Altered},
		"white space":     {strings.Replace(doc, "\n  <md:EntityDescriptor", "\n   <md:EntityDescriptor", 1), xmlsig.Altered},
		"entity added": {strings.Replace(doc, "</md:EntitiesDescriptor>",
			`<md:EntityDescriptor entityID="urn:evil"/></md:EntitiesDescriptor>`, 1), xmlsig.Altered},
		"not signed": {strings.Replace(doc, signature, "", 1), xmlsig.Missing},
		"signature last": {strings.Replace(strings.Replace(doc, signature, "", 1), "</md:EntitiesDescriptor>",
			signature+"</md:EntitiesDescriptor>", 1), xmlsig.Missing},
		"two signatures":   {strings.Replace(doc, signature, signature+signature, 1), xmlsig.Malformed},
		"the same ID":      {strings.Replace(doc, "<md:SPSSODescriptor", `<md:SPSSODescriptor ID="all"`, 1), xmlsig.Malformed},
		"reference to all": {strings.Replace(doc, `URI="#all"`, `URI=""`, 1), xmlsig.Malformed},
	} {
		t.Run(name, func(t *testing.T) {
			pinned := p.cert
			if name == "another key" {
				pinned = stranger(t).cert
			}
			var e *xmlsig.Error
			require.ErrorAs(t, verify(c.doc, pinned), &e)
			assert.Equal(t, c.reason, e.Reason, e.Detail)
		})
	}
}

// scanTokens is the floor: every token of the document, by the standard library.
func scanTokens(r io.Reader) error {
	d := xml.NewDecoder(bufio.NewReaderSize(r, 256<<10))
	for {
		if _, err := d.RawToken(); err == io.EOF {
			return nil
		} else if err != nil {
			return err
		}
	}
}

// peak runs f and returns how much the heap grew at most, in MiB, looked at every few milliseconds.
func peak(f func()) float64 {
	runtime.GC()
	var before, now runtime.MemStats
	runtime.ReadMemStats(&before)
	done, most := make(chan struct{}), make(chan uint64)
	go func() {
		high := uint64(0)
		for {
			runtime.ReadMemStats(&now)
			high = max(high, now.HeapInuse)
			select {
			case <-done:
				most <- high
				return
			case <-time.After(5 * time.Millisecond):
			}
		}
	}()
	f()
	close(done)
	high := <-most
	if high < before.HeapInuse {
		return 0
	}
	return float64(high-before.HeapInuse) / (1 << 20)
}

// BenchmarkAggregate reads a document of 10,000 entities, about 60 MB. The metric ratio is its time over that of a bare
// scan of tokens by the standard library; MiB is how much more memory it takes. The bounds are 2 and 64 unsigned, 5 and
// 128 signed.
func BenchmarkAggregate(b *testing.B) {
	p := provider(b)
	for _, signed := range []bool{false, true} {
		b.Run(map[bool]string{false: "unsigned", true: "signed"}[signed], func(b *testing.B) {
			signer := &p
			if !signed {
				signer = nil
			}
			file := filepath.Join(b.TempDir(), "aggregate.xml")
			doc := federation(b, 10000, signer)
			size := len(doc)
			require.NoError(b, os.WriteFile(file, doc, 0o600))
			doc = nil
			open := func() *os.File {
				f, err := os.Open(file)
				require.NoError(b, err)
				return f
			}
			read := func() {
				f := open()
				defer f.Close()
				if signed {
					if err := saml.VerifyStream(f, []*x509.Certificate{p.cert}); err != nil {
						b.Fatal(err)
					}
					_, err := f.Seek(0, io.SeekStart)
					require.NoError(b, err)
				}
				a, err := saml.StreamMetadata(f, saml.ReadOptions{Now: now}, func(d *saml.Document, _ *xmltree.Element) error {
					if len(d.Entities) != 1 || len(d.Entities[0].Roles) != 1 {
						return errors.New("an entity was not understood")
					}
					return nil
				})
				if err != nil || a.Entities != 10000 {
					b.Fatal(err)
				}
			}
			var floor, whole time.Duration
			high := 0.0
			for b.Loop() {
				t0 := time.Now()
				f := open()
				if err := scanTokens(f); err != nil {
					b.Fatal(err)
				}
				f.Close()
				t1 := time.Now()
				high = max(high, peak(read))
				floor, whole = floor+t1.Sub(t0), whole+time.Since(t1)
			}
			b.ReportMetric(float64(whole)/float64(floor), "ratio")
			b.ReportMetric(high, "MiB")
			b.ReportMetric(float64(size)/1e6, "MB")
		})
	}
}
