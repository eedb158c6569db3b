package saml_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/xmlsig"
)

// Every file of the corpus is of a shape of its own: what it is read as, and what is said about it.
var corpus = map[string]struct {
	entities string // how many entities and which roles, such as "1 idp"
	codes    string // without "metadata.", sorted as they come
}{
	"01-idp":                         {"1 idp", ""},
	"02-sp":                          {"1 sp", ""},
	"03-both-roles":                  {"1 idp sp", "both-roles"},
	"04-default-namespace":           {"1 idp", ""},
	"05-other-prefixes":              {"1 idp", ""},
	"06-byte-order-mark":             {"1 idp", ""},
	"07-utf16-le":                    {"1 idp", ""},
	"08-utf16-be-no-mark":            {"1 idp", ""},
	"09-latin-1":                     {"1 idp", ""},
	"10-windows-lines":               {"1 idp", ""},
	"11-wrapped-certificate":         {"1 idp", ""},
	"12-comment-in-certificate":      {"1 idp", ""},
	"13-several-keys":                {"1 idp", ""},
	"14-two-certificates-in-one-key": {"1 idp", ""},
	"15-many-endpoints":              {"1 sp", "unknown-binding"},
	"16-extensions":                  {"1 idp", ""},
	"17-urn-entity-id":               {"1 idp", ""},
	"18-group-of-one":                {"1 idp", ""},
	"19-nested-groups":               {"3 idp", "several-entities"},
	"20-lone-role":                   {"1 idp", "lone-role entity-id-missing"},
	"21-lone-role-undeclared":        {"1 idp", "tidied lone-role entity-id-missing"},
	"22-entity-cut-out-undeclared":   {"1 idp", "tidied"},
	"23-copied-from-browser":         {"1 idp", "tidied"},
	"24-copied-with-minus-marks":     {"1 idp", "tidied"},
	"25-folded-away":                 {"1 idp", "tidied folded key-without-certificate no-certificate"},
	"26-escaped":                     {"1 idp", "tidied"},
	"27-escaped-in-a-page":           {"1 idp", "tidied"},
	"28-quoted-in-a-mail":            {"1 idp", "tidied"},
	"29-curly-quotes":                {"1 idp", "tidied"},
	"30-base64":                      {"1 idp", "tidied"},
	"31-list-of-values":              {"1 idp", "from-values"},
	"32-no-certificate":              {"1 idp", "no-certificate"},
	"33-expired":                     {"1 idp", "expired"},
	"34-unknown-binding":             {"1 idp", "unknown-binding"},
	"35-plain-http":                  {"1 idp", "http-endpoint"},
	"36-weak-key":                    {"1 idp", "weak-key no-certificate"},
	"37-expired-certificate":         {"1 idp", "certificate-expired"},
	"38-duplicate-index":             {"1 sp", "duplicate-index"},
	"39-our-own":                     {"1 idp", "our-entity-id"},
	"40-spaces":                      {"1 idp", "spaces"},
	"41-page":                        {"0", "html"},
	"42-error-page":                  {"0", "error-page"},
	"43-discovery":                   {"0", "json"},
	"44-certificate":                 {"0", "certificate"},
	"45-truncated":                   {"0", "not-xml"},
	"46-doctype":                     {"0", "not-xml"},
	"47-another-document":            {"0", "not-metadata"},
	"48-empty":                       {"0", "empty"},
	"49-entity-id-with-space":        {"0", "entity-id no-entity"},
	"50-saml-1-only":                 {"1", "protocol no-role"},
	"51-same-entity-twice":           {"1 idp", "entity-twice"},
	"52-deeply-nested":               {"0", "not-xml"},
	"53-single-quotes":               {"1 idp", ""},
}

func shape(d *saml.Document) string {
	words := []string{string(rune('0' + len(d.Entities)))}
	if len(d.Entities) > 0 {
		for _, r := range d.Entities[0].Roles {
			words = append(words, string(r.Kind))
		}
	}
	return strings.Join(words, " ")
}

