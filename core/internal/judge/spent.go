package judge

import (
	"runtime"
	"testing"
	"time"
)

// Spent is what a piece of work took.
type Spent struct {
	Time   time.Duration
	Memory uint64 // octets allocated, whether or not they were given back
}

// Measure tells what work takes. Nothing else may run in the process meanwhile.
func Measure(work func()) Spent {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	at := time.Now()
	work()
	took := time.Since(at)
	runtime.ReadMemStats(&after)
	return Spent{took, after.TotalAlloc - before.TotalAlloc}
}

// Frugal runs work that reads so many octets of somebody's making, and fails the test where it takes far more time or
// memory than such a document can ask for. It is for fuzzers: the limits are wide, so that only growth beyond all
// measure is found.
func Frugal(t testing.TB, octets int, work func()) {
	t.Helper()
	s := Measure(work)
	if limit := uint64(4<<20 + 600*octets); s.Memory > limit {
		t.Fatalf("%d octets took %d octets of memory, more than %d", octets, s.Memory, limit)
	}
	if limit := time.Second + time.Duration(octets)*20*time.Microsecond; s.Time > limit {
		t.Fatalf("%d octets took %s, more than %s", octets, s.Time, limit)
	}
}
