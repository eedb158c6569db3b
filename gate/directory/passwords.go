package directory

import (
	"context"
	"strings"

	"innergate/core/passwords"
	"innergate/gate/ground"
)

// whileHashing does work on a password's hash, two at a time at most, since each takes 19 MiB.
func (g *Room) whileHashing(ctx context.Context, work func()) error {
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

// PasswordFits compares. Where there is no hash it takes as long.
func (g *Room) PasswordFits(ctx context.Context, stored, password string) (fits, current bool, err error) {
	h, err := passwords.Read(stored)
	if err != nil {
		h = g.PasswordCost.Dummy()
	}
	err = g.whileHashing(ctx, func() { fits = h.Fits(password) })
	return fits && stored != "", h.Current(g.PasswordCost), err
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