func TestCorpus(t *testing.T) {
	files, err := filepath.Glob("testdata/metadata/*")
	require.NoError(t, err)
	require.Len(t, files, len(corpus))
	for _, file := range files {
		name := strings.TrimSuffix(filepath.Base(file), filepath.Ext(file))
		t.Run(name, func(t *testing.T) {
			want, ok := corpus[name]
			require.True(t, ok, "the corpus has no line for it")
			data, err := os.ReadFile(file)
			require.NoError(t, err)
			d := saml.Read(data, saml.ReadOptions{Now: now, Ours: []string{"https://gate.saltmere.example/saml/idp"}})
			assert.Equal(t, want.entities, shape(d))
			assert.Equal(t, want.codes, strings.Join(codes(d), " "))
			for _, p := range d.Problems {
				assert.Regexp(t, `^\S.*[.)]$`, p.Message)
			}
			if d.NeedsEntityID {
				again := saml.Read(data, saml.ReadOptions{Now: now, EntityID: "https://id.saltmere.example"})
				assert.False(t, again.NeedsEntityID)
				assert.Equal(t, "https://id.saltmere.example", again.Entities[0].EntityID)
			}
			if strings.HasSuffix(want.entities, "idp") && !strings.Contains(want.codes, "certificate") &&
				!strings.Contains(want.codes, "weak") {
				assert.NotEmpty(t, d.Entities[0].Role(saml.RoleIDP).Certificates("signing"))
			}
		})
	}
}

func TestCorpusParticulars(t *testing.T) {
	read := func(name string) *saml.Document {
		files, err := filepath.Glob("testdata/metadata/" + name + "*")
		require.NoError(t, err)
		data, err := os.ReadFile(files[0])
		require.NoError(t, err)
		return saml.ReadMetadata(data, now)
	}
	first := read("01").Entities[0].Roles[0]
	for _, name := range []string{"04", "05", "06", "07", "08", "10", "11", "12", "21", "22", "23", "24", "26", "27", "28", "29", "30",
		"53"} {
		got := read(name).Entities[0].Roles[0]
		assert.Equal(t, first, got, name)
	}
	assert.Len(t, read("13").Entities[0].Roles[0].Certificates("signing"), 2, "the key for any use is one of the two")
	assert.Len(t, read("13").Entities[0].Roles[0].Certificates("encryption"), 2)
	assert.Len(t, read("14").Entities[0].Roles[0].Certificates("signing"), 2)
	many := read("15").Entities[0].Roles[0]
	assert.Len(t, many.Service(saml.ServiceACS), 3)
	assert.Equal(t, "https://rota.saltmere.example/acs", saml.DefaultEndpoint(many.Service(saml.ServiceACS), saml.BindingPost).Location)
	assert.Equal(
		t,
		[]saml.RequestedAttribute{
			{Name: "urn:oid:0.9.2342.19200300.100.1.3", NameFormat: saml.NameFormatURI, FriendlyName: "mail", Required: true},
			{Name: "crew-number"},
		},
		many.RequestedAttributes,
	)
	rich := read("16").Entities[0]
	assert.Equal(t, "Saltmere Staff", rich.DisplayName)
	assert.Equal(t, "Traversées Saltmère", rich.Organization)
	assert.Equal(t, []string{"https://harbours.example/category/ferry"}, rich.Categories)
	assert.Equal(t, []string{"http://www.w3.org/2001/04/xmldsig-more#rsa-sha256"}, rich.Roles[0].SigningMethods)
	group := read("18")
	assert.Equal(t, "6h0m0s", group.CacheDuration.String())
	assert.Equal(t, 2026, group.Entities[0].ValidUntil.Year())
	assert.Equal(t, "Traversées Saltmère", read("09").Entities[0].DisplayName)
	list := read("31").Entities[0]
	assert.Equal(t, "https://id.saltmere.example", list.EntityID)
	assert.Equal(t, first.Certificates("signing"), list.Roles[0].Certificates("signing"))
	assert.Equal(t, "https://id.saltmere.example/slo", list.Roles[0].Service(saml.ServiceSLO)[0].Location)
}

