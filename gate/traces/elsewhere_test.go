package traces_test

import (
	"context"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/gate/traces"
	"innergate/store"
	"innergate/testbed"
)

// other is another node, which answers what it is asked, unless it is silent.
type other struct {
	room   *traces.Room
	silent bool
	asked  []string
	fails  error
}

func (o *other) Here() string { return "a:1" }

func (o *other) Ask(ctx context.Context, name string, q any, each func(string, json.RawMessage) error) ([]string, error) {
	o.asked = append(o.asked, name)
	if o.silent {
		return []string{"b:1"}, nil
	}
	text, err := json.Marshal(q)
	if err != nil {
		return nil, err
	}
	got, err := o.room.Answers()[name](ctx, text)
	if err != nil {
		o.fails = err
		return []string{"b:1"}, nil
	}
	if text, err = json.Marshal(got); err != nil {
		return nil, err
	}
	return nil, each("b:1", text)
}

// two are two nodes with traces of their own, seen from the first.
func two(t *testing.T) (here, there *testbed.Lab, o *other) {
	t.Helper()
	here, there = testbed.NewLab(t), testbed.NewLab(t)
	o = &other{room: there.Traces}
	here.Traces.Elsewhere = o
	return here, there, o
}

func keep(t *testing.T, l *testbed.Lab, rows ...store.Trace) {
	t.Helper()
	require.NoError(t, l.Store.Traces.Write(t.Context(), func(tx *gorm.DB) error { return tx.Create(&rows).Error }))
}

// TestRowsOfAllNodesAreGathered finds what each keeps of something, in one order.
func TestRowsOfAllNodesAreGathered(t *testing.T) {
	t.Parallel()
	here, there, o := two(t)
	at := here.Now().UTC()
	keep(t, here, store.Trace{ID: "01B", Reference: "BBBB-BBBB", RehearsalID: "r", StartedAt: at, Outcome: "signed-in"})
	keep(t, there, store.Trace{ID: "01C", Reference: "CCCC-CCCC", RehearsalID: "r", StartedAt: at.Add(time.Second), Outcome: "refused"},
		store.Trace{ID: "01A", Reference: "AAAA-AAAA", RehearsalID: "r", StartedAt: at, Outcome: "signed-in", Entries: []byte("x")},
		store.Trace{ID: "01D", Reference: "DDDD-DDDD", RehearsalID: "another", StartedAt: at})
	db := here.Store.Traces.Read(t.Context()).Model(&store.Trace{}).Omit("entries").Where("rehearsal_id = ? AND started_at >= ?", "r", at)
	got, err := traces.Gather(t.Context(), here.Traces, db.Order("id DESC").Limit(2), traces.Newest)
	require.NoError(t, err)
	require.NoError(t, o.fails)
	var ids []string
	for _, one := range got {
		ids = append(ids, one.ID)
	}
	assert.Equal(t, []string{"01C", "01B", "01A"}, ids)
	assert.True(t, got[0].StartedAt.Equal(at.Add(time.Second)))
	assert.Empty(t, got[2].Entries)
}

// TestATraceIsFoundWhereverItIs finds a trace that another node keeps, and what was added to it at either; and says so where that
// node does not answer.
func TestATraceIsFoundWhereverItIs(t *testing.T) {
	t.Parallel()
	here, there, o := two(t)
	row := put(t, there, "EEEE-EEEE", "Mira Voss")
	// The same master key is on all nodes.
	row.Entries = here.Store.Sealer.Seal(store.PlaceTrace, row.ID, []byte("[]"))
	require.NoError(t, there.Store.Traces.Write(t.Context(), func(tx *gorm.DB) error { return tx.Save(row).Error }))
	for _, l := range []*testbed.Lab{here, there} {
		a := &store.TraceAddition{ID: store.NewIDAt(l.Clock), TraceID: row.ID, At: l.Clock}
		a.Entries = here.Store.Sealer.Seal(store.PlaceTrace, a.ID, []byte(`[{"decision":{"about":"x","result":"y"}}]`))
		require.NoError(t, l.Store.Traces.Write(t.Context(), func(tx *gorm.DB) error { return tx.Create(a).Error }))
		l.Turn(time.Second)
	}
	got, err := here.Traces.Trace(t.Context(), "eeee-eeee", true)
	require.NoError(t, err)
	assert.Equal(t, "b:1", got.Node)
	assert.Len(t, got.Entries, 2, "from both")
	list, err := here.Traces.Traces(t.Context(), store.Page{Search: "EEEE-EEEE"}, traces.Filter{})
	require.NoError(t, err)
	require.Len(t, list.Items, 1)
	assert.Equal(t, "b:1", list.Items[0].Node)
	counted, err := here.Traces.Statistics(t.Context(), 7, "", "")
	require.NoError(t, err)
	assert.EqualValues(t, 1, counted.Refused)

	o.silent = true
	_, err = here.Traces.Trace(t.Context(), "EEEE-EEEE", true)
	assert.Equal(t, 503, testbed.Status(err))
	list, err = here.Traces.Traces(t.Context(), store.Page{}, traces.Filter{})
	require.NoError(t, err)
	assert.Equal(t, []string{"b:1"}, list.Silent)
	o.silent = false
	_, err = here.Traces.Trace(t.Context(), "FFFF-FFFF", true)
	assert.Equal(t, 404, testbed.Status(err), "nobody has it")
}

// TestTokensMayBeFetchedAtAnotherNode ends no sign-in as not taken up whose application came for its tokens elsewhere.
func TestTokensMayBeFetchedAtAnotherNode(t *testing.T) {
	t.Parallel()
	here, there, o := two(t)
	waiting := func(id string) store.Trace {
		return store.Trace{ID: store.NewIDAt(here.Clock)[:24] + id, Reference: id, Outcome: traces.OutcomeWaiting, StartedAt: here.Clock}
	}
	fetched, refused, left := waiting("01"), waiting("02"), waiting("03")
	keep(t, here, fetched, refused, left)
	came := func(of store.Trace, code string) *store.TraceAddition {
		return &store.TraceAddition{ID: store.NewIDAt(here.Clock), TraceID: of.ID, At: here.Clock, Code: code}
	}
	o.silent = true // while it happened
	assert.False(t, there.Traces.KeepTakenUp(t.Context(), fetched.ID, came(fetched, "")))
	require.NoError(t, there.Traces.KeepRefusedTaking(t.Context(), came(refused, "oauth.bad-client"), "oauth.bad-client"))
	o.silent = false
	here.Turn(2 * time.Minute)
	require.NoError(t, here.Traces.EndUnfetched(t.Context()))
	for id, want := range map[string]string{
		fetched.ID: traces.OutcomeSignedIn, refused.ID: traces.OutcomeRefused, left.ID: traces.OutcomeNotTakenUp,
	} {
		var row store.Trace
		require.NoError(t, here.Store.Traces.Read(t.Context()).Where("id = ?", id).Take(&row).Error)
		assert.Equal(t, want, row.Outcome)
	}
	require.NoError(t, o.fails)
}
