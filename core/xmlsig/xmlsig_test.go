package xmlsig_test

import (
	"crypto"
	"crypto/rsa"
	"encoding/base64"
	"encoding/pem"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/internal/judge"
	"innergate/core/keys"
	"innergate/core/xmlsig"
	"innergate/core/xmltree"
)

var generated sync.Map

// key makes one key of a kind for all tests.
func key(t testing.TB, kind keys.Kind) crypto.Signer {
	t.Helper()
	if k, ok := generated.Load(kind); ok {
		return k.(crypto.Signer)
	}
	k, err := keys.Generate(kind)
	require.NoError(t, err)
	generated.Store(kind, k)
	return k
}

func parse(t testing.TB, doc string) *xmltree.Element {
	t.Helper()
	root, err := xmltree.Parse([]byte(doc), xmltree.Limits{})
	require.NoError(t, err)
	return root
}

const plainDoc = `<s:Box xmlns:s="urn:box" xmlns:unused="urn:u" ID="_1" b="2" ` +
	`a="1"><s:Issuer>https://id.saltmere.example</s:Issuer><s:Item xmlns:x="urn:x" x:k="v">Zoë &amp; &lt;co&gt;</s:Item><s:Extra/></s:Box>`

func sign(t testing.TB, doc string, s xmlsig.Signer) string {
	t.Helper()
	root := parse(t, doc)
	require.NoError(t, s.Sign(root, root.First("urn:box", "Issuer")))
	return string(root.Bytes())
}

func verify(t testing.TB, doc string, policy xmlsig.Policy, trusted ...crypto.PublicKey) (xmlsig.Verified, error) {
	t.Helper()
	root, err := xmltree.Parse([]byte(doc), xmltree.Limits{})
	require.NoError(t, err)
	return xmlsig.Verify(root, root.First("urn:box", "Issuer"), trusted, policy)
}

func TestSignAndVerify(t *testing.T) {
	for _, c := range []struct {
		kind keys.Kind
		alg  xmlsig.Algorithm
	}{{keys.RSA2048, ""}, {keys.RSA2048, xmlsig.RSASHA384}, {keys.RSA3072, xmlsig.RSASHA512}, {keys.P256, ""},
		{keys.P256, xmlsig.ECDSASHA512}, {keys.P384, ""}, {keys.P384, xmlsig.ECDSASHA256}} {
		t.Run(string(c.kind)+" "+c.alg.Name(), func(t *testing.T) {
			k := key(t, c.kind)
			doc := sign(t, plainDoc, xmlsig.Signer{Key: k, Algorithm: c.alg})
			other := key(t, keys.RSA4096)
			v, err := verify(t, doc, xmlsig.Policy{}, other.Public(), k.Public())
			require.NoError(t, err)
			assert.Equal(t, 1, v.Key())
			assert.Equal(t, "Zoë & <co>", v.Element().First("urn:box", "Item").Text())
		})
	}
}

func TestSignRefuses(t *testing.T) {
	root := parse(t, plainDoc)
	s := xmlsig.Signer{Key: key(t, keys.RSA2048), Algorithm: xmlsig.RSASHA1}
	assert.ErrorContains(t, s.Sign(root, nil), "not an algorithm to sign with")
	s.Algorithm = xmlsig.ECDSASHA256
	assert.ErrorContains(t, s.Sign(root, nil), "does not fit")
	s.Algorithm = ""
	assert.ErrorContains(t, s.Sign(parse(t, `<a/>`), nil), "without an ID")
}

