package ground_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"innergate/gate/ground"
)

// TestBudgetsCountWithinTimeAndMemory spends a budget, waits, and makes up more keys than are counted.
func TestBudgetsCountWithinTimeAndMemory(t *testing.T) {
	t.Parallel()
	var b ground.Budgets
	now := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	for range 3 {
		assert.True(t, b.Take("a", 3, time.Minute, now))
	}
	assert.False(t, b.Take("a", 3, time.Minute, now))
	assert.True(t, b.Take("b", 3, time.Minute, now), "each has its own")
	assert.True(t, b.Take("a", 3, time.Minute, now.Add(time.Minute)))
	refused := 0
	for i := range 60_000 {
		if !b.Take(fmt.Sprint("made up ", i), 1, time.Minute, now.Add(time.Minute)) {
			refused++
		}
	}
	assert.Greater(t, refused, 9_000)
	assert.True(t, b.Take("a", 3, time.Minute, now.Add(time.Minute)), "who is counted already goes on")
	assert.True(t, b.Take("new", 1, time.Minute, now.Add(3*time.Minute)), "what is over makes room")
}
