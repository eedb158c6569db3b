package checkup_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/access"
	"innergate/core/checkup"
	"innergate/core/claims"
	"innergate/core/config"
)

// TestARealmIsLookedAt finds what is of no good, and what it needs beside its own values.
func TestARealmIsLookedAt(t *testing.T) {
	t.Parallel()
	p := config.Provider{Slug: "desk", Name: "Desk", Kind: config.KindKerberos, Mapping: claims.OfRealm(),
		Kerberos: &config.KerberosProvider{Realms: []string{"saltmere.example"}}}
	require.NoError(t, p.Validate())
	stations, findings := checkup.Provider(&p, "https://gate.example/saml/sp", time.Now())
	assert.Equal(t, []string{"Kerberos, AES", "saltmere.example"}, stations[0].Lines)
	assert.Subset(t, codes(findings), []string{"kerberos.realm-case", "kerberos.only-names"})
	assert.Equal(t, []string{"kerberos.no-keytab", "kerberos.no-route"}, codes(checkup.Realm(&p, 0, &access.Routes{})))
	assert.Empty(t, checkup.Realm(&p, 1, &access.Routes{Rules: []access.Route{{To: []string{"desk"}}}}))
	p.Kerberos.Realms, p.Mapping[0].From = []string{"SALTMERE.EXAMPLE"}, claims.Names{"directory:office.uid"}
	_, findings = checkup.Provider(&p, "https://gate.example/saml/sp", time.Now())
	assert.NotContains(t, codes(findings), "kerberos.realm-case")
	assert.NotContains(t, codes(findings), "kerberos.only-names")
}