// TestVerifyRefuses makes each attack on a good document and expects a refusal with the right reason.
func TestVerifyRefuses(t *testing.T) {
	k := key(t, keys.RSA2048)
	good := sign(t, plainDoc, xmlsig.Signer{Key: k})
	sigFrom, sigTo := strings.Index(good, "<ds:Signature "), strings.Index(good, "</ds:Signature>")+len("</ds:Signature>")
	signature := good[sigFrom:sigTo]
	unsigned := good[:sigFrom] + good[sigTo:]
	swap := func(old, new string) string {
		require.Contains(t, good, old)
		return strings.Replace(good, old, new, 1)
	}
	digestAt := strings.Index(good, "<ds:DigestValue>") + len("<ds:DigestValue>")
	cases := []struct {
		name, doc string
		reason    xmlsig.Reason
	}{
		{"no signature", unsigned, xmlsig.Missing},
		{"content changed", swap("Zoë", "Zoe"), xmlsig.Altered},
		{"attribute changed", swap(`b="2"`, `b="3"`), xmlsig.Altered},
		{"attribute added", swap(`b="2"`, `b="2" c="3"`), xmlsig.Altered},
		{"namespace redefined", swap(`xmlns:x="urn:x"`, `xmlns:x="urn:y"`), xmlsig.Altered},
		{"element added", swap(`<s:Extra/>`, `<s:Extra/><s:Extra/>`), xmlsig.Altered},
		{"signature last", strings.Replace(unsigned, "</s:Box>", signature+"</s:Box>", 1), xmlsig.Malformed},
		{"signature twice", swap(signature, signature+signature), xmlsig.Malformed},
		{"signature deeper", strings.Replace(unsigned, "<s:Extra/>", "<s:Extra>"+signature+"</s:Extra>", 1), xmlsig.Missing},
		{"reference empty", swap(`URI="#_1"`, `URI=""`), xmlsig.Malformed},
		{"reference missing", swap(` URI="#_1"`, ``), xmlsig.Malformed},
		{"reference to another", swap(`URI="#_1"`, `URI="#_2"`), xmlsig.Malformed},
		{"reference by xpointer", swap(`URI="#_1"`, `URI="#xpointer(id('_1'))"`), xmlsig.Malformed},
		{"reference outside", swap(`URI="#_1"`, `URI="https://evil.example/#_1"`), xmlsig.Malformed},
		{"ID twice", swap(`<s:Extra/>`, `<s:Extra ID="_1"/>`), xmlsig.Malformed},
		{"ID twice in other spelling", swap(`<s:Extra/>`, `<s:Extra Id="_1"/>`), xmlsig.Malformed},
		{"ID twice as xml:id", swap(`<s:Extra/>`, `<s:Extra xml:id="_1"/>`), xmlsig.Malformed},
		{"no Reference", cut(good, "<ds:Reference ", "</ds:Reference>"), xmlsig.Malformed},
		{"two References", double(good, "<ds:Reference ", "</ds:Reference>"), xmlsig.Malformed},
		{"no Transforms", cut(good, "<ds:Transforms>", "</ds:Transforms>"), xmlsig.Malformed},
		{"XSLT", swap(`Algorithm="`+xmlsig.Enveloped+`"`, `Algorithm="http://www.w3.org/TR/1999/REC-xslt-19991116"`), xmlsig.Malformed},
		{"XPath", swap(`Algorithm="`+xmlsig.Enveloped+`"`, `Algorithm="http://www.w3.org/TR/1999/REC-xpath-19991116"`), xmlsig.Malformed},
		{
			"three transforms",
			swap(`</ds:Transforms>`, `<ds:Transform Algorithm="`+xmlsig.Exclusive+`"/></ds:Transforms>`),
			xmlsig.Malformed,
		},
		{
			"inclusive canonicalisation",
			swap(
				`<ds:CanonicalizationMethod Algorithm="`+xmlsig.Exclusive+`"`,
				`<ds:CanonicalizationMethod Algorithm="http://www.w3.org/TR/2001/REC-xml-c14n-20010315"`,
			),
			xmlsig.Malformed,
		},
		{"no canonicalisation", swap(`<ds:CanonicalizationMethod Algorithm="`+xmlsig.Exclusive+`"/>`, ``), xmlsig.Malformed},
		{"digest in pieces by a comment", good[:digestAt+4] + "<!-- x -->" + good[digestAt+4:], xmlsig.Malformed},
		{"digest in pieces by white space", good[:digestAt+4] + "\n" + good[digestAt+4:], xmlsig.WrongKey},
		{"digest replaced", good[:digestAt] + base64.StdEncoding.EncodeToString(make([]byte, 32)) + good[digestAt+44:], xmlsig.WrongKey},
		{"digest empty", good[:digestAt] + good[digestAt+44:], xmlsig.Malformed},
		{"digest short", good[:digestAt] + "AAAA" + good[digestAt+44:], xmlsig.Malformed},
		{"comment in SignedInfo", swap(`<ds:SignedInfo>`, `<ds:SignedInfo><!-- x -->`), xmlsig.Malformed},
		{
			"HMAC with the public key",
			swap(`Algorithm="`+string(xmlsig.RSASHA256)+`"`, `Algorithm="http://www.w3.org/2000/09/xmldsig#hmac-sha1"`),
			xmlsig.Unknown,
		},
		{"algorithm empty", swap(`Algorithm="`+string(xmlsig.RSASHA256)+`"`, `Algorithm=""`), xmlsig.Unknown},
		{
			"MD5 digest",
			swap(`Algorithm="`+xmlsig.NSEnc+`sha256"`, `Algorithm="http://www.w3.org/2001/04/xmldsig-more#md5"`),
			xmlsig.Unknown,
		},
		{"SHA-1 signature", swap(`Algorithm="`+string(xmlsig.RSASHA256)+`"`, `Algorithm="`+string(xmlsig.RSASHA1)+`"`), xmlsig.Weak},
		{"Object in the signature", swap(`</ds:Signature>`, `<ds:Object><s:Box ID="_9"/></ds:Object></ds:Signature>`), xmlsig.Malformed},
		{"signature value empty", cutInner(good, "<ds:SignatureValue>", "</ds:SignatureValue>"), xmlsig.Malformed},
		{"text in SignedInfo", swap(`<ds:SignedInfo>`, `<ds:SignedInfo>x`), xmlsig.Malformed},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			v, err := verify(t, c.doc, xmlsig.Policy{}, k.Public())
			var sigErr *xmlsig.Error
			require.ErrorAs(t, err, &sigErr)
			assert.Equal(t, c.reason, sigErr.Reason, sigErr.Detail)
			assert.Nil(t, v.Element())
		})
	}
	t.Run("no trusted key", func(t *testing.T) {
		_, err := verify(t, good, xmlsig.Policy{})
		assert.Equal(t, xmlsig.NoKey, err.(*xmlsig.Error).Reason)
	})
}

