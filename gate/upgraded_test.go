package gate_test

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/gate"
	"innergate/gate/traces"
	"innergate/store"
	"innergate/testbed"
)

// TestAGateRunsOnEachEarlierFolder starts a gate on what each earlier version left, and reads what hangs together: the journal's
// chain, each trace with all that is sealed in it, and the findings about the whole configuration.
func TestAGateRunsOnEachEarlierFolder(t *testing.T) {
	t.Parallel()
	for _, form := range testbed.Forms(t) {
		t.Run(form, func(t *testing.T) {
			folder, ctx := testbed.Earlier(t, form), t.Context()
			master, err := store.MasterKeys("", filepath.Join(folder, "master.key"), false)
			require.NoError(t, err)
			sealer, err := store.NewSealer(master[0])
			require.NoError(t, err)
			s, err := store.Open(folder, sealer)
			require.NoError(t, err)
			t.Cleanup(s.Close)
			g, err := gate.New(ctx, gate.Options{Store: s, PublicURL: "http://localhost:8420", Now: time.Now, KeySource: testbed.Keys()})
			require.NoError(t, err)
			journal, err := g.VerifyJournal(ctx, "")
			require.NoError(t, err)
			assert.True(t, journal.Whole, "%+v", journal)
			assert.Greater(t, journal.Lines, int64(20))
			list, err := g.Traces.Traces(ctx, store.Page{Limit: 200}, traces.Filter{})
			require.NoError(t, err)
			assert.Greater(t, len(list.Items), 20)
			for _, line := range list.Items {
				whole, err := g.Traces.Trace(ctx, line.Reference, true)
				require.NoError(t, err)
				assert.NotEmpty(t, whole.Entries, line.Reference)
			}
			_, err = g.Checkups.Checkup(ctx)
			require.NoError(t, err)
			require.NoError(t, g.Tidy(ctx))
			require.NoError(t, g.Turn(ctx))
		})
	}
}
