package ground

import (
	"context"
	"net/http"
	"regexp"
	"time"

	"gorm.io/gorm"

	"innergate/store"
)

// NameForm is what the name of an administrator or of one of the gate's own people looks like.
var NameForm = regexp.MustCompile(`^[\pL\pN][\pL\pN .@_-]{0,63}$`)

// GuessWindow is how long wrong guesses are counted.
const GuessWindow = 15 * time.Minute

// Guessing counts an attempt and refuses it when there were too many in a quarter of an hour.
func (g *Ground) Guessing(ctx context.Context, name string, limit int) error {
	now := g.Now().UTC()
	var count int
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Raw("INSERT INTO guesses (name, count, first_at) VALUES (?, 1, ?) ON CONFLICT (name) DO UPDATE SET count = CASE "+
			"WHEN first_at < ? THEN 1 ELSE count + 1 END, first_at = CASE WHEN first_at < ? THEN excluded.first_at ELSE first_at END "+
			"RETURNING count",
			name, now, now.Add(-GuessWindow), now.Add(-GuessWindow)).
			Scan(&count).
			Error
	})
	if err != nil {
		return err
	}
	if count > limit {
		return Problem(
			http.StatusTooManyRequests, "too-many-tries", "Too many tries", "There were too many failed tries.",
			"Wait a quarter of an hour, then try again.",
		)
	}
	return nil
}

// GuessingAll is Guessing for each of some names, with its limit.
func (g *Ground) GuessingAll(ctx context.Context, limits map[string]int) error {
	for name, limit := range limits {
		if err := g.Guessing(ctx, name, limit); err != nil {
			return err
		}
	}
	return nil
}

// Guessed forgets wrong guesses, since a right one came.
func (g *Ground) Guessed(ctx context.Context, names ...string) {
	_ = g.Store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Where("name IN ?", names).Delete(&store.Guess{}).Error
	})
}

// MaxWrong is how many wrong entries one sign-in bears; then it ends.
const MaxWrong = 5 // wrong entries in one sign-in, after which it ends
