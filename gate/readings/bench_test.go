package readings_test

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"os"
	"runtime"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/people"
	"innergate/testbed"
)

// many is how many people are read; INNERGATE_READ sets another number.
func many() int {
	if n, err := strconv.Atoi(os.Getenv("INNERGATE_READ")); err == nil {
		return n
	}
	return 100_000
}

// BenchmarkRead reads everybody of a directory for the first time, and once more when all are as they were, against reading them with
// the library alone. It tells the highest memory that was in use.
func BenchmarkRead(b *testing.B) {
	s := testbed.NewSlapd(b)
	n := many()
	var text strings.Builder
	for i := range n {
		fmt.Fprintf(&text, "dn: uid=hand%06d,ou=people,%s\nobjectClass: inetOrgPerson\nuid: hand%06d\ncn: Hand %06d\ngivenName: Hand\n"+
			"sn: %06d\nmail: hand%06d@saltmere.example\n\n", i, testbed.SlapdBase, i, i, i, i)
	}
	for g := range 200 {
		fmt.Fprintf(&text, "dn: cn=crew%03d,ou=groups,%s\nobjectClass: groupOfNames\ncn: crew%03d\n", g, testbed.SlapdBase, g)
		for i := g; i < n; i += 200 {
			fmt.Fprintf(&text, "member: uid=hand%06d,ou=people,%s\n", i, testbed.SlapdBase)
		}
		text.WriteString("\n")
	}
	s.Fill(b, text.String())
	text.Reset()
	l, ctx := testbed.NewLab(b), b.Context()
	_, err := l.Configuration.SaveProvider(ctx, testbed.Owner, "", config.Provider{
		Slug: "office", Name: "Office", Kind: config.KindLDAP, Mapping: claims.OfDirectory(),
		Matching: &people.Matching{Domains: []string{"saltmere.example"}, Unscoped: true, MailUnproven: true, Groups: []string{"*"},
			By: []people.Way{{By: people.Mail}}},
		LDAP: &config.LDAPProvider{Servers: []string{s.LDAPS}, Certificates: []config.Certificate{{PEM: s.CA}},
			BindDN: testbed.SlapdAdmin, Base: testbed.SlapdBase, Groups: &config.LDAPGroups{By: "member"}, Reading: &config.LDAPReading{}},
	}, 0)
	require.NoError(b, err)
	_, err = l.Partners.KeepSecret(ctx, testbed.Owner, "office", api.TheirSecret{Value: testbed.SlapdSecret})
	require.NoError(b, err)
	ends := func(r *api.Reading, err error) *api.Reading {
		require.NoError(b, err)
		for r.State == "looking" || r.State == "writing" {
			time.Sleep(50 * time.Millisecond)
			r, err = l.Readings.One(ctx, "office", r.ID)
			require.NoError(b, err)
		}
		return r
	}
	for b.Loop() {
		floor := alone(b, s)
		most, stop := peak()
		began := time.Now()
		looked := ends(l.Readings.New(ctx, testbed.Owner, "office", api.NewReading{}))
		look := time.Since(began)
		require.Equal(b, "looked", looked.State, looked.Note)
		began = time.Now()
		wrote := ends(l.Readings.Write(ctx, testbed.Owner, "office", looked.ID))
		first := time.Since(began)
		require.Equal(b, "done", wrote.State, wrote.Note)
		require.GreaterOrEqual(b, wrote.Made, n)
		began = time.Now()
		again := ends(l.Readings.New(ctx, testbed.Owner, "office", api.NewReading{Write: true}))
		second := time.Since(began)
		require.GreaterOrEqual(b, again.Same, n)
		stop()
		b.ReportMetric(floor.Seconds(), "floor-s")
		b.ReportMetric(look.Seconds(), "look-s")
		b.ReportMetric(first.Seconds(), "first-s")
		b.ReportMetric(second.Seconds(), "again-s")
		b.ReportMetric(float64(*most>>20), "MiB")
	}
}

// peak watches the memory in use until it is stopped.
func peak() (*uint64, func()) {
	var most uint64
	done, ended := make(chan struct{}), make(chan struct{})
	runtime.GC()
	go func() {
		defer close(ended)
		for {
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			most = max(most, m.HeapInuse+m.StackInuse)
			select {
			case <-done:
				return
			case <-time.After(100 * time.Millisecond):
			}
		}
	}()
	return &most, func() { close(done); <-ended }
}

// alone reads everybody with the library, and does nothing with them.
func alone(b *testing.B, s *testbed.Slapd) time.Duration {
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM([]byte(s.CA))
	c, err := ldap.DialURL(s.LDAPS, ldap.DialWithTLSConfig(
		&tls.Config{RootCAs: pool, ServerName: "localhost", MinVersion: tls.VersionTLS12},
	))
	require.NoError(b, err)
	defer c.Close()
	require.NoError(b, c.Bind(testbed.SlapdAdmin, testbed.SlapdSecret))
	began := time.Now()
	paging := ldap.NewControlPaging(500)
	for {
		got, err := c.Search(ldap.NewSearchRequest(testbed.SlapdBase, ldap.ScopeWholeSubtree, 0, 0, 0, false, "(objectClass=inetOrgPerson)",
			[]string{"entryUUID", "uid", "cn", "givenName", "sn", "mail"}, []ldap.Control{paging}))
		require.NoError(b, err)
		next, ok := ldap.FindControl(got.Controls, ldap.ControlTypePaging).(*ldap.ControlPaging)
		if !ok || len(next.Cookie) == 0 {
			return time.Since(began)
		}
		paging.SetCookie(next.Cookie)
	}
}
