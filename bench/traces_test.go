package bench

import (
	"context"
	"encoding/json"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/client"
	"innergate/core/trace"
	"innergate/demo"
	"innergate/store"
)

// BenchmarkTraceSearch asks for the first page among 1,000,000 traces by each of the fields, through the API. The bound
// is 100 ms for the slowest; floor-ms is the first page without any condition.
func BenchmarkTraceSearch(b *testing.B) {
	ctx := context.Background()
	w, _ := preparedWith(b, func(folder string) {
		fill(b, folder, 20_000, 10)
		sealer, err := store.NewSealer(make([]byte, 32)) // nothing sealed is read
		require.NoError(b, err)
		s, err := store.Open(folder, sealer)
		require.NoError(b, err)
		defer s.Close()
		idOf := func(table, slug string) (id string) {
			require.NoError(b, s.Row(ctx, "SELECT id FROM "+table+" WHERE slug = ?", slug).Scan(&id))
			return id
		}
		require.NoError(b, s.Traces.Write(ctx, func(tx *gorm.DB) error {
			if err := tx.Exec("INSERT INTO traces (id, reference, application_id, provider_id, application, provider, person_id, "+
				"person, flow, outcome, code, rehearsal_id, subject, subject_shown, entries, started_at, micros) "+counted+
				`SELECT printf('01K%023d', i), printf('R%07d', i),
				CASE WHEN i % 5000 = 0 THEN ? ELSE ? END, ?, 'Crew Rota', 'Saltmere Staff',
				printf('01P%023d', 1 + i % 20000), 'Person ' || (1 + i % 20000), 'sp',
				CASE WHEN i % 50 = 0 THEN 'refused' ELSE 'signed-in' END,
				CASE WHEN i % 50000 = 0 THEN 'saml.expired' WHEN i % 50 = 0 THEN 'saml.audience-mismatch' ELSE '' END,
				'', '', '', zeroblob(40), ?, 5000 FROM n`, 1_000_000, idOf("applications", "cargo-ledger"),
				idOf("applications", "crew-rota"), idOf("providers", "saltmere-staff"), time.Now().UTC()).Error; err != nil {
				return err
			}
			return tx.Exec(
				"INSERT INTO trace_ids (value, trace_id) "+counted+
					"SELECT '_' || i || j, printf('01K%023d', i) FROM n, (SELECT 'a' AS j UNION SELECT 'b' UNION SELECT 'c')",
				1_000_000,
			).Error
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
		"person": {Search: "Person 777"}, "last-name": {Search: "777"}, "rare-code": {Search: "saml.expired"},
		"code": {Search: "saml.audience-mismatch"}, "message-id": {Search: "_500000b"}, "reference": {Search: "R0500000"},
		"application":            {Filters: map[string]string{"application": "cargo-ledger"}},
		"provider":               {Filters: map[string]string{"provider": "saltmere-staff"}},
		"outcome":                {Filters: map[string]string{"outcome": "refused"}},
		"outcome-of-application": {Filters: map[string]string{"outcome": "refused", "application": "cargo-ledger"}},
		"nobody":                 {Search: "no such person"}, "rehearsals": {Filters: map[string]string{"rehearsal": "yes"}},
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

// BenchmarkTraceCost tells what tracing adds to a sign-in's processor time; the bound is 15 %. What is done for a trace
// is done here alone, with the record of a real sign-in: its entries so far are written when the person is sent to the
// provider, all of them at the end, with what leads to it and the count by the hour. The sign-in itself is measured in
// a process of its own.
func BenchmarkTraceCost(b *testing.B) {
	w, s := prepared(b)
	ctx := context.Background()
	once := func() {
		walker := demo.NewWalker(nil)
		if err := walker.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss"); err != nil || walker.Inner("nameid") != "mvoss" {
			b.Fatal(err, walker.Text)
		}
		walker.HTTP.CloseIdleConnections()
	}
	for range 50 {
		once()
	}
	before := s.Processor(b)
	const rounds = 300
	for range rounds {
		once()
	}
	whole := (s.Processor(b) - before) / rounds
	list, err := w.Client().Traces(ctx, client.Page{Limit: 1})
	require.NoError(b, err)
	full, err := w.Client().Trace(ctx, list.Items[0].Reference)
	require.NoError(b, err)
	var entries []trace.Entry
	sent := 0
	for i, e := range full.Entries {
		if entries = append(entries, e.Entry); e.Message != nil && e.Message.From == trace.Gate && e.Message.To == trace.Provider {
			sent = i + 1
		}
	}
	sealer, err := store.NewSealer(make([]byte, 32))
	require.NoError(b, err)
	held, err := store.Open(b.TempDir(), sealer)
	require.NoError(b, err)
	b.Cleanup(held.Close)
	packer, err := zstd.NewWriter(
		nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(128<<10),
	)
	require.NoError(b, err)
	size := 0
	pack := func(id string, list []trace.Entry) []byte {
		plain, err := json.Marshal(list)
		require.NoError(b, err)
		sealed := sealer.Seal(store.PlaceTrace, id, packer.EncodeAll(plain, nil))
		size = len(sealed)
		return sealed
	}
	begin, n := time.Now(), 0
	for b.Loop() {
		id, now := store.NewID(), time.Now().UTC()
		row := store.Trace{
			ID:            id,
			Reference:     id,
			ApplicationID: "a",
			ProviderID:    "p",
			Flow:          "sp",
			Outcome:       "open",
			Entries:       pack(id, entries[:sent]),
			StartedAt:     now,
		}
		require.NoError(b, held.Traces.Write(ctx, func(tx *gorm.DB) error { return tx.Create(&row).Error }))
		row.Outcome, row.Entries = "signed-in", pack(id, entries)
		require.NoError(b, held.Traces.Write(ctx, func(tx *gorm.DB) error {
			for _, v := range []string{"a", "b", "c", "d"} {
				if _, err := store.Exec(tx, "INSERT INTO trace_ids (value, trace_id) VALUES (?, ?) ON CONFLICT DO NOTHING", id+v,
					id); err != nil {
					return err
				}
			}
			if _, err := store.Exec(tx, "INSERT INTO sign_in_counts (hour, application_id, provider_id, outcome, code, count) VALUES "+
				"(?, 'a', 'p', 'signed-in', '', 1) ON CONFLICT (hour, application_id, provider_id, outcome, code) DO UPDATE SET count "+
				"= count + 1", now.Truncate(time.Hour)); err != nil {
				return err
			}
			return tx.Model(&row).Select("outcome", "entries", "micros").Updates(&row).Error
		}))
		n++
	}
	cost := time.Since(begin) / time.Duration(n)
	b.ReportMetric(100*float64(cost)/float64(whole), "percent")
	b.ReportMetric(float64(cost.Microseconds()), "trace-us")
	b.ReportMetric(float64(whole.Microseconds())/1000, "sign-in-ms")
	b.ReportMetric(float64(size), "bytes")
}
