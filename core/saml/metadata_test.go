package saml_test

import (
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"innergate/core/internal/judge"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/xmlsig"
)

func sample(t testing.TB) string {
	cert := base64.StdEncoding.EncodeToString(provider(t).cert.Raw)
	wrapped := regexp.MustCompile(`.{1,60}`).ReplaceAllString(cert, "$0\n      ")
	return `<?xml version="1.0" encoding="UTF-8"?>
<!-- made by hand -->
<EntityDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata" xmlns:dsig="http://www.w3.org/2000/09/xmldsig#" ` +
		`xmlns:ui="urn:oasis:names:tc:SAML:metadata:ui" entityID="https://id.saltmere.example" validUntil="2027-01-01T00:00:00Z" ` +
		`cacheDuration="PT6H">
  <IDPSSODescriptor WantAuthnRequestsSigned="1" protocolSupportEnumeration="urn:oasis:names:tc:SAML:1.1:protocol ` +
		`urn:oasis:names:tc:SAML:2.0:protocol">
    <Extensions><ui:UIInfo><ui:DisplayName xml:lang="de">Saltmeer</ui:DisplayName><ui:DisplayName xml:lang="en">Saltmere Staff ` +
		`Zoë</ui:DisplayName></ui:UIInfo></Extensions>
    <KeyDescriptor><dsig:KeyInfo><dsig:X509Data><dsig:X509Certificate>
      ` + wrapped[:100] + `<!-- a remark -->` + wrapped[100:] + `</dsig:X509Certificate></dsig:X509Data></dsig:KeyInfo></KeyDescriptor>
    <KeyDescriptor use="encryption"><dsig:KeyInfo><dsig:X509Data><dsig:X509Certificate>` +
		base64.StdEncoding.EncodeToString(stranger(t).cert.Raw) + `</dsig:X509Certificate></dsig:X509Data></dsig:KeyInfo></KeyDescriptor>
    <NameIDFormat> urn:oasis:names:tc:SAML:2.0:nameid-format:persistent </NameIDFormat>
    <SingleSignOnService Binding="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Redirect" Location="https://id.saltmere.example/sso"/>
    <SingleSignOnService Binding="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST" Location="https://id.saltmere.example/sso"/>
  </IDPSSODescriptor>
</EntityDescriptor>`
}

func codes(d *saml.Document) []string {
	out := []string{}
	for _, p := range d.Problems {
		out = append(out, strings.TrimPrefix(p.Code, "metadata."))
	}
	return out
}

func TestReadMetadata(t *testing.T) {
	d := saml.ReadMetadata([]byte(sample(t)), now)
	require.Empty(t, d.Problems)
	require.Len(t, d.Entities, 1)
	e := d.Entities[0]
	assert.Equal(t, "https://id.saltmere.example", e.EntityID)
	assert.Equal(t, "Saltmere Staff Zoë", e.DisplayName)
	assert.Equal(t, time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC), *e.ValidUntil)
	r := e.Role(saml.RoleIDP)
	require.NotNil(t, r)
	assert.Nil(t, e.Role(saml.RoleSP))
	assert.True(t, r.WantAuthnRequestsSigned)
	assert.Equal(t, []*x509.Certificate{provider(t).cert}, r.Certificates("signing"))
	assert.Equal(t, []*x509.Certificate{provider(t).cert, stranger(t).cert}, r.Certificates("encryption"))
	assert.Equal(t, []string{saml.FormatPersistent}, r.NameIDFormats)
	assert.Len(t, r.Service(saml.ServiceSSO), 2)

	out, err := json.Marshal(d)
	require.NoError(t, err)
	var shown struct {
		Entities []struct {
			EntityID string `json:"entityId"`
			Roles    []struct {
				Role         string
				Endpoints    []struct{ Service, Binding, Location string }
				Certificates []struct{ Use, SHA256, Subject string }
			}
		}
		Problems []any
	}
	require.NoError(t, json.Unmarshal(out, &shown))
	assert.Equal(t, "idp", shown.Entities[0].Roles[0].Role)
	assert.Equal(t, "HTTP-Redirect", shown.Entities[0].Roles[0].Endpoints[0].Binding)
	assert.Regexp(t, `^([0-9a-f]{2}:){31}[0-9a-f]{2}$`, shown.Entities[0].Roles[0].Certificates[0].SHA256)
	assert.NotNil(t, shown.Problems)
}