func cut(s, from, to string) string {
	i := strings.Index(s, from)
	return s[:i] + s[i+strings.Index(s[i:], to)+len(to):]
}

func cutInner(s, from, to string) string {
	i := strings.Index(s, from) + len(from)
	return s[:i] + s[i+strings.Index(s[i:], to):]
}

func double(s, from, to string) string {
	i := strings.Index(s, from)
	end := i + strings.Index(s[i:], to) + len(to)
	return s[:end] + s[i:end] + s[end:]
}

func TestKeyInfoIsEvidenceOnly(t *testing.T) {
	signer, held := key(t, keys.RSA2048), key(t, keys.RSA3072)
	cert, err := keys.SelfSigned(signer, "Old Harbour", time.Now(), time.Hour)
	require.NoError(t, err)
	doc := sign(t, plainDoc, xmlsig.Signer{Key: signer, Certificate: cert})
	_, err = verify(t, doc, xmlsig.Policy{}, held.Public())
	var sigErr *xmlsig.Error
	require.ErrorAs(t, err, &sigErr)
	assert.Equal(t, xmlsig.WrongKey, sigErr.Reason)
	assert.True(t, sigErr.ContentIntact)
	require.NotNil(t, sigErr.Claimed)
	assert.Equal(t, cert, sigErr.Claimed.Raw)
}

