package sources_test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/core/access"
	"innergate/core/claims"
	"innergate/core/config"
	"innergate/core/saml"
	"innergate/gate/ground"
	"innergate/store"
	"innergate/testbed"
)

// BenchmarkSourceOf10000 stores an aggregate of 10,000 entities and then looks one up, as adopting and refreshing do.
// The bound for one look-up is 1 ms.
func BenchmarkSourceOf10000(b *testing.B) {
	l, ctx := testbed.NewLab(b), context.Background()
	_, err := l.Sources.SaveSource(ctx, testbed.Owner, "", config.Source{Name: "Many", Kind: "file"})
	require.NoError(b, err)
	doc := []byte(aggregate(b, 10000, time.Time{}, nil, ""))
	for at := 0; at < len(doc); at += 2 << 20 {
		require.NoError(b, l.Sources.UploadSource(ctx, "many", int64(at), doc[at:min(at+2<<20, len(doc))]))
	}
	begin := time.Now()
	_, err = l.Sources.RefreshSource(ctx, "many")
	require.NoError(b, err)
	require.Equal(b, 10000, settled(b, l, "many").Entities)
	stored := time.Since(begin)
	b.Run("look-up", func(b *testing.B) {
		n := 0
		for b.Loop() {
			if _, err := l.Sources.SourceDocument(ctx, "many", fmt.Sprintf("https://port-%03d.example/saml", n*7919%10000)); err != nil {
				b.Fatal(err)
			}
			n++
		}
		b.ReportMetric(stored.Seconds(), "storing-s")
	})
	b.Run("search", func(b *testing.B) {
		for b.Loop() {
			if _, err := l.Sources.SourceEntities(ctx, "many", store.Page{Search: "port-77", Limit: 50}, ""); err != nil {
				b.Fatal(err)
			}
		}
	})
}

// BenchmarkCheckup inspects 1,000 applications with one provider: all of them (the bound is 2 s), and what one change
// touches (50 ms). The floor of the whole is reading the same rows and their JSON.
func BenchmarkCheckup(b *testing.B) {
	l, ctx := testbed.NewLab(b), context.Background()
	idp, err := l.Watch.TakeProvider(ctx, testbed.Owner, "",
		api.TakeIn{Text: testbed.Metadata(b, "https://id.saltmere.example/saml", saml.RoleIDP)})
	require.NoError(b, err)
	for i := range 1000 {
		a := config.Application{
			Name:      fmt.Sprintf("Application %d", i),
			Kind:      config.KindSAML,
			Reach:     access.Everyone,
			Access:    access.Policy{To: access.Everybody},
			Providers: []string{idp.Slug},
			Mapping:   claims.Outgoing(),
			SAML: &config.SAMLApplication{
				EntityID: fmt.Sprintf("https://app-%d.example/saml", i),
				ACS: []saml.Endpoint{
					{Service: saml.ServiceACS, Binding: saml.BindingPost, Location: fmt.Sprintf("https://app-%d.example/acs", i)},
				},
			},
		}
		_, err := l.Configuration.SaveApplication(ctx, testbed.Owner, "", a, 0)
		require.NoError(b, err)
	}
	begin := time.Now()
	rows, err := l.Checkups.Applications(ctx, store.Page{Limit: 200}, ground.Narrow{}, "")
	require.NoError(b, err)
	floor := time.Since(begin) * time.Duration(1000/len(rows.Items))
	b.Run("whole", func(b *testing.B) {
		for b.Loop() {
			if _, err := l.Checkups.Checkup(ctx); err != nil {
				b.Fatal(err)
			}
		}
		b.ReportMetric(float64(floor.Microseconds())/1000, "floor-ms")
	})
	b.Run("change", func(b *testing.B) {
		for b.Loop() {
			if err := l.Checkups.CheckObject(ctx, "application", "application-7"); err != nil {
				b.Fatal(err)
			}
		}
	})
}
