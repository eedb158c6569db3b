package takein_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/config"
	"innergate/core/keys"
	"innergate/core/saml"
	"innergate/core/takein"
)

// TestInterval keeps to what metadata asks for within bounds (SAML Metadata, section 2.3.2).
func TestInterval(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		set    int
		cache  time.Duration
		expect time.Duration
	}{
		{0, 0, takein.RefreshUsually},
		{0, time.Second, takein.RefreshSoonest},
		{0, 2 * time.Hour, 2 * time.Hour},
		{0, 1000 * time.Hour, takein.RefreshLatest},
		{5, 2 * time.Hour, 5 * time.Minute},
	} {
		assert.Equal(t, c.expect, takein.Interval(&config.Watch{EveryMinutes: c.set}, &saml.Entity{CacheDuration: c.cache}))
	}
	assert.Equal(t, takein.RefreshUsually, takein.Interval(&config.Watch{}, nil))
}

// TestSubjectFor chooses the subject rule by the NameID formats that an application lists (SAML Core, section 8.3).
func TestSubjectFor(t *testing.T) {
	t.Parallel()
	for source, formats := range map[string][]string{
		"pairwise":  {saml.FormatEmail, saml.FormatPersistent},
		"profile":   {saml.FormatEmail},
		"transient": {saml.FormatTransient},
	} {
		assert.Equal(t, source, takein.SubjectFor(formats).Source)
	}
	assert.Equal(t, "preferred_username", takein.SubjectFor(nil).From)
	assert.Equal(t, "profile", takein.SubjectFor([]string{saml.FormatTransient, saml.FormatUnspecified}).Source)
}

// TestOutboundFor proposes rules for what an application asks for by names that are known, and leaves the rest.
func TestOutboundFor(t *testing.T) {
	t.Parallel()
	m := takein.OutboundFor([]saml.RequestedAttribute{
		{Name: "urn:oid:0.9.2342.19200300.100.1.3", FriendlyName: "mail", NameFormat: saml.NameFormatURI, Required: true},
		{Name: "harbour-of-birth"},
	})
	require.Len(t, m, 1)
	assert.Equal(t, "urn:oid:0.9.2342.19200300.100.1.3", m[0].Set)
	assert.True(t, m[0].Required)
	assert.NotEmpty(t, takein.OutboundFor(nil), "the usual one where nothing is asked for")
}

// TestClientMetadata reads what a client says of itself (RFC 7591, section 2), and takes nothing that widens access.
func TestClientMetadata(t *testing.T) {
	t.Parallel()
	a, err := takein.ClientMetadata([]byte(`{"redirect_uris":["https://tide.example/cb"],"scope":"openid email nonsense",
		"grant_types":["authorization_code","refresh_token","urn:ietf:params:oauth:grant-type:device_code"],"subject_type":"public"}`))
	require.NoError(t, err)
	assert.Equal(t, "tide.example", a.Name)
	assert.Equal(t, "public", a.Subject.Source)
	assert.True(t, a.OIDC.Refresh)
	assert.False(t, a.OIDC.DeviceGrant, "that is for an engineer to switch on")
	assert.NotContains(t, a.OIDC.Scopes, "nonsense")
	assert.Empty(t, a.Reach, "it serves nobody yet")
	for says, doc := range map[string]string{
		"redirect_uris is missing":            `{}`,
		"response_types holds something else": `{"redirect_uris":["https://a.example"],"response_types":["token"]}`,
		"neither public nor pairwise":         `{"redirect_uris":["https://a.example"],"subject_type":"own"}`,
		"not a list of strings":               `{"redirect_uris":[7]}`,
		"not a string":                        `{"redirect_uris":["https://a.example"],"client_name":7}`,
	} {
		_, err := takein.ClientMetadata([]byte(doc))
		require.Error(t, err, doc)
		assert.ErrorContains(t, err, says, doc)
	}
}

// TestCertificates adds a certificate once, and recognises one that was handed over alone.
func TestCertificates(t *testing.T) {
	t.Parallel()
	k, err := keys.Generate(keys.P256)
	require.NoError(t, err)
	der, err := keys.SelfSigned(k, "id.example", time.Now(), time.Hour)
	require.NoError(t, err)
	cert, err := keys.ParseCertificate(der)
	require.NoError(t, err)
	list, fresh := takein.AddCertificate(nil, cert, "signing")
	assert.True(t, fresh)
	again, fresh := takein.AddCertificate(list, cert, "signing")
	assert.False(t, fresh)
	assert.Equal(t, list, again)
	_, fresh = takein.AddCertificate(list, cert, "encryption")
	assert.True(t, fresh, "another use is another thing")
	pem := keys.EncodeCertificate(der)
	assert.NotNil(t, takein.LoneCertificate(pem))
	assert.Nil(t, takein.LoneCertificate(append([]byte("<EntityDescriptor>"), pem...)), "it stands in metadata")
	assert.Nil(t, takein.LoneCertificate([]byte("rubbish")))
}

func TestProposeStart(t *testing.T) {
	t.Parallel()
	s := &config.SAMLApplication{EntityID: "urn:rota"}
	assert.Empty(t, takein.ProposeStart(s))
	s.ACS = []saml.Endpoint{{Location: "https://rota.example:8443/saml/acs?x=1"}}
	assert.Equal(t, "https://rota.example:8443/", takein.ProposeStart(s))
}
