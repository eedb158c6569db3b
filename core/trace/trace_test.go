package trace_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/core/trace"
)

func TestRecorderKeepsOrderAndTimes(t *testing.T) {
	now := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	r := trace.NewRecorder(now, func() time.Time { return now })
	r.Message(trace.Message{From: trace.Application, To: trace.Gate, Name: "AuthnRequest", Raw: "<a/>"})
	now = now.Add(1500 * time.Microsecond)
	r.Begin(trace.Route)
	assert.True(t, r.Check(trace.Check{Name: "x", OK: true}))
	assert.False(t, r.Check(trace.Check{Name: "y"}))
	r.Decide(trace.Decision{About: "provider", Result: "Saltmere Staff"})
	r.Value(&trace.Value{Rule: "email"})
	r.Fail(trace.Failure{Code: "saml.expired"})
	entries := r.Entries()
	require.Len(t, entries, 6)
	assert.Equal(t, 4, entries[0].Message.Size)
	assert.Equal(t, trace.Ask, entries[0].Step)
	for _, e := range entries[1:] {
		assert.Equal(t, int64(1500), e.At)
		assert.Equal(t, trace.Route, e.Step)
	}
	// What was recorded before a restart comes first.
	packed, err := json.Marshal(entries)
	require.NoError(t, err)
	var earlier []trace.Entry
	require.NoError(t, json.Unmarshal(packed, &earlier))
	later := trace.NewRecorder(now, func() time.Time { return now })
	later.Begin(trace.Receive)
	later.Check(trace.Check{Name: "z", OK: true})
	later.Resume(earlier)
	assert.Len(t, later.Entries(), 7)
	assert.Equal(t, "z", later.Entries()[6].Check.Name)
}

func TestNoRecorderRecordsNothing(t *testing.T) {
	var r *trace.Recorder
	r.Begin(trace.Issue)
	r.Message(trace.Message{})
	r.Value(&trace.Value{})
	r.Decide(trace.Decision{})
	r.Fail(trace.Failure{})
	r.Resume(nil)
	assert.True(t, r.Check(trace.Check{OK: true}))
	assert.Empty(t, r.Entries())
	assert.Empty(t, r.Step())
}
