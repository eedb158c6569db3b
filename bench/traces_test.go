package bench

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/client"
	"innergate/store"
)

// BenchmarkTraceSearch asks for the first page among 1,000,000 traces by each of the fields, through the API. The bound is 100 ms for the slowest; floor-ms is the first page
// without any condition.
func BenchmarkTraceSearch(b *testing.B) {
	ctx := context.Background()
	w, _ := preparedWith(b, func(folder string) {
		fill(b, folder, 20_000, 10)
		sealer, err := store.NewSealer(make([]byte, 32)) // nothing sealed is read
		require.NoError(b, err)
		s, err := store.Open(folder, sealer)
		require.NoError(b, err)
		defer s.Close()
		require.NoError(b, s.Write(ctx, func(tx *gorm.DB) error {
			if err := tx.Exec("INSERT INTO traces (id, reference, application_id, provider_id, application, provider, person_id, person, flow, outcome, code, rehearsal_id, subject, subject_shown, entries, started_at, micros) "+counted+
				`SELECT printf('01K%023d', i), printf('R%07d', i), (SELECT id FROM applications WHERE slug = CASE WHEN i % 5000 = 0 THEN 'cargo-ledger' ELSE 'crew-rota' END), (SELECT id FROM providers WHERE slug = 'saltmere-staff'), 'Crew Rota', 'Saltmere Staff', printf('01P%023d', 1 + i % 20000), 'Person ' || (1 + i % 20000), 'sp',
				CASE WHEN i % 50 = 0 THEN 'refused' ELSE 'signed-in' END, CASE WHEN i % 50000 = 0 THEN 'saml.expired' WHEN i % 50 = 0 THEN 'saml.audience-mismatch' ELSE '' END, '', '', '', zeroblob(40), ?, 5000 FROM n`, 1_000_000, time.Now().UTC()).Error; err != nil {
				return err
			}
			return tx.Exec("INSERT INTO trace_ids (value, trace_id) "+counted+"SELECT '_' || i || j, printf('01K%023d', i) FROM n, (SELECT 'a' AS j UNION SELECT 'b' UNION SELECT 'c')", 1_000_000).Error
		}))
	})
	c := w.Client()
	ask := func(p client.Page) float64 {
		best := time.Hour
		for range 5 {
			begin := time.Now()
			_, err := c.Traces(ctx, p)
			require.NoError(b, err)
			best = min(best, time.Since(begin))
		}
		return float64(best.Microseconds()) / 1000
	}
	for b.Loop() {
	}
	slowest := 0.0
	for name, p := range map[string]client.Page{
		"person": {Search: "Person 777"}, "last-name": {Search: "777"}, "rare-code": {Search: "saml.expired"}, "code": {Search: "saml.audience-mismatch"}, "message-id": {Search: "_500000b"}, "reference": {Search: "R0500000"},
		"application": {Filters: map[string]string{"application": "cargo-ledger"}}, "provider": {Filters: map[string]string{"provider": "saltmere-staff"}}, "outcome": {Filters: map[string]string{"outcome": "refused"}},
		"outcome-of-application": {Filters: map[string]string{"outcome": "refused", "application": "cargo-ledger"}}, "nobody": {Search: "no such person"}, "rehearsals": {Filters: map[string]string{"rehearsal": "yes"}},
		"time": {Filters: map[string]string{"until": time.Now().Add(-time.Hour).UTC().Format(time.RFC3339)}},
	} {
		took := ask(p)
		slowest = max(slowest, took)
		b.ReportMetric(took, name+"-ms")
	}
	b.ReportMetric(ask(client.Page{}), "floor-ms")
	b.ReportMetric(slowest, "slowest-ms")
	b.ReportMetric(0, "ns/op")
}
