package server

import (
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gofiber/fiber/v3"

	"innergate/core/address"
)

// crowd bounds how many sign-ins are being begun at one time, so that nobody waits long for a gate that has more to do than it can:
// whoever comes beyond that is told at once to try again. Sign-ins that were begun are never turned away.
type crowd struct {
	now func() time.Time
	// away counts those who were told to try again.
	away atomic.Int64

	mu        sync.Mutex
	inside    int64
	from      map[string]int // those inside, by network
	since     time.Time      // the second that is counted now
	done      int64          // in it
	completed int64          // in the one before
	said      time.Time
}

// fewInside may always be begun at one time: a gate that has just started, or was idle, has counted none.
const fewInside = 50

// enter takes somebody in, unless those who are inside already will take longer than half a second, as fast as they went of late.
// One network has half of the places, so that it can't keep everybody else away; that is as many as keep the machine busy.
func (w *crowd) enter(network string) bool {
	places := max(fewInside, w.pace(0)/2)
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.inside >= places || int64(w.from[network]) >= places/2 {
		w.away.Add(1)
		return false
	}
	if w.from == nil {
		w.from = map[string]int{}
	}
	w.inside++
	w.from[network]++
	return true
}

// leave notes that one was begun.
func (w *crowd) leave(network string) {
	w.pace(1)
	w.mu.Lock()
	defer w.mu.Unlock()
	w.inside--
	if w.from[network]--; w.from[network] == 0 {
		delete(w.from, network)
	}
}

// pace counts, and says how many were begun within a second of late.
func (w *crowd) pace(n int64) int64 {
	now := w.now()
	w.mu.Lock()
	defer w.mu.Unlock()
	switch passed := now.Sub(w.since); {
	case passed < 0 || passed >= 2*time.Second:
		w.since, w.completed, w.done = now, 0, 0
	case passed >= time.Second:
		w.since, w.completed, w.done = now, w.done, 0
	}
	w.done += n
	return max(w.completed, w.done)
}

// sayNow says whether to write down that somebody was turned away: once a minute.
func (w *crowd) sayNow() bool {
	now := w.now()
	w.mu.Lock()
	defer w.mu.Unlock()
	if now.Sub(w.said) < time.Minute {
		return false
	}
	w.said = now
	return true
}

// begins is for what begins a sign-in.
func (s *Server) begins(handle fiber.Handler) fiber.Handler {
	return func(c fiber.Ctx) error {
		network := address.Network(s.Address(c))
		if !s.crowd.enter(network) {
			return s.tooMany(c)
		}
		defer s.crowd.leave(network)
		return handle(c)
	}
}

// tooMany tells somebody to try again. Nothing of what they asked is kept.
func (s *Server) tooMany(c fiber.Ctx) error {
	if s.crowd.sayNow() {
		s.Log.WarnContext(c.Context(), "more people sign in than this machine can serve; some are told to try again",
			"so far", s.crowd.away.Load())
	}
	c.Set("Retry-After", "3")
	return s.page(c, http.StatusServiceUnavailable, "message.html", pageData{
		Title: "Many people are signing in right now",
		Text:  "Please wait a few seconds, then go back and try again.",
	})
}
