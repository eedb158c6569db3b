package saml_test

import (
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"encoding/base64"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/saml"
	"innergate/core/xmlsig"
	"innergate/core/xmltree"
)

// TestResponseLatitude lists what the standard allows and must therefore be accepted.
func TestResponseLatitude(t *testing.T) {
	audience := `<saml:AudienceRestriction><saml:Audience>` + string(gateID) + `</saml:Audience></saml:AudienceRestriction>`
	confirmation := `<saml:SubjectConfirmation Method="urn:oasis:names:tc:SAML:2.0:cm:bearer">`
	for name, change := range map[string]func(string) string{
		"no issuer on the response": func(s string) string {
			return strings.Replace(s, "<saml:Issuer>"+string(idpID)+"</saml:Issuer>", "", 1)
		},
		"no destination on the response": replace(` Destination="`+gateACS+`"`, ""),
		"several audiences in one restriction": replace(audience,
			strings.Replace(audience, "<saml:Audience>", "<saml:Audience>urn:other</saml:Audience><saml:Audience>", 1)),
		"two restrictions that hold":        replace(audience, audience+audience),
		"OneTimeUse":                        replace(audience, audience+"<saml:OneTimeUse/>"),
		"ProxyRestriction that leaves room": replace(audience, audience+`<saml:ProxyRestriction Count="1"/>`),
		"another confirmation before the bearer": replace(confirmation,
			`<saml:SubjectConfirmation Method="urn:oasis:names:tc:SAML:2.0:cm:sender-vouches"/>`+confirmation),
		"a bearer confirmation for another address before ours": replace(confirmation,
			confirmation+`<saml:SubjectConfirmationData NotOnOrAfter="2030-01-01T00:00:00Z" `+
				`Recipient="https://other.example/acs"/></saml:SubjectConfirmation>`+confirmation),
		"white space between elements": func(s string) string { return strings.ReplaceAll(s, "><saml:", ">\n  <saml:") },
		"a comment between elements":   replace("<saml:AuthnStatement", "<!-- by hand --><saml:AuthnStatement"),
		"CDATA in a value":             replace(">Mira<", "><![CDATA[Mira]]><"),
		"times with fractions and offsets": replace(`AuthnInstant="2026-11-23T09:41:05.000Z"`,
			`AuthnInstant="2026-11-23T10:41:05.123456+01:00"`),
		"an empty value": replace("<saml:AttributeValue>ferry-crew</saml:AttributeValue>",
			"<saml:AttributeValue/><saml:AttributeValue>ferry-crew</saml:AttributeValue>"),
	} {
		t.Run(name, func(t *testing.T) {
			a, _, err := accept(mint(t, issued(), change, true, false, provider(t)), rules(t))
			require.NoError(t, err)
			assert.Equal(t, "mvoss", a.NameID.Value)
			assert.Equal(t, []string{"Mira"}, a.Attributes[0].Values)
		})
	}
}

func TestAttributeShapes(t *testing.T) {
	doc := mint(t, issued(), replace(`<saml:AttributeValue>Mira</saml:AttributeValue>`,
		`<saml:AttributeValue xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xsi:nil="true"/>`+
			`<saml:AttributeValue><saml:NameID Format="`+saml.FormatPersistent+`">opaque</saml:NameID></saml:AttributeValue>`+
			`<saml:AttributeValue><x:Address xmlns:x="urn:x">Quay 1</x:Address></saml:AttributeValue>`+
			`<saml:AttributeValue xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" `+
			`xsi:type="xs:string">Mira</saml:AttributeValue>`), true, false, provider(t))
	a, _, err := accept(doc, rules(t))
	require.NoError(t, err)
	assert.Equal(t, []string{"opaque", "Mira"}, a.Attributes[0].Values, "nothing is nothing, a NameID is its text, structure is left out")
	assert.Equal(t, "givenName", a.Attributes[0].FriendlyName)
	assert.Equal(t, "urn:oid:2.5.4.42", a.Attributes[0].Name)
}

func TestEncryptedAttribute(t *testing.T) {
	x := xmlsig.Encrypter{Key: ours(t).cert.PublicKey.(*rsa.PublicKey)}
	data, err := x.Encrypt(
		[]byte(
			`<saml:Attribute xmlns:saml="` + saml.NSAssertion +
				`" Name="berth"><saml:AttributeValue>7</saml:AttributeValue></saml:Attribute>`,
		),
	)
	require.NoError(t, err)
	doc := mint(
		t,
		issued(),
		replace(
			"<saml:AttributeStatement>",
			"<saml:AttributeStatement><saml:EncryptedAttribute>"+string(data.Bytes())+"</saml:EncryptedAttribute>",
		),
		true,
		false,
		provider(t),
	)
	a, _, err := accept(doc, rules(t))
	require.NoError(t, err)
	assert.Equal(t, saml.Attribute{Name: "berth", Values: []string{"7"}}, a.Attributes[0])
}

