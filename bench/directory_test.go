package bench

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate/demo"
	"innergate/standin"
)

// BenchmarkDirectorySignIn tells what a sign-in by a directory (LDAP) and one by a ticket (Kerberos) cost the gate, each to the same SAML
// application, against one by a SAML provider, all without the public-key operations in them: a SAML provider's costs four, the others
// two.
func BenchmarkDirectorySignIn(b *testing.B) {
	w, s := prepared(b)
	ctx := context.Background()
	c := w.Client()
	by := func(provider string) {
		a, err := c.Application(ctx, "crew-rota")
		require.NoError(b, err)
		a.Providers = []string{provider}
		_, err = c.PutApplication(ctx, a.Application, a.Revision)
		require.NoError(b, err)
	}
	ways := []struct {
		provider, person string
		once             func() *demo.Walker
	}{
		{"saltmere-staff", "mvoss", func() *demo.Walker {
			walker := demo.NewWalker(nil)
			require.NoError(b, walker.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"))
			return walker
		}},
		{"harbour-office", "wfell@harbour.example", func() *demo.Walker {
			walker := demo.NewWalker(nil)
			require.NoError(b, walker.SignIn(ctx, w.RotaURL+"/sign-in", ""))
			require.NoError(b, walker.SignInThere(ctx, "wfell", standin.OfficePassword))
			return walker
		}},
		{"quayside-desk", "wfell@harbour.example", func() *demo.Walker {
			walker := w.AtQuayside("wfell")
			require.NoError(b, walker.SignIn(ctx, w.RotaURL+"/sign-in", ""))
			return walker
		}},
	}
	costs := map[string]time.Duration{}
	const rounds = 150
	for b.Loop() {
		for _, way := range ways {
			by(way.provider)
			var before time.Duration
			for i := range rounds + 30 {
				if i == 30 { // warm
					before = s.Processor(b)
				}
				walker := way.once()
				require.Equal(b, way.person, walker.Inner("nameid"), walker.Text)
				walker.HTTP.CloseIdleConnections()
			}
			costs[way.provider] = (s.Processor(b) - before) / rounds
		}
	}
	bare := bareOperations(b)
	saml := costs["saltmere-staff"] - bare
	b.ReportMetric(float64(saml.Microseconds())/1000, "saml-ms")
	b.ReportMetric(float64((costs["harbour-office"]-bare/2).Microseconds())/1000, "ldap-ms")
	b.ReportMetric(float64((costs["quayside-desk"]-bare/2).Microseconds())/1000, "kerberos-ms")
	b.ReportMetric(float64(costs["harbour-office"]-bare/2)/float64(saml), "ldap-ratio")
	b.ReportMetric(float64(costs["quayside-desk"]-bare/2)/float64(saml), "kerberos-ratio")
}