func TestReadMetadataInOtherShapes(t *testing.T) {
	plain := sample(t)
	prefixed := regexp.MustCompile(`<(/?)([A-Z])`).ReplaceAllString(strings.Replace(plain, `xmlns="`, `xmlns:m="`, 1), "<${1}m:$2")
	undeclared := plain[strings.Index(plain, "<Entity"):]
	encode := func(s string, name string, e interface{ Bytes([]byte) ([]byte, error) }) string {
		out, err := e.Bytes([]byte(strings.Replace(s, "UTF-8", name, 1)))
		require.NoError(t, err)
		return string(out)
	}
	both := strings.Replace(
		plain,
		"</EntityDescriptor>",
		`<SPSSODescriptor protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol"><AssertionConsumerService index="0" `+
			`isDefault="true" Binding="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST" `+
			`Location="https://id.saltmere.example/acs"/></SPSSODescriptor></EntityDescriptor>`,
		1,
	)
	for name, c := range map[string]struct {
		doc      string
		problems []string
	}{
		"prefixes":        {prefixed, []string{}},
		"no declaration":  {undeclared, []string{}},
		"byte order mark": {"\ufeff" + plain, []string{}},
		"Windows lines":   {strings.ReplaceAll(plain, "\n", "\r\n"), []string{}},
		"UTF-16 big":      {encode(plain, "UTF-16", unicode.UTF16(unicode.BigEndian, unicode.UseBOM).NewEncoder()), []string{}},
		"UTF-16 little":   {encode(plain, "UTF-16", unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder()), []string{}},
		"Latin-1":         {encode(plain, "ISO-8859-1", charmap.ISO8859_1.NewEncoder()), []string{}},
		"nested groups": {`<md:EntitiesDescriptor xmlns:md="urn:oasis:names:tc:SAML:2.0:metadata" ` +
			`validUntil="2026-12-01T00:00:00Z"><md:EntitiesDescriptor>` + undeclared + `</md:EntitiesDescriptor></md:EntitiesDescriptor>`,
			[]string{}},
		"both roles": {both, []string{"no-certificate", "both-roles"}},
	} {
		t.Run(name, func(t *testing.T) {
			d := saml.ReadMetadata([]byte(c.doc), now)
			assert.Equal(t, c.problems, codes(d))
			require.Len(t, d.Entities, 1)
			assert.Equal(t, "Saltmere Staff Zoë", d.Entities[0].DisplayName)
			assert.Len(t, d.Entities[0].Role(saml.RoleIDP).Service(saml.ServiceSSO), 2)
			if name == "nested groups" {
				assert.Equal(t, 2026, d.Entities[0].ValidUntil.Year(), "the nearer end counts")
			}
		})
	}
}

