package soak

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/demo"
	"innergate/testbed"
)

// TestMemoryStaysFlat has people sign in for as many minutes as INNERGATE_SOAK_MINUTES says, at half of the rate that the machine
// reached in the first ten seconds: memory does not grow, nor do the logs of the files, and nobody waits.
func TestMemoryStaysFlat(t *testing.T) {
	minutes, err := strconv.Atoi(os.Getenv("INNERGATE_SOAK_MINUTES"))
	if err != nil {
		t.Skip("INNERGATE_SOAK_MINUTES does not say for how long")
	}
	w, s, _ := apart(t)
	highest := reached(t, w, 10*time.Second)
	rate := highest / 2
	t.Logf("%.0f sign-ins a second at most; %.0f from now on", highest, rate)
	until := time.Now().Add(time.Duration(minutes) * time.Minute)
	var memory []float64
	var took []time.Duration
	var failed atomic.Int64
	var mu sync.Mutex
	var wait sync.WaitGroup
	next, sampled := time.Now(), time.Now()
	for time.Now().Before(until) {
		next = next.Add(time.Duration(float64(time.Second) / rate))
		time.Sleep(time.Until(next))
		due := next
		wait.Go(func() {
			b := demo.NewWalker(nil)
			defer b.HTTP.CloseIdleConnections()
			if err := b.SignIn(t.Context(), w.RotaURL+"/sign-in", "mvoss"); err != nil || b.Inner("nameid") != "mvoss" {
				failed.Add(1)
			}
			mu.Lock()
			took = append(took, time.Since(due))
			mu.Unlock()
		})
		if time.Since(sampled) > time.Second {
			sampled = time.Now()
			memory = append(memory, s.Resident(t))
		}
	}
	wait.Wait()
	slices.Sort(took)
	quarter := len(memory) / 4
	second, last := mean(memory[quarter:2*quarter]), mean(memory[3*quarter:])
	t.Logf("%d sign-ins: p50 %s, p99 %s, longest %s; memory %.0f MiB in the second quarter, %.0f in the last; logs %d and %d MiB",
		len(took), took[len(took)/2], took[len(took)*99/100], took[len(took)-1], second, last, logOf(t, s, "innergate.db"),
		logOf(t, s, "traces.db"))
	assert.Zero(t, failed.Load())
	assert.LessOrEqual(t, last, 1.05*second)
	assert.Less(t, took[len(took)*99/100], 150*time.Millisecond)
	assert.Less(t, logOf(t, s, "innergate.db"), int64(64))
	assert.Less(t, logOf(t, s, "traces.db"), int64(64))
}

// reached is how many sign-ins a second the machine can do, with the load and the partners on it.
func reached(t *testing.T, w *demo.World, d time.Duration) float64 {
	t.Helper()
	ctx, stop := context.WithTimeout(t.Context(), d)
	defer stop()
	var n atomic.Int64
	var wait sync.WaitGroup
	for range 4 {
		wait.Go(func() {
			for ctx.Err() == nil {
				b := demo.NewWalker(nil)
				if b.SignIn(ctx, w.RotaURL+"/sign-in", "mvoss") == nil {
					n.Add(1)
				}
				b.HTTP.CloseIdleConnections()
			}
		})
	}
	wait.Wait()
	require.Positive(t, n.Load())
	return float64(n.Load()) / d.Seconds()
}

func mean(list []float64) float64 {
	sum := 0.0
	for _, v := range list {
		sum += v
	}
	return sum / float64(max(1, len(list)))
}

// logOf is the size of a file's write-ahead log, in MiB.
func logOf(t *testing.T, s *testbed.Service, name string) int64 {
	t.Helper()
	info, err := os.Stat(filepath.Join(s.Folder, name+"-wal"))
	if os.IsNotExist(err) {
		return 0
	}
	require.NoError(t, err)
	return info.Size() >> 20
}
