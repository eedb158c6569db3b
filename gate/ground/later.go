package ground

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"innergate/api"
	"innergate/core/words"
)

// Late is something that was planned and could not be done yet, for a reason that may pass.
type Late struct {
	What  string // a sentence's beginning, such as "taking back the reach of Crew Rota"
	Why   string
	Since time.Time
	Next  time.Time
	Tries int
}

// later holds what is tried again. It is kept in memory: after a start everything planned is tried at once.
type later struct {
	lock sync.Mutex
	held map[string]*Late
}

// The pauses between tries grow from the first to the last.
const (
	firstPause = 2 * time.Second
	lastPause  = 5 * time.Minute
)

// Refused says whether what failed was refused for what it is, and not for how things stand at the moment: trying again helps
// nothing.
func Refused(err error) bool {
	var p *api.Problem
	return errors.As(err, &p) && p.Status < 500
}

// Attempt does something that is planned, under a key of its own. What is refused is returned. What fails for any other reason,
// such as a busy database or a full disk, is tried again with growing pauses, as often as Attempt is called, until it is done or
// refused; meanwhile it is told of in the log and by Waiting.
func (g *Ground) Attempt(ctx context.Context, key, what string, do func() error) error {
	if !g.later.due(key, g.Now()) {
		return nil
	}
	err := do()
	if err == nil || Refused(err) {
		g.later.done(key)
		return err
	}
	if ctx.Err() == nil {
		l := g.later.failed(key, what, err, g.Now())
		g.Log.ErrorContext(ctx, "what was planned can't be done yet and is tried again", "what", what, "tries", l.Tries, "next", l.Next,
			"error", err)
	}
	return nil
}

// Waiting is what was planned and could not be done yet, the oldest first.
func (g *Ground) Waiting() []Late {
	g.later.lock.Lock()
	defer g.later.lock.Unlock()
	out := []Late{}
	for _, l := range g.later.held {
		out = append(out, *l)
	}
	slices.SortFunc(out, func(a, b Late) int { return cmp.Or(a.Since.Compare(b.Since), cmp.Compare(a.What, b.What)) })
	return out
}

func (l *later) due(key string, now time.Time) bool {
	l.lock.Lock()
	defer l.lock.Unlock()
	held := l.held[key]
	// A clock that was set back does not put it off.
	return held == nil || !now.Before(held.Next) || held.Next.Sub(now) > lastPause
}

func (l *later) failed(key, what string, err error, now time.Time) Late {
	l.lock.Lock()
	defer l.lock.Unlock()
	if l.held == nil {
		l.held = map[string]*Late{}
	}
	held := l.held[key]
	if held == nil {
		held = &Late{What: what, Since: now}
		l.held[key] = held
	}
	pause := min(firstPause<<min(held.Tries, 10), lastPause)
	held.Tries++
	held.Why, held.Next = words.Capitalise(words.Clip(err.Error(), 300)), now.Add(pause)
	return *held
}

func (l *later) done(key string) {
	l.lock.Lock()
	defer l.lock.Unlock()
	delete(l.held, key)
}
