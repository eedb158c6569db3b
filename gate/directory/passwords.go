package directory

import (
	"context"
	"net/http"
	"strings"
	"time"

	"innergate/core/passwords"
	"innergate/gate/ground"
)

// maxHashing is how many may wait for a password's hash. Whoever comes when so many wait is told to come again, so that
// passwords that somebody makes up don't keep others waiting for ever.
const maxHashing = 64

// usualFloor is how long an answer to a wrong password takes at least: as long as a check of any scheme that is imported
// usually does, so that the time tells neither whether a name is known nor where its password came from.
const usualFloor = 300 * time.Millisecond

// whileHashing does work on a password's hash, two at a time at most, since each takes 19 MiB.
func (g *Room) whileHashing(ctx context.Context, work func()) error {
	if g.waiting.Add(1) > maxHashing {
		g.waiting.Add(-1)
		return ground.Problem(
			http.StatusTooManyRequests, "busy", "Too many sign in at once",
			"Too many passwords are being checked at the moment.", "Try again in a minute.",
		)
	}
	defer g.waiting.Add(-1)
	select {
	case g.hashing <- struct{}{}:
		defer func() { <-g.hashing }()
	case <-ctx.Done():
		return ctx.Err()
	}
	work()
	return nil
}

// NewPasswordHash hashes a password when its turn comes.
func (g *Room) NewPasswordHash(ctx context.Context, password string) (hash string, err error) {
	err = g.whileHashing(ctx, func() { hash = g.PasswordCost.New(password) })
	return hash, err
}

// PasswordFits compares. A wrong password takes as long as an unknown name, whatever scheme the hash is of.
func (g *Room) PasswordFits(ctx context.Context, stored, password string) (fits, current bool, err error) {
	h, err := passwords.Read(stored)
	if err != nil {
		h = g.PasswordCost.Dummy()
	}
	began, took := time.Now(), time.Duration(0)
	err = g.whileHashing(ctx, func() {
		at := time.Now()
		fits = h.Fits(password)
		took = time.Since(at)
	})
	if fits = fits && stored != "" && err == nil; fits || err != nil {
		return fits, h.Current(g.PasswordCost), err
	}
	return false, false, g.evenOut(ctx, began, took)
}

// evenOut waits until a wrong password has taken as long as the slowest has so far.
func (g *Room) evenOut(ctx context.Context, began time.Time, took time.Duration) error {
	took = min(took, 2*time.Second)
	for {
		slowest := g.slowest.Load()
		if int64(took) <= slowest || g.slowest.CompareAndSwap(slowest, int64(took)) {
			break
		}
	}
	select {
	case <-time.After(time.Until(began.Add(time.Duration(g.slowest.Load())))):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// CheckCredentials says what is wrong with a name and a password that somebody chose.
func CheckCredentials(name, password string) error {
	if !ground.NameForm.MatchString(name) {
		return ground.BadRequest("name", "The name must have 1 to 64 letters, digits, spaces, dots, dashes or @.", "")
	}
	return CheckPassword(name, password)
}

// CheckPassword says what is wrong with a password that somebody chose.
func CheckPassword(name, password string) error {
	switch {
	case len(password) < 12:
		return ground.BadRequest(
			"password-short", "The password has fewer than 12 characters.",
			"A few words in a row are easy to remember and hard to guess.",
		)
	case len(password) > 256:
		return ground.BadRequest("password-long", "The password has more than 256 characters.", "")
	case strings.Contains(strings.ToLower(password), strings.ToLower(name)):
		return ground.BadRequest("password-name", "The password contains the name.", "Choose one that does not.")
	}
	return nil
}