func TestSignatureThatNoLongerFitsIsSaid(t *testing.T) {
	p := provider(t)
	entity := saml.Entity{
		EntityID: string(idpID),
		Roles: []saml.Role{
			{Kind: saml.RoleIDP, DisplayName: "Saltmere Staff", Keys: []saml.KeyDescriptor{{Use: "signing", Certificate: p.cert}},
				Endpoints: []saml.Endpoint{
					{Service: saml.ServiceSSO, Binding: saml.BindingPost, Location: "https://id.saltmere.example/sso"},
				}},
		},
	}
	doc, err := saml.WriteMetadata(entity, 0, now, &xmlsig.Signer{Key: p.key})
	require.NoError(t, err)
	d := saml.ReadMetadata(doc, now)
	assert.True(t, d.Signed)
	assert.Empty(t, d.Problems)

	altered := strings.Replace(string(doc), "Saltmere Staff", "Saltmere Stuff", 1)
	d = saml.ReadMetadata([]byte(altered), now)
	assert.False(t, d.Signed)
	assert.Equal(t, []string{"signature-broken"}, codes(d))

	browser := "The document tree is shown below.\n" + strings.ReplaceAll(string(doc[strings.Index(string(doc), "<md:"):]), "><", ">\n<")
	assert.Equal(t, []string{"tidied", "signature-broken"}, codes(saml.ReadMetadata([]byte(browser), now)))
}

// TestWholeReadsNothingButTheDocument: where a signature counts, no piece and no tidied text is taken.
func TestWholeReadsNothingButTheDocument(t *testing.T) {
	for name, want := range corpus {
		files, err := filepath.Glob("testdata/metadata/" + name + ".*")
		require.NoError(t, err)
		d := saml.Read(mustRead(t, files[0]), saml.ReadOptions{Now: now, Whole: true})
		assert.False(t, d.Tidied, name)
		if strings.Contains(want.codes, "tidied") && name != "25-folded-away" || strings.Contains(want.codes, "lone-role") ||
			strings.Contains(want.codes, "from-values") {
			assert.Empty(t, d.Entities, name)
		} else {
			assert.Equal(t, want.entities, shape(d), name)
		}
	}
}

func TestTextOfFiles(t *testing.T) {
	for _, name := range []string{"07-utf16-le.xml", "08-utf16-be-no-mark.xml", "09-latin-1.xml", "01-idp.xml"} {
		data := mustRead(t, "testdata/metadata/"+name)
		text := saml.Text(data)
		assert.Equal(t, saml.ReadMetadata(data, now).Entities, saml.ReadMetadata([]byte(text), now).Entities, name)
	}
	cert := provider(t).cert
	got, err := keys.ParseCertificate([]byte(saml.Text(cert.Raw)))
	require.NoError(t, err)
	assert.Equal(t, cert.Raw, got.Raw)
	assert.Equal(t, "a\uFFFDb", saml.Text([]byte("a\xffb")))
}

func TestReadLabelled(t *testing.T) {
	got := saml.ReadLabelled(
		"Hello,\n\n* Issuer: `https://id.saltmere.example`\n**ACS URL** = https://rota.saltmere.example/acs\nAudience\n" +
			"  urn:saltmere:rota\n| Sign-out | https://id.saltmere.example/out |\n",
	)
	var lines []string
	for _, l := range got {
		lines = append(lines, saml.Meaning(l.Label)+" "+l.Value)
	}
	assert.Equal(
		t,
		[]string{
			"entity https://id.saltmere.example",
			"acs https://rota.saltmere.example/acs",
			"entity urn:saltmere:rota",
			"slo https://id.saltmere.example/out",
		},
		lines,
	)
}

func TestParseDuration(t *testing.T) {
	for text, want := range map[string]string{"PT6H": "6h0m0s", "P1D": "24h0m0s", "P1DT30M": "24h30m0s", "PT90S": "1m30s", "PT0.5S": "0s",
		"P": "", "PT": "", "6h": "", "-P1D": "", "P1H": ""} {
		d, err := saml.ParseDuration(text)
		if want == "" {
			assert.Error(t, err, text)
		} else if assert.NoError(t, err, text) {
			assert.Equal(t, want, d.String())
		}
	}
}

func TestDescribedCertificatesOfCorpus(t *testing.T) {
	data, err := os.ReadFile("testdata/metadata/44-certificate.pem")
	require.NoError(t, err)
	cert, err := keys.ParseCertificate(data)
	require.NoError(t, err)
	list := saml.ReadMetadata(mustRead(t, "testdata/metadata/01-idp.xml"), now)
	assert.Equal(t, cert.Raw, list.Entities[0].Roles[0].Keys[0].Certificate.Raw)
}

func mustRead(t testing.TB, file string) []byte {
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	return data
}
