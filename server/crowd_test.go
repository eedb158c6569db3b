package server

import (
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// TestACrowdIsAsLargeAsItsPace lets half as many begin at one time as went in within the last second, and no fewer than some.
func TestACrowdIsAsLargeAsItsPace(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
	w := &crowd{now: func() time.Time { return now }}
	var inside []string
	fill := func() (n int) {
		for w.enter(strconv.Itoa(len(inside) / 5)) {
			inside = append(inside, strconv.Itoa(len(inside)/5))
			n++
		}
		return n
	}
	leave := func() {
		w.leave(inside[0])
		inside = inside[1:]
	}
	assert.Equal(t, fewInside, fill(), "nobody has gone in yet")
	assert.EqualValues(t, 1, w.away.Load())
	for range fewInside {
		leave()
	}
	assert.Equal(t, fewInside, fill(), "fifty a second are few")
	// 300 go in within this second: half as many may be inside in the next.
	for i := range 250 {
		leave()
		again := "again " + strconv.Itoa(i)
		assert.True(t, w.enter(again))
		inside = append(inside, again)
	}
	now = now.Add(time.Second)
	for range fewInside {
		leave()
	}
	assert.Equal(t, 150, fill())
	for range 150 {
		leave()
	}
	// After a pause nothing is known of the pace.
	now = now.Add(time.Minute)
	assert.Equal(t, fewInside, fill())
	assert.True(t, w.sayNow())
	assert.False(t, w.sayNow(), "once a minute")
	// A clock that was set back counts anew, and keeps nobody out for an hour.
	for range fewInside {
		leave()
	}
	now = now.Add(-time.Hour)
	assert.Equal(t, fewInside, fill())
}

// TestOneNetworkLeavesRoomForOthers fills the places from one network, and has somebody come from another.
func TestOneNetworkLeavesRoomForOthers(t *testing.T) {
	t.Parallel()
	w := &crowd{now: func() time.Time { return time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC) }}
	n := 0
	for w.enter("192.0.2.1") {
		n++
	}
	assert.Equal(t, fewInside/2, n)
	assert.True(t, w.enter("192.0.2.2"), "others come in")
	assert.False(t, w.enter("192.0.2.1"))
	w.leave("192.0.2.1")
	assert.True(t, w.enter("192.0.2.1"))
	for range n {
		w.leave("192.0.2.1")
	}
	w.leave("192.0.2.2")
	assert.Empty(t, w.from, "nobody is remembered who has left")
	assert.Zero(t, w.inside)
}
