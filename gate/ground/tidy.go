package ground

import (
	"context"
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

// AtOnce is how many rows of a table one transaction of tidying deletes: whoever signs in meanwhile waits for no more.
const AtOnce = 500

// Tidying is one turn of tidying of a room, in a transaction of its own.
type Tidying struct {
	Tx  *gorm.DB
	Now time.Time
	// More is set where there may be more to be deleted than this turn did.
	More bool
}

// Delete deletes a part of what is over. Each room names the tables that it writes.
func (t *Tidying) Delete(over ...Over) error {
	for _, o := range over {
		some := t.Tx.Session(&gorm.Session{NewDB: true}).Model(o.Model).Select("rowid").Where(o.Where, o.Arg).Limit(AtOnce)
		gone := t.Tx.Where("rowid IN (?)", some).Delete(o.Model)
		if gone.Error != nil {
			return gone.Error
		}
		t.More = t.More || gone.RowsAffected >= AtOnce
	}
	return nil
}

// usedLonger is how much longer an identifier that was used is kept than what it guards against can be accepted: as far may a
// clock be set back without anything coming again.
const usedLonger = time.Hour

// UseOnce notes that something with an identifier of its issuer was used: an assertion, a token. It says whether it was
// the first time, by one conditional write; until says when the identifier may come again.
func UseOnce(tx *gorm.DB, issuer, id string, until time.Time) (fresh bool, err error) {
	made := tx.Exec("INSERT INTO used_ids (issuer, value, expires_at) VALUES (?, ?, ?) ON CONFLICT DO NOTHING", issuer, id, until.UTC())
	return made.RowsAffected > 0, made.Error
}

// WasUsed says whether something with an identifier of its issuer was used before.
func WasUsed(db *gorm.DB, issuer, id string) (bool, error) {
	var n int64
	err := db.Model(&store.UsedID{}).Where("issuer = ? AND value = ?", issuer, id).Count(&n).Error
	return n > 0, store.Clear(err)
}

// sweepAfter is how long what belonged to something deleted stays: until its sessions' applications were told, and so that what
// is restored at once has it again.
const sweepAfter = 10 * time.Minute

// Tidy deletes what belonged to what was deleted, and forgets what was guessed wrong long ago, and identifiers that may come again.
func (g *Ground) Tidy(t *Tidying) error {
	found, err := store.SweepSome(t.Tx, t.Now.Add(-sweepAfter), AtOnce)
	if err != nil {
		return err
	}
	t.More = t.More || found
	if err := t.Delete(Over{&store.Guess{}, "first_at < ?", t.Now.Add(-GuessWindow)}); err != nil || g.keepsUsed() {
		return err
	}
	return t.Delete(Over{&store.UsedID{}, "expires_at < ?", t.Now.Add(-usedLonger)})
}

// InParts tidies a room up, each part in a transaction of the file that it is about.
func InParts(
	ctx context.Context,
	now time.Time,
	write func(context.Context, func(*gorm.DB) error) error,
	tidy func(*Tidying) error,
) error {
	for range mostParts {
		t := &Tidying{Now: now}
		if err := write(ctx, func(tx *gorm.DB) error {
			t.Tx = tx
			return tidy(t)
		}); err != nil || !t.More {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(betweenParts):
		}
	}
	return nil
}

const (
	betweenParts = 20 * time.Millisecond
	mostParts    = 400 // of a room at one time; the rest has its turn at the next
)
