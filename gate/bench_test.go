package gate_test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate/core/config"
	"innergate/store"
)

// BenchmarkSourceOf10000 stores an aggregate of 10,000 entities and then looks one up, as adopting and refreshing do. The bound for one look-up is 1 ms.
func BenchmarkSourceOf10000(b *testing.B) {
	l, ctx := newLab(b), context.Background()
	_, err := l.SaveSource(ctx, owner, "", config.Source{Name: "Many", Kind: "file"})
	require.NoError(b, err)
	doc := []byte(aggregate(b, 10000, time.Time{}, nil, ""))
	for at := 0; at < len(doc); at += 2 << 20 {
		require.NoError(b, l.UploadSource(ctx, "many", int64(at), doc[at:min(at+2<<20, len(doc))]))
	}
	begin := time.Now()
	_, err = l.RefreshSource(ctx, "many")
	require.NoError(b, err)
	require.Equal(b, 10000, settled(b, l, "many").Entities)
	stored := time.Since(begin)
	b.Run("look-up", func(b *testing.B) {
		n := 0
		for b.Loop() {
			if _, err := l.SourceDocument(ctx, "many", fmt.Sprintf("https://port-%03d.example/saml", n*7919%10000)); err != nil {
				b.Fatal(err)
			}
			n++
		}
		b.ReportMetric(stored.Seconds(), "storing-s")
	})
	b.Run("search", func(b *testing.B) {
		for b.Loop() {
			if _, err := l.SourceEntities(ctx, "many", store.Page{Search: "port-77", Limit: 50}, ""); err != nil {
				b.Fatal(err)
			}
		}
	})
}
