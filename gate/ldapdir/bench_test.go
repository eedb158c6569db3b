package ldapdir_test

import (
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/trace"
	"innergate/standin"
	"innergate/testbed"
)

// BenchmarkLookUpKept maps a value that was looked up a short time ago, in µs beyond the same mapping without it.
func BenchmarkLookUpKept(b *testing.B) {
	l, ctx := testbed.NewLab(b), b.Context()
	office, err := standin.NewOffice()
	require.NoError(b, err)
	at, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	b.Cleanup(func() { at.Close() })
	go office.Serve(at)
	_, port, err := net.SplitHostPort(at.Addr().String())
	require.NoError(b, err)
	save := func(p config.Provider) {
		_, err := l.Configuration.SaveProvider(ctx, testbed.Owner, "", p, 0)
		require.NoError(b, err)
	}
	save(config.Provider{Slug: "office", Name: "Office", Kind: config.KindLDAP, LDAP: &config.LDAPProvider{
		Servers: []string{"ldaps://localhost:" + port}, Certificates: []config.Certificate{{PEM: office.Certificate}},
		BindDN: office.Gate, Base: office.Base, LookUp: &config.LDAPLookUp{Filter: "(uid={uid})", KeepSeconds: 3600},
	}})
	_, err = l.Partners.KeepSecret(ctx, testbed.Owner, "office", api.TheirSecret{Value: office.Secret})
	require.NoError(b, err)
	rules := claims.Mapping{{Set: "preferred_username", From: []string{"uid"}}}
	save(config.Provider{Slug: "without", Name: "Without", Mapping: rules})
	save(config.Provider{Slug: "with", Name: "With", Mapping: append(rules, claims.Rule{Set: "title",
		From: []string{"directory:office.title"}})})
	came := claims.Bag{"uid": {"wfell"}}
	apply := func(slug string) {
		p, err := l.Partners.Provider(ctx, slug)
		require.NoError(b, err)
		out, err := l.LDAP.Apply(ctx, p, came, trace.NewRecorder(l.Now(), l.Now))
		require.NoError(b, err)
		require.Len(b, out, map[string]int{"with": 2, "without": 1}[slug])
	}
	apply("with")
	apply("without")
	var without, with time.Duration
	for b.Loop() {
		began := time.Now()
		apply("without")
		without += time.Since(began)
		began = time.Now()
		apply("with")
		with += time.Since(began)
	}
	b.ReportMetric(float64((with-without).Microseconds())/float64(b.N), "µs/look-up")
}