// sha1Signed makes a response whose assertion is signed with RSA-SHA1, which our own signer refuses to do.
func sha1Signed(t testing.TB) string {
	t.Helper()
	p := provider(t)
	doc := mint(t, issued(), nil, true, false, p)
	doc = strings.Replace(doc, string(xmlsig.RSASHA256), string(xmlsig.RSASHA1), 1)
	root, err := xmltree.Parse([]byte(doc), xmltree.Limits{})
	require.NoError(t, err)
	sig := root.First(saml.NSAssertion, "Assertion").First(xmlsig.NS, "Signature")
	sum := sha1.Sum(sig.First(xmlsig.NS, "SignedInfo").Canonical(nil, nil, nil))
	value, err := p.key.Sign(rand.Reader, sum[:], crypto.SHA1)
	require.NoError(t, err)
	sig.First(xmlsig.NS, "SignatureValue").Children[0].Text = base64.StdEncoding.EncodeToString(value)
	return string(root.Bytes())
}

func TestSHA1OnlyWhereAllowed(t *testing.T) {
	doc := sha1Signed(t)
	_, _, err := accept(doc, rules(t))
	requireCode(t, err, "saml.signature-sha1")
	r := rules(t)
	r.Trust.AllowSHA1 = true
	a, _, err := accept(doc, r)
	require.NoError(t, err)
	assert.Equal(t, "mvoss", a.NameID.Value)
}

// TestSkewIsTwoSided accepts a clock that is a little off in either direction, and no more.
func TestSkewIsTwoSided(t *testing.T) {
	for offset, code := range map[time.Duration]string{
		5*time.Minute + 59*time.Second: "", 6*time.Minute + time.Second: "saml.expired", -59 * time.Second: "",
		-3 * time.Minute: "saml.not-yet-valid",
	} {
		r := rules(t)
		r.Now = now.Add(offset)
		_, _, err := accept(mint(t, issued(), nil, true, false, provider(t)), r)
		if code == "" {
			assert.NoError(t, err, offset)
			continue
		}
		requireCode(t, err, code)
	}
}

// TestIssuedDocumentsAreRight reads what we issue as a partner would.
func TestIssuedDocumentsAreRight(t *testing.T) {
	s := issued()
	s.Validity, s.Authorities = time.Hour, []string{"https://id.saltmere.example", "https://further.example"}
	s.SignAssertion, s.SignResponse, s.Signer = true, true, &xmlsig.Signer{Key: provider(t).key}
	s.SessionNotOnOrAfter = now.Add(8 * time.Hour)
	s.Attributes[0].Type = "string"
	made, err := saml.IssueResponse(s)
	require.NoError(t, err)
	root, err := xmltree.Parse(made.XML, xmltree.Limits{})
	require.NoError(t, err)
	assertion := root.First(saml.NSAssertion, "Assertion")
	conditions := assertion.First(saml.NSAssertion, "Conditions")
	assert.Equal(t, "2026-11-23T09:46:07.000Z", conditions.Value("NotOnOrAfter"), "five minutes are the most, whatever is asked for")
	for _, e := range []*xmltree.Element{root, assertion} {
		var order []string
		for c := range e.Elements {
			order = append(order, c.Local)
		}
		assert.Equal(t, []string{"Issuer", "Signature"}, order[:2], "the schema wants the signature behind the issuer")
	}
	// The assertion stands by itself when it is cut out: every prefix that it uses is declared in it.
	alone, err := xmltree.Parse(
		[]byte(string(made.XML[strings.Index(string(made.XML), "<saml:Assertion"):strings.Index(string(made.XML), "</samlp:Response>")])),
		xmltree.Limits{},
	)
	require.NoError(t, err)
	_, err = xmlsig.Verify(alone, alone.First(saml.NSAssertion, "Issuer"), []crypto.PublicKey{provider(t).cert.PublicKey}, xmlsig.Policy{})
	require.NoError(t, err)
	a, _, err := accept(string(made.XML), rules(t))
	require.NoError(t, err)
	assert.Equal(t, s.Authorities, a.Authorities)
	assert.Equal(t, now.Add(8*time.Hour), a.SessionNotOnOrAfter)
	again, err := saml.IssueResponse(s)
	require.NoError(t, err)
	assert.NotEqual(t, made.AssertionID, again.AssertionID)
}
