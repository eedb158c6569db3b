package traces_test

import (
	"context"
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/api"
	"innergate/core/trace"
	"innergate/gate/traces"
	"innergate/store"
	"innergate/testbed"
)

// put keeps the trace of a refused sign-in with one message.
func put(t *testing.T, l *testbed.Lab, reference, message string) *store.Trace {
	t.Helper()
	entries := []trace.Entry{{Message: &trace.Message{Name: "Response",
		Raw: `<Response ID="_` + reference + `">` + message + `</Response>`}}}
	plain, err := json.Marshal(entries)
	require.NoError(t, err)
	row := &store.Trace{
		ID: store.NewIDAt(l.Clock), Reference: reference, Flow: "sp", Outcome: "refused", Code: "saml.expired", ApplicationID: "A",
		StartedAt: l.Clock,
	}
	row.Entries = l.Store.Sealer.Seal(store.PlaceTrace, row.ID, traces.Packer().EncodeAll(plain, nil))
	require.NoError(t, l.Store.Traces.Write(context.Background(), func(tx *gorm.DB) error {
		if err := traces.Insert(tx, row); err != nil {
			return err
		}
		return traces.NoteEnd(tx, entries, row, l.Clock)
	}))
	return row
}

// TestATraceIsFoundByWhatLeadsToIt finds it by its number and by an identifier of a message, and counts it by the hour.
func TestATraceIsFoundByWhatLeadsToIt(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	put(t, l, "ABCD-2345", "Mira Voss")
	put(t, l, "EFGH-6789", "Zoë Öberg")
	for _, search := range []string{"ABCD-2345", "abcd-2345", "_ABCD-2345"} {
		list, err := l.Traces.Traces(ctx, store.Page{Limit: 10, Search: search}, traces.Filter{})
		require.NoError(t, err)
		require.Len(t, list.Items, 1, search)
		assert.Equal(t, "ABCD-2345", list.Items[0].Reference)
	}
	x, err := l.Traces.Trace(ctx, "ABCD-2345", true)
	require.NoError(t, err)
	assert.Contains(t, x.Entries[0].Message.Raw, "Mira Voss")
	assert.Equal(t, "saml.expired", x.Code)
	x, err = l.Traces.Trace(ctx, "ABCD-2345", false)
	require.NoError(t, err)
	assert.NotContains(t, fmt.Sprint(x.Entries[0].Message), "Mira Voss", "not for viewers")
	_, err = l.Traces.Trace(ctx, "ZZZZ-ZZZZ", true)
	assert.Equal(t, 404, testbed.Status(err))
	s, err := l.Traces.Statistics(ctx, 1, "", "")
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprintf("%+v", s), "saml.expired")
}

// TestTracesAreKeptAsLongAsIsSet tidies by age, with what leads to a trace.
func TestTracesAreKeptAsLongAsIsSet(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	old := put(t, l, "ABCD-2345", "old")
	require.NoError(t, l.Store.Traces.Write(ctx, func(tx *gorm.DB) error {
		return traces.Add(tx, &store.TraceAddition{ID: store.NewIDAt(l.Clock), TraceID: old.ID, At: l.Clock})
	}))
	_, err := l.Traces.SetTraceRetention(ctx, testbed.Owner, api.TraceRetention{Days: 7, Count: 1000})
	require.NoError(t, err)
	l.Turn(8 * 24 * time.Hour)
	put(t, l, "EFGH-6789", "new")
	require.NoError(t, l.Tidy(ctx))
	for table, want := range map[string]int64{"traces": 1, "trace_ids": 1, "trace_additions": 0} {
		var n int64
		require.NoError(t, l.Store.Traces.Read(ctx).Table(table).Count(&n).Error)
		assert.Equal(t, want, n, table)
	}
}

// TestStrangersLeaveOnlySoManyTraces counts by the minute.
func TestStrangersLeaveOnlySoManyTraces(t *testing.T) {
	t.Parallel()
	l := testbed.NewLab(t)
	kept := 0
	for i := range 400 {
		if l.Traces.RoomForStranger(fmt.Sprintf("2001:db8::%x", i)) {
			kept++
		}
	}
	assert.Equal(t, 60, kept, "one network, whichever of its addresses")
	for i := range 4000 {
		if l.Traces.RoomForStranger(fmt.Sprintf("192.0.2.%d", i%200)) {
			kept++
		}
	}
	assert.LessOrEqual(t, kept, 300, "all together")
	assert.True(t, l.Traces.RoomForPartner("ledger"), "who has proven who it is has room of its own")
	l.Turn(time.Minute)
	assert.True(t, l.Traces.RoomForStranger("192.0.2.1"))
}

// TestStrangersTracesGoFirst keeps a real sign-in's trace, and more of strangers than have room.
func TestStrangersTracesGoFirst(t *testing.T) {
	t.Parallel()
	l, ctx := testbed.NewLab(t), context.Background()
	keep := func(n int, stranger bool) {
		require.NoError(t, l.Store.Traces.Write(ctx, func(tx *gorm.DB) error {
			for range n {
				row := store.Trace{ID: store.NewIDAt(l.Now()), Reference: trace.NewReference(), Outcome: "refused", StartedAt: l.Now(),
					Stranger: stranger}
				if err := traces.Insert(tx, &row); err != nil {
					return err
				}
			}
			return nil
		}))
		l.Turn(time.Second)
	}
	keep(10, false)
	keep(5600, true)
	count := func(stranger bool) (n int64) {
		require.NoError(t, l.Store.Traces.Read(ctx).Model(&store.Trace{}).Where("stranger = ?", stranger).Count(&n).Error)
		return n
	}
	require.NoError(t, l.Tidy(ctx))
	assert.LessOrEqual(t, count(true), int64(5000), "at once, not some each minute")
	assert.Equal(t, int64(10), count(false))
}
