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

// UseOnce notes that something with an identifier of its issuer was used: an assertion, a token. It says whether it was
// the first time, by one conditional write; until says when the identifier may come again.
func UseOnce(tx *gorm.DB, issuer, id string, until time.Time) (fresh bool, err error) {
	made := tx.Exec("INSERT INTO used_ids (issuer, value, expires_at) VALUES (?, ?, ?) ON CONFLICT DO NOTHING", issuer, id, until.UTC())
	return made.RowsAffected > 0, made.Error
}

// Tidy forgets what was guessed wrong long ago, and identifiers that may come again.
func (g *Ground) Tidy(tx *gorm.DB, now time.Time) error {
	return DeleteOver(tx, Over{&store.Guess{}, "first_at < ?", now.Add(-GuessWindow)}, Over{&store.UsedID{}, "expires_at < ?", now})
}