func TestWithinStaysInside(t *testing.T) {
	k := key(t, keys.RSA2048)
	doc := "<o>" + sign(t, plainDoc, xmlsig.Signer{Key: k}) + `<s:Forged xmlns:s="urn:box"/></o>`
	root := parse(t, doc)
	box := root.First("urn:box", "Box")
	v, err := xmlsig.Verify(box, box.First("urn:box", "Issuer"), []crypto.PublicKey{k.Public()}, xmlsig.Policy{})
	require.NoError(t, err)
	_, err = v.Within(box.First("urn:box", "Item"))
	assert.NoError(t, err)
	_, err = v.Within(root.First("urn:box", "Forged"))
	assert.Error(t, err)
	_, err = v.Within(box.First(xmlsig.NS, "Signature").First(xmlsig.NS, "SignedInfo"))
	assert.Error(t, err)
}

func TestWeakKeysAreRefused(t *testing.T) {
	t.Setenv("GODEBUG", "rsa1024min=0")
	small, err := rsa.GenerateKey(zeroes{}, 1024)
	if err != nil {
		t.Skip("this Go makes no keys of 1024 bits")
	}
	assert.ErrorContains(t, xmlsig.CheckKey(&small.PublicKey), "1024 bits")
	doc := sign(t, plainDoc, xmlsig.Signer{Key: small})
	_, err = verify(t, doc, xmlsig.Policy{}, &small.PublicKey)
	assert.ErrorContains(t, err, "1024 bits")
}

type zeroes struct{}

func (zeroes) Read(b []byte) (int, error) {
	for i := range b {
		b[i] = byte(i * 31)
	}
	return len(b), nil
}

func writeFile(t testing.TB, name string, data []byte) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(path, data, 0o600))
	return path
}

