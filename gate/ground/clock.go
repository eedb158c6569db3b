package ground

import (
	"context"
	"fmt"
	"sync"
	"time"

	"gorm.io/gorm"

	"innergate/core/span"
	"innergate/store"
)

// Jump is a moment at which the clock was set, or the machine had slept: its time and the time that really went by differ.
type Jump struct {
	At time.Time     // what the clock said after it
	By time.Duration // forward, or back where it is negative
}

// clock compares the clock with the time that really goes by.
type clock struct {
	lock         sync.Mutex
	wall, really time.Time
	last         *Jump
}

const (
	// leap is by how much a clock must differ to be noticed: NTP moves it by less.
	leap = 30 * time.Second
	// jumpTold is how long a jump is a finding.
	jumpTold = 24 * time.Hour
	// afterJump is how long nothing is forgotten that guards against coming again, once the clock has jumped: it may be set back.
	afterJump = 2 * time.Hour
)

// WatchClock notices that the clock has jumped since it was called last. It writes that down, for whoever later wonders about
// sessions that ended or messages that were refused. Really is a clock that nobody sets.
func (g *Ground) WatchClock(ctx context.Context, really time.Time) error {
	jump := g.clock.look(g.Now(), really)
	if jump == nil {
		return nil
	}
	return g.noteJump(ctx, *jump)
}

func (g *Ground) noteJump(ctx context.Context, j Jump) error {
	g.Log.WarnContext(ctx, "the clock has jumped", "by", j.By, "now", j.At)
	return g.Store.Write(ctx, func(tx *gorm.DB) error {
		return Journal(tx, j.At, System, "noticed that the clock jumped", "gate", "clock", "The clock", "", j.Words())
	})
}

// Words is the jump in a sentence's middle.
func (j Jump) Words() string {
	if j.By < 0 {
		return fmt.Sprintf("set back by %s", span.Words(-j.By))
	}
	return fmt.Sprintf("set forward by %s, or the machine slept as long", span.Words(j.By))
}

// Jumped is the last jump of the clock, within a day; nil where there is none.
func (g *Ground) Jumped() *Jump {
	g.clock.lock.Lock()
	defer g.clock.lock.Unlock()
	if j := g.clock.last; j != nil && g.Now().Sub(j.At).Abs() < jumpTold {
		return j
	}
	return nil
}

func (c *clock) look(now, really time.Time) *Jump {
	c.lock.Lock()
	defer c.lock.Unlock()
	now = now.Round(0) // what the clock shows, and no more
	was, then := c.wall, c.really
	c.wall, c.really = now, really
	if was.IsZero() {
		return nil
	}
	by := now.Sub(was) - really.Sub(then)
	if by.Abs() < leap {
		return nil
	}
	c.last = &Jump{At: now.UTC(), By: by.Round(time.Second)}
	return c.last
}

// keepsUsed says whether identifiers that were used are kept for now, whatever the clock says of their time.
func (g *Ground) keepsUsed() bool {
	g.clock.lock.Lock()
	defer g.clock.lock.Unlock()
	return g.clock.last != nil && g.Now().Sub(g.clock.last.At).Abs() < afterJump
}

// sinceNewest is how far the clock stands behind the newest line of the journal: it was set back while the service did not run.
func (g *Ground) sinceNewest(ctx context.Context) (time.Duration, error) {
	last, err := store.One[store.JournalEntry](g.Store.Read(ctx).Order("number DESC"), "1 = 1")
	if err != nil || last.Number == 0 {
		return 0, err
	}
	return last.At.Sub(g.Now()), nil
}

// LookBack notices at the start that the clock stands before what was written last.
func (g *Ground) LookBack(ctx context.Context) error {
	behind, err := g.sinceNewest(ctx)
	if err != nil || behind < leap {
		return err
	}
	jump := Jump{At: g.Now().UTC(), By: -behind.Round(time.Second)}
	g.clock.lock.Lock()
	g.clock.last = &jump
	g.clock.lock.Unlock()
	return g.noteJump(ctx, jump)
}
