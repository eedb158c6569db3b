package ground

import (
	"time"

	"gorm.io/gorm"

	"innergate/store"
)

// Over says which rows of a table are over: where a condition with one argument holds.
type Over struct {
	Model any
	Where string
	Arg   any
}

// DeleteOver deletes what is over. Each room names the tables that it writes.
func DeleteOver(tx *gorm.DB, over ...Over) error {
	for _, o := range over {
		if err := tx.Where(o.Where, o.Arg).Delete(o.Model).Error; err != nil {
			return err
		}
	}
	return nil
}

// Tidy forgets what was guessed wrong long ago, and identifiers that may come again.
func (g *Ground) Tidy(tx *gorm.DB, now time.Time) error {
	return DeleteOver(tx, Over{&store.Guess{}, "first_at < ?", now.Add(-GuessWindow)}, Over{&store.UsedID{}, "expires_at < ?", now})
}