func privatePEM(t testing.TB, k crypto.Signer) string {
	der, err := keys.MarshalPrivate(k)
	require.NoError(t, err)
	return writeFile(t, "key.pem", pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
}

func run(t testing.TB, name string, args ...string) string {
	t.Helper()
	out, err := exec.Command(name, args...).CombinedOutput()
	require.NoError(t, err, string(out))
	return string(out)
}

var judgedKinds = []struct {
	kind keys.Kind
	alg  xmlsig.Algorithm
}{{keys.RSA2048, xmlsig.RSASHA256}, {keys.RSA2048, xmlsig.RSASHA512}, {keys.P256, xmlsig.ECDSASHA256}, {keys.P384, xmlsig.ECDSASHA384}}

// TestJudgeAcceptsOurs has xmlsec1 verify what we signed, also generated content.
func TestJudgeAcceptsOurs(t *testing.T) {
	xmlsec := judge.Find(t, "xmlsec1")
	for i, c := range judgedKinds {
		k := key(t, c.kind)
		cert, err := keys.SelfSigned(k, "judge", time.Now(), time.Hour)
		require.NoError(t, err)
		certFile := writeFile(t, "cert.pem", keys.EncodeCertificate(cert))
		docs := []string{plainDoc}
		for _, inner := range judge.Documents(40)[i*10 : i*10+10] {
			docs = append(docs, `<s:Box xmlns:s="urn:box" ID="_1"><s:Issuer>x</s:Issuer>`+inner+`</s:Box>`)
		}
		for _, doc := range docs {
			signed := writeFile(t, "signed.xml", []byte(sign(t, doc, xmlsig.Signer{Key: k, Algorithm: c.alg})))
			run(t, xmlsec, "--verify", "--id-attr:ID", "urn:box:Box", "--pubkey-cert-pem", certFile, signed)
		}
	}
}

// TestWeAcceptTheJudges verifies what xmlsec1 signed, also with a PrefixList.
func TestWeAcceptTheJudges(t *testing.T) {
	xmlsec := judge.Find(t, "xmlsec1")
	for i, c := range judgedKinds {
		k := key(t, c.kind)
		keyFile := privatePEM(t, k)
		for j, inner := range append([]string{"<s:Item/>"}, judge.Documents(80)[i*10:i*10+10]...) {
			prefixList := ""
			if j%2 == 1 {
				prefixList = `<ec:InclusiveNamespaces xmlns:ec="` + xmlsig.NSExc + `" PrefixList="a b #default"/>`
			}
			template := `<s:Box xmlns:s="urn:box" xmlns:a="urn:a" xmlns:b="urn:b" ID="_1"><s:Issuer>x</s:Issuer><ds:Signature xmlns:ds="` +
				xmlsig.NS + `"><ds:SignedInfo>
<ds:CanonicalizationMethod Algorithm="` + xmlsig.Exclusive + `"/><ds:SignatureMethod Algorithm="` + string(c.alg) + `"/>
<ds:Reference URI="#_1"><ds:Transforms><ds:Transform Algorithm="` + xmlsig.Enveloped + `"/><ds:Transform Algorithm="` +
				xmlsig.Exclusive + `">` + prefixList + `</ds:Transform></ds:Transforms>
<ds:DigestMethod Algorithm="` + xmlsig.NSEnc + `sha256"/><ds:DigestValue/></ds:Reference></ds:SignedInfo><ds:SignatureValue/>` +
				`</ds:Signature>` + inner + `</s:Box>`
			out := run(
				t, xmlsec, "--sign", "--privkey-pem", keyFile, "--id-attr:ID", "urn:box:Box",
				writeFile(t, "template.xml", []byte(template)),
			)
			_, err := verify(t, out, xmlsig.Policy{}, k.Public())
			require.NoError(t, err, out)
		}
	}
}

func TestEncryptAndDecrypt(t *testing.T) {
	private := key(t, keys.RSA2048).(*rsa.PrivateKey)
	plain := []byte("<Secret>depth 4 m at low water</Secret>")
	for _, content := range []string{xmlsig.AES128GCM, xmlsig.AES256GCM, xmlsig.AES128CBC, xmlsig.AES256CBC} {
		for _, x := range []xmlsig.Encrypter{{}, {Digest: crypto.SHA256},
			{KeyTransport: xmlsig.OAEP11, Digest: crypto.SHA256, Mask: crypto.SHA256},
			{KeyTransport: xmlsig.OAEP11, Digest: crypto.SHA512, Mask: crypto.SHA1}} {
			x.Key, x.Content = &private.PublicKey, content
			data, err := x.Encrypt(plain)
			require.NoError(t, err)
			holder := parse(t, "<h>"+string(data.Bytes())+"</h>")
			got, err := xmlsig.Decrypt(holder, []*rsa.PrivateKey{key(t, keys.RSA3072).(*rsa.PrivateKey), private}, true)
			require.NoError(t, err, content)
			assert.Equal(t, plain, got)
			if strings.HasSuffix(content, "cbc") {
				_, err = xmlsig.Decrypt(holder, []*rsa.PrivateKey{private}, false)
				assert.ErrorContains(t, err, "not accepted")
			}
		}
	}
}

// TestDecryptSaysNothing changes a ciphertext octet by octet: every answer is the same (padding oracle).
func TestDecryptSaysNothing(t *testing.T) {
	private := key(t, keys.RSA2048).(*rsa.PrivateKey)
	x := xmlsig.Encrypter{Key: &private.PublicKey}
	data, err := x.Encrypt([]byte("<a/>"))
	require.NoError(t, err)
	doc := "<h>" + string(data.Bytes()) + "</h>"
	values := []int{}
	for at := 0; ; {
		i := strings.Index(doc[at:], "<xenc:CipherValue>")
		if i < 0 {
			break
		}
		at += i + len("<xenc:CipherValue>")
		values = append(values, at)
	}
	require.Len(t, values, 2)
	for _, start := range values {
		for i := range 24 {
			changed := []byte(doc)
			if changed[start+i] == 'A' {
				changed[start+i] = 'B'
			} else {
				changed[start+i] = 'A'
			}
			_, err := xmlsig.Decrypt(parse(t, string(changed)), []*rsa.PrivateKey{private}, true)
			require.Equal(t, xmlsig.ErrDecrypt, err)
		}
	}
	_, err = xmlsig.Decrypt(parse(t, doc), []*rsa.PrivateKey{key(t, keys.RSA3072).(*rsa.PrivateKey)}, false)
	assert.Equal(t, xmlsig.ErrDecrypt, err)
	_, err = xmlsig.Decrypt(parse(t, strings.Replace(doc, xmlsig.OAEPMGF1P, xmlsig.NSEnc+"rsa-1_5", 1)), []*rsa.PrivateKey{private}, true)
	assert.ErrorContains(t, err, "not accepted")
}

// TestEncryptionAgainstJudge opens ours with xmlsec1 and xmlsec1's with ours.
func TestEncryptionAgainstJudge(t *testing.T) {
	xmlsec := judge.Find(t, "xmlsec1")
	private := key(t, keys.RSA2048).(*rsa.PrivateKey)
	keyFile := privatePEM(t, private)
	cert, err := keys.SelfSigned(private, "judge", time.Now(), time.Hour)
	require.NoError(t, err)
	certFile := writeFile(t, "cert.pem", keys.EncodeCertificate(cert))
	for content, session := range map[string]string{xmlsig.AES256GCM: "aes-256", xmlsig.AES128CBC: "aes-128", xmlsig.AES128GCM: "aes-128"} {
		x := xmlsig.Encrypter{Key: &private.PublicKey, Content: content}
		data, err := x.Encrypt([]byte("<Secret>x</Secret>"))
		require.NoError(t, err)
		out := run(t, xmlsec, "--decrypt", "--privkey-pem", keyFile, writeFile(t, "ours.xml", data.Bytes()))
		assert.Contains(t, out, "<Secret>x</Secret>")

		template := `<xenc:EncryptedData xmlns:xenc="` + xmlsig.NSEnc + `" Type="` + xmlsig.NSEnc +
			`Element"><xenc:EncryptionMethod Algorithm="` + content + `"/><ds:KeyInfo xmlns:ds="` + xmlsig.NS +
			`"><xenc:EncryptedKey><xenc:EncryptionMethod Algorithm="` + xmlsig.OAEPMGF1P +
			`"/><xenc:CipherData><xenc:CipherValue/></xenc:CipherData></xenc:EncryptedKey></ds:KeyInfo><xenc:CipherData>` +
			`<xenc:CipherValue/></xenc:CipherData></xenc:EncryptedData>`
		theirs := run(
			t, xmlsec, "--encrypt", "--pubkey-cert-pem", certFile, "--session-key", session, "--xml-data",
			writeFile(t, "plain.xml", []byte("<Secret>y</Secret>")), writeFile(t, "template.xml", []byte(template)),
		)
		theirs = theirs[strings.Index(theirs, "<xenc:EncryptedData"):]
		got, err := xmlsig.Decrypt(parse(t, "<h>"+theirs+"</h>"), []*rsa.PrivateKey{private}, true)
		require.NoError(t, err, theirs)
		assert.Contains(t, string(got), "<Secret>y</Secret>")
	}
}

func TestRawSignatures(t *testing.T) {
	for _, kind := range []keys.Kind{keys.RSA2048, keys.P256, keys.P384} {
		k := key(t, kind)
		alg := xmlsig.DefaultAlgorithm(k.Public())
		sig, err := xmlsig.SignRaw(k, alg, []byte("SAMLRequest=x"))
		require.NoError(t, err)
		assert.True(t, xmlsig.VerifyRaw(k.Public(), alg, []byte("SAMLRequest=x"), sig))
		assert.False(t, xmlsig.VerifyRaw(k.Public(), alg, []byte("SAMLRequest=y"), sig))
		assert.False(t, xmlsig.VerifyRaw(k.Public(), alg, []byte("SAMLRequest=x"), append(sig, 0)))
		assert.False(t, xmlsig.VerifyRaw(k.Public(), "", []byte("SAMLRequest=x"), sig))
	}
}
