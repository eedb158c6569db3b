package server_test

import (
	"fmt"
	"net/http"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/demo"
	"innergate/store"
	"innergate/testbed"
)

// history are the columns that name what is gone on purpose: they say what was, until their own time is over.
var history = []string{"revisions.object_id", "journal_entries.object_id", "journal_entries.who_id", "traces.application_id",
	"traces.provider_id", "traces.person_id", "sign_in_counts.application_id", "sign_in_counts.provider_id", "leftovers.object_id"}

// leftOf counts in which columns of which tables an identifier stands.
func leftOf(t *testing.T, w *demo.World, id string) []string {
	t.Helper()
	return append(leftIn(t, w.Gate.Store.Read(t.Context()), id), leftIn(t, w.Gate.Store.Traces.Read(t.Context()), id)...)
}

func leftIn(t *testing.T, db *gorm.DB, id string) []string {
	t.Helper()
	var tables []string
	require.NoError(t, db.Raw("SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE '%\\_text%' ESCAPE '\\' AND name NOT "+
		"LIKE 'sqlite%'").Scan(&tables).Error)
	var out []string
	for _, table := range tables {
		var columns []string
		require.NoError(t, db.Raw("SELECT name FROM pragma_table_info(?) WHERE type LIKE 'text'", table).Scan(&columns).Error)
		for _, c := range columns {
			if slices.Contains(history, table+"."+c) {
				continue
			}
			var n int
			require.NoError(t, db.Raw(fmt.Sprintf("SELECT count(*) FROM `%s` WHERE `%s` = ? OR instr(`%s`, ?) > 0 AND `%s` LIKE '%%/%%'",
				table,
				c, c, c), id, id).Scan(&n).Error)
			if n > 0 {
				out = append(out, fmt.Sprintf("%s.%s: %d", table, c, n))
			}
		}
	}
	return out
}

// TestNothingIsLeftOfWhatWasDeleted deletes applications, a provider, a group, a source and a person that have rows everywhere,
// has tidied up, and looks for their identifiers in every column of every table.
func TestNothingIsLeftOfWhatWasDeleted(t *testing.T) {
	t.Parallel()
	var ahead atomic.Int64
	w := testbed.World(t, demo.Options{Now: func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }})
	ctx := t.Context()
	signsIn(t, w, "mvoss")
	require.NoError(t, w.Fill(ctx, demo.Full.Over(500), func(string) {}))
	_, err := w.Gate.Checkups.Checkup(ctx)
	require.NoError(t, err)
	id := func(table, slug string) (id string) {
		require.NoError(t, w.Gate.Store.Read(ctx).Raw("SELECT id FROM "+table+" WHERE slug = ?", slug).Scan(&id).Error)
		return id
	}
	person := fmt.Sprintf("01F%023d", 7)
	type one struct{ path, id string }
	all := []one{{"/people/" + person, person}, {"/sources/harbours", id("sources", "harbours")},
		{"/applications/crew-rota", id("applications", "crew-rota")}}
	// Whatever signs in with a provider goes before it.
	for i := range demo.Full.Over(500).Applications {
		slug := fmt.Sprint("berth-", i+1)
		all = append(all, one{"/applications/" + slug, id("applications", slug)})
	}
	all = append(all, one{"/providers/port-1", id("providers", "port-1")}, one{"/groups/watch-1", id("groups", "watch-1")})
	for _, o := range all {
		require.NotEmpty(t, leftOf(t, w, o.id), o.path)
		answer, text := send(t, http.DefaultClient, http.MethodDelete, w.URL+"/api/v1"+o.path, w.Token, "")
		require.Less(t, answer.StatusCode, 300, o.path+": "+text)
	}
	ahead.Store(int64(11 * time.Minute))
	require.NoError(t, w.Gate.Tidy(ctx))
	for _, o := range all {
		assert.Empty(t, leftOf(t, w, o.id), o.path)
	}
	var left int64
	require.NoError(t, w.Gate.Store.Read(ctx).Model(&store.Leftover{}).Count(&left).Error)
	assert.Zero(t, left)
}
