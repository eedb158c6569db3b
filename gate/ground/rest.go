package ground

import (
	"sync"
	"time"
)

// signedIn remembers whether people sign in at the moment.
type signedIn struct {
	mu    sync.Mutex
	begun int64
	last  time.Time // when somebody was last seen to begin
}

const (
	// stillSignIn is how long after somebody began others are expected to.
	stillSignIn = 5 * time.Second
	// restsBeside is how many times as long as it worked the gate rests while people sign in: it leaves them all but a tenth of one
	// processor.
	restsBeside = 9
)

// Rest is how long to rest after work in the background that nobody waits for: a number of times as long as it took, and longer
// while people sign in.
func (g *Ground) Rest(worked time.Duration, times int) time.Duration {
	g.people.mu.Lock()
	defer g.people.mu.Unlock()
	now := time.Now()
	if begun := g.Metrics.Begun.Load(); begun != g.people.begun {
		g.people.begun, g.people.last = begun, now
	}
	if now.Sub(g.people.last) < stillSignIn {
		times = max(times, restsBeside)
	}
	return time.Duration(times) * worked
}
