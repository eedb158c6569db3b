package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"runtime"
	"sync/atomic"
	"time"

	"github.com/mattn/go-sqlite3"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
)

// file is one open SQLite file: one connection that writes, a few that read, and some for what takes long.
type file struct {
	path              string
	write, read, long *gorm.DB
	turn              chan struct{} // held by whoever writes; nil where there is one connection for everything
	commits           atomic.Int64
	watcher           *watcher
	engine            Engine // nil for a file of this machine's own
}

// Engine keeps the records elsewhere than in a file of this machine's own, and speaks SQLite's language.
type Engine interface {
	// Pool is a number of connections to the records. A transaction on one of them takes the writer's turn when it begins, and
	// waits for it.
	Pool(connections int) *sql.DB
	// Dialect is the engine's, over that for SQLite's own.
	Dialect(sqlite.Dialector) gorm.Dialector
	// Unknown says of an error that what was committed then may have been written, or not.
	Unknown(error) bool
	// Lost says of an error that it is no answer: who leads was lost meanwhile, or is not known yet.
	Lost(error) bool
}

// How many connections read, and how many of their own reports and exports have; how long a connection waits for another
// process that writes.
const (
	readers     = 4
	longReaders = 2
	busyTimeout = time.Second
	// heldKiB is how much of the database each connection holds in memory.
	heldKiB = 6 << 10
	// heldStatements is how many statements each keeps ready. The driver keeps them: what is prepared above it is prepared anew in
	// every transaction.
	heldStatements = 200
)

// open opens the file, making it if it is new, and has migrate bring it to the newest form.
func (f *file) open(path string, migrate func(*gorm.DB) error) error {
	f.path, f.turn = path, make(chan struct{}, 1)
	if made, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600); err != nil {
		return fmt.Errorf("the database %s can't be opened for writing: %w", path, err)
	} else if err := made.Close(); err != nil {
		return err
	}
	options := fmt.Sprintf("?_journal_mode=WAL&_busy_timeout=%d&_foreign_keys=on&_txlock=immediate&_synchronous=NORMAL&_cache_size=-%d&"+
		"_stmt_cache_size=%d", busyTimeout.Milliseconds(), heldKiB, heldStatements)
	var err error
	if f.write, err = connect(path+options, 1, f.watcher); err != nil {
		return err
	}
	if err := migrate(f.write); err != nil {
		return err
	}
	// Fewer, larger checkpoints: what sign-ins write is mostly written over soon. After one, the log's file is cut.
	for _, set := range []string{"wal_autocheckpoint = 4000", fmt.Sprintf("journal_size_limit = %d", LogSize)} {
		if err := f.write.Exec("PRAGMA " + set).Error; err != nil {
			return Clear(err)
		}
	}
	if err := f.Analyze(context.Background()); err != nil {
		return err
	}
	if f.read, err = connect(path+options+"&_query_only=true", readers, f.watcher); err != nil {
		return err
	}
	// Each of these may keep a processor busy for seconds: half of them are for everybody else.
	f.long, err = connect(path+options+"&_query_only=true", max(1, min(longReaders, runtime.NumCPU()/2)), f.watcher)
	return err
}

// openPools opens the records that an engine keeps, and has migrate bring them to the newest form.
func (f *file) openPools(migrate func(*gorm.DB) error) error {
	f.turn = make(chan struct{}, 1)
	for _, p := range []struct {
		db          **gorm.DB
		connections int
	}{{&f.write, 1}, {&f.read, readers}, {&f.long, longReaders}} {
		var err error
		if *p.db, err = f.pool(p.connections); err != nil {
			return err
		}
	}
	return f.Patiently(context.Background(), func() error { return migrate(f.write) })
}

// pool is a number of connections to what the engine keeps.
func (f *file) pool(connections int) (*gorm.DB, error) {
	return gormOver(f.engine.Dialect(sqlite.Dialector{Conn: f.engine.Pool(connections)}), f.watcher)
}

func gormOver(d gorm.Dialector, watched *watcher) (*gorm.DB, error) {
	db, err := gorm.Open(d, &gorm.Config{
		Logger: watched, TranslateError: true, SkipDefaultTransaction: true, NowFunc: func() time.Time {
			return time.Now().UTC()
		},
	})
	if err != nil {
		return nil, fmt.Errorf("the database can't be opened: %w", Clear(err))
	}
	return db, nil
}

func connect(dsn string, connections int, watched *watcher) (*gorm.DB, error) {
	db, err := gormOver(sqlite.Open(dsn), watched)
	if err != nil {
		return nil, err
	}
	pool, err := db.DB()
	if err != nil {
		return nil, err
	}
	pool.SetMaxOpenConns(connections)
	pool.SetMaxIdleConns(connections)
	return db, nil
}

func (f *file) close() {
	for _, db := range []*gorm.DB{f.long, f.read, f.write} {
		if db != nil {
			if pool, err := db.DB(); err == nil {
				pool.Close()
			}
		}
	}
}

// Long is for queries that take long, such as reports and exports: they have connections of their own, so that nobody who
// signs in waits for them, and an end. What runs after it is stopped in the database.
func (f *file) Long(ctx context.Context) (*gorm.DB, context.CancelFunc) {
	ctx, cancel := context.WithTimeout(ctx, longest)
	if f.long == nil { // aside there is one connection
		return f.read.WithContext(ctx), cancel
	}
	return f.long.WithContext(ctx), cancel
}

// longest is how long a report may take.
const longest = 30 * time.Second

// Read is for queries.
func (f *file) Read(ctx context.Context) *gorm.DB { return f.read.WithContext(ctx) }

// transact runs one immediate transaction. Where another process writes for long, it waits for its turn, with growing pauses; do
// is called once.
func (f *file) transact(ctx context.Context, do func(tx *gorm.DB) error) error {
	began := false
	once := func(tx *gorm.DB) error {
		began = true
		return do(tx)
	}
	if f.turn != nil {
		select {
		case f.turn <- struct{}{}:
			defer func() { <-f.turn }()
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	// What has begun is finished, whether or not somebody still waits for it.
	db := f.write.WithContext(context.WithoutCancel(ctx))
	if f.engine != nil {
		return f.transactKnowing(ctx, db, do)
	}
	deadline := time.Now().Add(longestWait)
	for pause := 10 * time.Millisecond; ; pause = min(2*pause, time.Second) {
		err := db.Transaction(once)
		if began || !busy(err) || time.Now().Add(pause).After(deadline) {
			return Clear(err)
		}
		select {
		case <-ctx.Done():
			return Clear(err)
		case <-time.After(pause):
		}
	}
}

// longestWait is how long a transaction waits for another process.
const longestWait = 20 * time.Second

// busy says whether another process holds the lock.
func busy(err error) bool {
	var lite sqlite3.Error
	return errors.As(err, &lite) && (lite.Code == sqlite3.ErrBusy || lite.Code == sqlite3.ErrLocked)
}

// Commits counts what this process has written, so that a cache knows without asking that nothing of it has changed.
func (f *file) Commits() int64 { return f.commits.Load() }

// Row reads one row by a prepared statement, without the object mapping: for the few reads that every call of a busy
// endpoint makes.
func (f *file) Row(ctx context.Context, query string, args ...any) *sql.Row {
	return f.read.Statement.ConnPool.QueryRowContext(ctx, query, args...)
}
