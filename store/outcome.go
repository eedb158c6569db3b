package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
)

// ErrNotWritten says that the node that leads was lost while something was written, and that nothing of it was.
var ErrNotWritten = errors.New("the node that leads was lost while this was written; nothing of it was, so it can be done again")

const (
	// lookUpFor is how long it is looked up whether something was written.
	lookUpFor = 8 * time.Second
	// WritesKept is how long it can be looked up.
	WritesKept = 10 * time.Minute
)

// patience is how long Patiently goes on; others are elected within seconds.
const patience = time.Minute

// Patiently does something again while it ends because whoever leads was lost, for a minute at most. It is for what a node does as it
// starts, which may be in the middle of an election: what is done has to come to the same if it was done before in part.
func (f *file) Patiently(ctx context.Context, do func() error) error {
	pause := 50 * time.Millisecond
	for began := time.Now(); ; pause = min(2*pause, time.Second) {
		err := do()
		if err == nil || f.engine == nil || time.Since(began) > patience ||
			!f.engine.Lost(err) && !f.engine.Unknown(err) && !errors.Is(err, ErrNotWritten) {
			return err
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return err
		}
	}
}

// transactKnowing runs a transaction on what an engine keeps. Where the answer to its commit is lost, it is looked up whether it
// was written: each leaves a row of its own. It is never run again.
func (f *file) transactKnowing(ctx context.Context, db *gorm.DB, do func(*gorm.DB) error) error {
	id := NewID()
	err := db.Transaction(func(tx *gorm.DB) error {
		if _, err := Exec(tx, "INSERT INTO node_writes (id, at) VALUES (?, ?)", id, time.Now().UTC()); err != nil {
			return err
		}
		return do(tx)
	})
	if err == nil || !f.engine.Unknown(err) {
		return Clear(err)
	}
	deadline := time.Now().Add(lookUpFor)
	for pause := 20 * time.Millisecond; ; pause = min(2*pause, 500*time.Millisecond) {
		written, looked := f.written(ctx, db, id)
		switch {
		case looked == nil && written:
			return nil
		case looked == nil:
			return fmt.Errorf("%w (%s)", ErrNotWritten, err)
		case time.Now().Add(pause).After(deadline):
			return errors.Join(err, looked)
		}
		time.Sleep(pause)
	}
}

// written looks up whether a transaction was written. It takes the writer's turn for it: what was under way before is over then.
func (f *file) written(ctx context.Context, db *gorm.DB, id string) (found bool, err error) {
	err = db.WithContext(context.WithoutCancel(ctx)).Transaction(func(tx *gorm.DB) error {
		return RowIn(tx, "SELECT EXISTS (SELECT 1 FROM node_writes WHERE id = ?)", id).Scan(&found)
	})
	if err != nil && f.engine.Unknown(err) { // it has only read
		err = nil
	}
	return found, err
}