func TestReadMetadataComplains(t *testing.T) {
	plain := sample(t)
	weak, err := keys.SelfSigned(keyPair(t, "weak", keys.RSA2048).key, "x", now.AddDate(-2, 0, 0), 24*time.Hour)
	require.NoError(t, err)
	location := `Location="https://id.saltmere.example/sso"`
	for name, c := range map[string]struct{ doc, problem string }{
		"nothing":          {" \n", "empty"},
		"web page":         {"<!DOCTYPE html><html><body>Sign in</body></html>", "html"},
		"JSON":             {`{"issuer":"https://x.example"}`, "json"},
		"certificate":      {string(keys.EncodeCertificate(weak)), "certificate"},
		"truncated":        {plain[:len(plain)/2], "not-xml"},
		"DOCTYPE":          {"<!DOCTYPE x><x/>", "not-xml"},
		"another document": {"<feed/>", "not-metadata"},
		"empty group":      {`<EntitiesDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata"/>`, "no-entity"},
		"no role":          {`<EntityDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata" entityID="urn:x"/>`, "no-role"},
		"no entity ID":     {`<EntityDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata"/>`, "entity-id"},
		"entity ID too long": {`<EntityDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata" entityID="` + strings.Repeat("x", 1025) +
			`"/>`, "entity-id"},
		"entity ID in spaces": {strings.Replace(plain, `entityID="`, `entityID=" `, 1), "entity-id"},
		"expired":             {strings.Replace(plain, "2027", "2020", 1), "expired"},
		"end without zone":    {strings.Replace(plain, "00:00Z", "00:00", 1), "valid-until"},
		"SAML 1.1 only":       {strings.Replace(plain, " urn:oasis:names:tc:SAML:2.0:protocol", "", 1), "protocol"},
		"no certificate":      {regexp.MustCompile(`(?s)<KeyDescriptor.*</KeyDescriptor>`).ReplaceAllString(plain, ""), "no-certificate"},
		"broken certificate":  {strings.Replace(plain, "MII", "XXX", 1), "bad-certificate"},
		"expired certificate": {strings.Replace(plain, base64.StdEncoding.EncodeToString(stranger(t).cert.Raw),
			base64.StdEncoding.EncodeToString(weak), 1), "certificate-expired"},
		"unknown use":     {strings.Replace(plain, `use="encryption"`, `use="sealing"`, 1), "key-use"},
		"http":            {strings.Replace(plain, location, `Location="http://id.saltmere.example/sso"`, 1), "http-endpoint"},
		"no URL":          {strings.Replace(plain, location, `Location="id.saltmere.example/sso"`, 1), "location"},
		"script":          {strings.Replace(plain, location, `Location="javascript:alert(1)"`, 1), "location"},
		"spaces":          {strings.Replace(plain, location, `Location=" https://id.saltmere.example/sso"`, 1), "spaces"},
		"unknown binding": {strings.Replace(plain, "bindings:HTTP-Redirect", "bindings:PIGEON", 1), "unknown-binding"},
		"no endpoint":     {regexp.MustCompile(`<SingleSignOnService.*/>`).ReplaceAllString(plain, ""), "no-endpoint"},
		"two entities": {`<EntitiesDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata">` + plain[strings.Index(plain,
			"<Entity"):] + strings.Replace(plain[strings.Index(plain, "<Entity"):], "https://id.", "https://id2.", 1) +
			`</EntitiesDescriptor>`, "several-entities"},
		"duplicate ACS index": {`<EntityDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata" entityID="urn:x"><SPSSODescriptor ` +
			`protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol"><AssertionConsumerService index="1" Binding="b" ` +
			`Location="https://x.example/1"/><AssertionConsumerService index="1" Binding="b" ` +
			`Location="https://x.example/2"/></SPSSODescriptor></EntityDescriptor>`, "duplicate-index"},
		"key without anything": {strings.Replace(plain, "<KeyDescriptor>", "<KeyDescriptor/><KeyDescriptor>", 1),
			"key-without-certificate"},
	} {
		t.Run(name, func(t *testing.T) {
			d := saml.ReadMetadata([]byte(c.doc), now)
			assert.Contains(t, codes(d), c.problem)
			for _, p := range d.Problems {
				assert.True(t, strings.HasSuffix(p.Message, "."), p.Message)
			}
		})
	}
}

func TestWriteMetadataReadsBack(t *testing.T) {
	p := ours(t)
	entity := saml.Entity{EntityID: string(gateID), Roles: []saml.Role{{
		Kind: saml.RoleSP, DisplayName: "Inner Gate", AuthnRequestsSigned: true, WantAssertionsSigned: true,
		Keys:          []saml.KeyDescriptor{{Use: "signing", Certificate: p.cert}, {Use: "encryption", Certificate: p.cert}},
		NameIDFormats: []string{saml.FormatPersistent},
		Endpoints: []saml.Endpoint{
			{Service: saml.ServiceACS, Binding: saml.BindingPost, Location: gateACS, Index: index(0), Default: true},
		},
		RequestedAttributes: []saml.RequestedAttribute{
			{Name: "urn:oid:2.5.4.42", NameFormat: saml.NameFormatURI, FriendlyName: "givenName", Required: true},
		},
	}}}
	doc, err := saml.WriteMetadata(entity, 24*time.Hour, now, &xmlsig.Signer{Key: p.key})
	require.NoError(t, err)
	require.NoError(t, saml.VerifyMetadata(doc, []*x509.Certificate{p.cert}))
	assert.Error(t, saml.VerifyMetadata(doc, []*x509.Certificate{stranger(t).cert}))
	assert.Error(t, saml.VerifyMetadata([]byte(strings.Replace(string(doc), "Inner Gate", "Outer Gate", 1)), []*x509.Certificate{p.cert}))
	d := saml.ReadMetadata(doc, now)
	require.Empty(t, d.Problems)
	assert.True(t, d.Signed)
	got := d.Entities[0].Roles[0]
	got.EncryptionMethods, got.AttributeSets = nil, nil
	assert.Equal(t, entity.Roles[0], got)
}

func FuzzMetadata(f *testing.F) {
	f.Add([]byte(sample(f)))
	files, err := filepath.Glob("testdata/metadata/*")
	require.NoError(f, err)
	for _, file := range files {
		f.Add(mustRead(f, file))
	}
	f.Fuzz(func(t *testing.T, doc []byte) {
		var d *saml.Document
		judge.Frugal(t, len(doc), func() { d = saml.ReadMetadata(doc, now) })
		if !d.Usable() && len(d.Problems) == 0 {
			t.Fatal("nothing is usable and no problem is named")
		}
		if _, err := json.Marshal(d); err != nil {
			t.Fatal(err)
		}
	})
}
