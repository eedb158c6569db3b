package store

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/go-gormigrate/gormigrate/v2"
	"github.com/mattn/go-sqlite3"
	"gorm.io/gorm"
)

// TracesFileName is the name of the file of traces in the data folder.
const TracesFileName = "traces.db"

// Traces is the file of the traces of sign-ins, and of what is counted from them. Whatever strangers, retention or a full disk do
// to it, the gate's records are another file.
type Traces struct {
	file
	turns  chan *turn
	closed chan struct{}
	ending sync.RWMutex // held by whoever hands in a turn, and alone by whoever closes
	ended  bool
}

// turn is one call of Write that waits for the transaction that it is part of.
type turn struct {
	do   func(*gorm.DB) error
	done chan error
}

// together is how many turns one transaction takes at most.
const together = 256

// openTraces opens the file of traces, making it if it is new. One that is damaged is put aside: nobody loses access by that.
func openTraces(folder string, watched *watcher, tell func(string)) (*Traces, error) {
	path := filepath.Join(folder, TracesFileName)
	t := &Traces{}
	t.watcher = watched
	err := t.openFile(path)
	if damaged(err) {
		aside := path + time.Now().UTC().Format(".damaged-20060102-150405")
		if moved := errors.Join(os.Rename(path, aside), gone(path+"-wal"), gone(path+"-shm")); moved != nil {
			return nil, errors.Join(err, moved)
		}
		tell("The file of traces was damaged. It was put aside as " + aside + ", and a new one was begun; nobody's access depends on it.")
		err = t.openFile(path)
	}
	if err != nil {
		return nil, fmt.Errorf("the file of traces can't be opened: %w", err)
	}
	t.turns, t.closed = make(chan *turn, together), make(chan struct{})
	go t.take()
	return t, nil
}

func (t *Traces) openFile(path string) error {
	err := t.open(path, func(db *gorm.DB) error {
		return migrate(db, traceMigrations, func(string) error { return nil })
	})
	if err != nil {
		t.file.close()
	}
	return err
}

// damaged says whether a file is no database, or one that can't be read any more.
func damaged(err error) bool {
	var lite sqlite3.Error
	return errors.As(err, &lite) && (lite.Code == sqlite3.ErrCorrupt || lite.Code == sqlite3.ErrNotADB)
}

// gone removes a file that may not be there.
func gone(path string) error {
	if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

// Write runs f in a transaction on the traces, together with what others hand in while the one before is written. It returns when
// that has been committed. What f returns as an error takes back what f did, and nothing of the others.
func (t *Traces) Write(ctx context.Context, f func(tx *gorm.DB) error) error {
	mine := &turn{f, make(chan error, 1)}
	if err := t.handIn(ctx, mine); err != nil {
		return err
	}
	return <-mine.done // once handed in it is written, whatever becomes of the caller
}

func (t *Traces) handIn(ctx context.Context, mine *turn) error {
	t.ending.RLock()
	defer t.ending.RUnlock()
	if t.ended {
		return errors.New("the file of traces is closed")
	}
	select {
	case t.turns <- mine:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// take writes what was handed in, all that waits in one transaction. Nobody is waited for: while one is written, the next gathers.
func (t *Traces) take() {
	defer close(t.closed)
	for first := range t.turns {
		group := []*turn{first}
	gather:
		for len(group) < together {
			select {
			case next, ok := <-t.turns:
				if !ok {
					break gather
				}
				group = append(group, next)
			default:
				break gather
			}
		}
		t.writeGroup(group)
	}
}

// writeGroup writes a group in one transaction, and tells each how its part went.
func (t *Traces) writeGroup(group []*turn) {
	results := make([]error, len(group))
	err := t.transact(context.Background(), func(tx *gorm.DB) error {
		if len(group) == 1 {
			return once(tx, group[0])
		}
		for i, one := range group {
			results[i] = tx.Transaction(func(part *gorm.DB) error { return once(part, one) }) // a savepoint
		}
		return nil
	})
	t.commits.Add(1)
	for i, one := range group {
		if err != nil {
			results[i] = err
		}
		one.done <- Clear(results[i])
	}
}

// once runs one turn. One that panics is an error of its own alone.
func once(tx *gorm.DB, one *turn) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("writing a trace panicked: %v", r)
		}
	}()
	return one.do(tx)
}

func (t *Traces) close() {
	t.ending.Lock()
	if t.ended {
		t.ending.Unlock()
		return
	}
	t.ended = true
	close(t.turns)
	t.ending.Unlock()
	<-t.closed
	t.file.close()
}

// traceMigrations are those of the file of traces.
var traceMigrations = []*gormigrate.Migration{
	{ID: "2026-11-30-traces", Migrate: func(tx *gorm.DB) error {
		if err := tx.AutoMigrate(&Trace{}, &TraceID{}, &TraceAddition{}); err != nil {
			return err
		}
		for _, stmt := range traceFileStatements {
			if err := tx.Exec(stmt).Error; err != nil {
				return err
			}
		}
		return nil
	}},
	{ID: "2026-11-30-account-talks", Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&AccountTalk{}) }},
}

// traceFileStatements are an index for each way in which traces are looked for, the newest first, and the counts, which are read by
// the hour, all of them: the table itself is in that order.
var traceFileStatements = []string{
	"CREATE INDEX trace_by_application ON traces (application_id, id)",
	"CREATE INDEX trace_by_provider ON traces (provider_id, id)",
	"CREATE INDEX trace_by_outcome ON traces (outcome, id)",
	"CREATE INDEX trace_by_code ON traces (code, id)",
	"CREATE INDEX trace_by_person ON traces (person_id, id)",
	"CREATE INDEX trace_by_name ON traces (person COLLATE NOCASE, id)",
	"CREATE INDEX trace_of_rehearsal ON traces (id) WHERE rehearsal_id <> ''",
	"CREATE INDEX trace_stranger ON traces (id) WHERE stranger",
	"CREATE INDEX trace_known ON traces (id) WHERE NOT stranger",
	"CREATE INDEX trace_by_flow ON traces (flow, id)",
	"CREATE INDEX addition_of_code ON trace_additions (code, trace_id) WHERE code <> ''",
	"CREATE TABLE sign_in_counts (hour datetime, application_id text, provider_id text, outcome text, code text, count integer, " +
		"PRIMARY KEY (hour, application_id, provider_id, outcome, code)) WITHOUT ROWID",
	"CREATE INDEX count_of_application ON sign_in_counts (application_id, hour)",
}
