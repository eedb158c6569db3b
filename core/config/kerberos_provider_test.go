package config_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/config"
)

// TestRealmsAreChecked refuses what is no realm and no host, and says what is missing before one can be opened.
func TestRealmsAreChecked(t *testing.T) {
	t.Parallel()
	desk := func() config.Provider {
		return config.Provider{Slug: "desk", Name: "Desk", Kind: config.KindKerberos, Kerberos: &config.KerberosProvider{
			Realms: []string{"SALTMERE.EXAMPLE"},
		}}
	}
	p := desk()
	require.NoError(t, p.Validate())
	assert.Empty(t, p.Missing())
	assert.Equal(t, 120, p.Kerberos.Skew())
	assert.Equal(t, []string{"gate.saltmere.example"}, p.Kerberos.At("gate.saltmere.example"))
	p.Kerberos.Hosts = []string{"in.saltmere.example"}
	assert.Equal(t, []string{"in.saltmere.example"}, p.Kerberos.At("gate.saltmere.example"))
	assert.Equal(t, "SALTMERE.EXAMPLE", p.Authority())
	for name, change := range map[string]func(*config.KerberosProvider){
		"kerberos.realms":           func(k *config.KerberosProvider) { k.Realms = []string{"ada@SALTMERE.EXAMPLE"} },
		"kerberos.hosts":            func(k *config.KerberosProvider) { k.Hosts = []string{"https://gate.saltmere.example"} },
		"kerberos.clockSkewSeconds": func(k *config.KerberosProvider) { k.ClockSkewSeconds = 301 },
	} {
		p := desk()
		change(p.Kerberos)
		assert.ErrorContains(t, p.Validate(), name)
	}
	empty := config.Provider{Slug: "desk", Name: "Desk", Kind: config.KindKerberos}
	require.NoError(t, empty.Validate())
	assert.NotEmpty(t, empty.Missing())
}
