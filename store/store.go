// Package store keeps the gate's records in one SQLite file through GORM. Secrets are sealed by the caller's Sealer
// before they get here.
package store

import (
	"context"
	"database/sql"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"
	"time"

	"github.com/go-gormigrate/gormigrate/v2"
	"github.com/mattn/go-sqlite3"
	"github.com/oklog/ulid/v2"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
)

// Store is an open database: one connection that writes, a few that read.
type Store struct {
	write, read, long *gorm.DB
	generation        *sql.Stmt
	commits           atomic.Int64
	watcher           *watcher
	// Folder holds the database, and what is worked on beside it.
	Folder string
	Sealer *Sealer
}

// FileName is the database's name in the data folder.
const FileName = "innergate.db"

// Open opens the database in the folder, making it if it is new, and brings it to the newest form.
func Open(folder string, sealer *Sealer) (*Store, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("the data folder %s can't be made: %w", folder, err)
	}
	path := filepath.Join(folder, FileName)
	if f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600); err != nil {
		return nil, fmt.Errorf("the database %s can't be opened for writing: %w", path, err)
	} else if err := f.Close(); err != nil {
		return nil, err
	}
	options := fmt.Sprintf("?_journal_mode=WAL&_busy_timeout=%d&_foreign_keys=on&_txlock=immediate&_synchronous=NORMAL&_cache_size=-%d",
		busyTimeout.Milliseconds(), heldKiB)
	s := &Store{Sealer: sealer, Folder: folder, watcher: &watcher{}}
	var err error
	if s.write, err = connect(path+options, 1, s.watcher); err != nil {
		return nil, err
	}
	if err := migrate(s.write); err != nil {
		s.Close()
		return nil, err
	}
	// Fewer, larger checkpoints: what sign-ins write is mostly written over soon. After one, the log's file is cut.
	for _, set := range []string{"wal_autocheckpoint = 4000", fmt.Sprintf("journal_size_limit = %d", LogSize)} {
		if err := s.write.Exec("PRAGMA " + set).Error; err != nil {
			s.Close()
			return nil, Clear(err)
		}
	}
	if err := s.Analyze(context.Background()); err != nil {
		s.Close()
		return nil, err
	}
	if s.read, err = connect(path+options+"&_query_only=true", readers, s.watcher); err != nil {
		s.Close()
		return nil, err
	}
	// Each of these may keep a processor busy for seconds: half of them are for everybody else.
	if s.long, err = connect(path+options+"&_query_only=true", max(1, min(longReaders, runtime.NumCPU()/2)), s.watcher); err != nil {
		s.Close()
		return nil, err
	}
	db, err := s.read.DB()
	if err != nil {
		return nil, err
	}
	if s.generation, err = db.Prepare("SELECT value FROM settings WHERE name = 'generation'"); err != nil {
		s.Close()
		return nil, Clear(err)
	}
	return s, nil
}

// How many connections read, and how many of their own reports and exports have; how long a connection waits for another
// process that writes.
const (
	readers     = 4
	longReaders = 2
	busyTimeout = time.Second
	// heldKiB is how much of the database each connection holds in memory.
	heldKiB = 6 << 10
)

func connect(dsn string, connections int, watched *watcher) (*gorm.DB, error) {
	db, err := gorm.Open(sqlite.Open(dsn), &gorm.Config{
		Logger: watched, TranslateError: true, PrepareStmt: true, SkipDefaultTransaction: true, NowFunc: func() time.Time {
			return time.Now().UTC()
		},
	})
	if err != nil {
		return nil, fmt.Errorf("the database can't be opened: %w", Clear(err))
	}
	pool, err := db.DB()
	if err != nil {
		return nil, err
	}
	pool.SetMaxOpenConns(connections)
	pool.SetMaxIdleConns(connections)
	return db, nil
}

// Close closes the database.
func (s *Store) Close() {
	for _, db := range []*gorm.DB{s.long, s.read, s.write} {
		if db != nil {
			if pool, err := db.DB(); err == nil {
				pool.Close()
			}
		}
	}
}

// Long is for queries that take long, such as reports and exports: they have connections of their own, so that nobody who
// signs in waits for them, and an end. What runs after it is stopped in the database.
func (s *Store) Long(ctx context.Context) (*gorm.DB, context.CancelFunc) {
	ctx, cancel := context.WithTimeout(ctx, longest)
	if s.long == nil { // aside there is one connection
		return s.read.WithContext(ctx), cancel
	}
	return s.long.WithContext(ctx), cancel
}

// longest is how long a report may take.
const longest = 30 * time.Second

// Read is for queries.
func (s *Store) Read(ctx context.Context) *gorm.DB { return s.read.WithContext(ctx) }

// Write runs one immediate transaction. What f returns as an error takes everything back. Where another process writes for
// long, it waits for its turn, with growing pauses; f is called once.
func (s *Store) Write(ctx context.Context, f func(tx *gorm.DB) error) error {
	began := false
	once := func(tx *gorm.DB) error {
		began = true
		return f(tx)
	}
	defer s.commits.Add(1)
	deadline := time.Now().Add(longestWait)
	for pause := 10 * time.Millisecond; ; pause = min(2*pause, time.Second) {
		err := s.write.WithContext(ctx).Transaction(once)
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
func (s *Store) Commits() int64 { return s.commits.Load() }

// Row reads one row by a prepared statement, without the object mapping: for the few reads that every call of a busy
// endpoint makes.
func (s *Store) Row(ctx context.Context, query string, args ...any) *sql.Row {
	return s.read.Statement.ConnPool.QueryRowContext(ctx, query, args...)
}

// Exec runs a prepared statement in a transaction, without the object mapping, and tells how many rows it touched.
func Exec(tx *gorm.DB, query string, args ...any) (int64, error) {
	result, err := tx.Statement.ConnPool.ExecContext(tx.Statement.Context, query, args...)
	if err != nil {
		return 0, err
	}
	return result.RowsAffected()
}

// RowIn is Row within a transaction.
func RowIn(tx *gorm.DB, query string, args ...any) *sql.Row {
	return tx.Statement.ConnPool.QueryRowContext(tx.Statement.Context, query, args...)
}

// Generation changes with every change of the configuration, so that caches know when to read again; also those of
// another process.
func (s *Store) Generation(ctx context.Context) (string, error) {
	var g string
	var err error
	if s.generation == nil { // set aside
		err = s.Row(ctx, "SELECT value FROM settings WHERE name = 'generation'").Scan(&g)
	} else {
		err = s.generation.QueryRowContext(ctx).Scan(&g)
	}
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return g, Clear(err)
}

// GenerationIn is Generation within a transaction.
func GenerationIn(tx *gorm.DB) (string, error) {
	var g string
	err := RowIn(tx, "SELECT value FROM settings WHERE name = 'generation'").Scan(&g)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return g, err
}

// Changed notes, within a transaction, that the configuration changed.
func Changed(tx *gorm.DB) error {
	_, err := Exec(
		tx,
		"INSERT INTO settings (name, value) VALUES ('generation', ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value",
		NewID(),
	)
	return err
}

// NewID makes an identifier that sorts by time.
func NewID() string { return ulid.Make().String() }

// NewIDAt makes one that sorts by a given time.
func NewIDAt(t time.Time) string {
	return ulid.MustNew(ulid.Timestamp(t), ulid.DefaultEntropy()).String()
}

// ErrNotFound is returned where a record is not there.
var ErrNotFound = gorm.ErrRecordNotFound

// ErrDuplicate is returned where a record is there already.
var ErrDuplicate = gorm.ErrDuplicatedKey

// Clear turns the database's own words into sentences.
func Clear(err error) error {
	var lite sqlite3.Error
	if !errors.As(err, &lite) {
		return err
	}
	switch lite.Code {
	case sqlite3.ErrFull:
		return fmt.Errorf("the disk is full, so nothing was written: %w", err)
	case sqlite3.ErrReadonly, sqlite3.ErrCantOpen, sqlite3.ErrPerm:
		return fmt.Errorf("the database can't be written; check who owns the data folder: %w", err)
	case sqlite3.ErrCorrupt, sqlite3.ErrNotADB:
		return fmt.Errorf("the database file is damaged or is none; restore it from a backup: %w", err)
	case sqlite3.ErrBusy, sqlite3.ErrLocked:
		return fmt.Errorf("the database is busy; another program holds it for too long: %w", err)
	case sqlite3.ErrInterrupt:
		return fmt.Errorf("a query was ended before it was done: %w", err)
	case sqlite3.ErrIoErr:
		return fmt.Errorf("the disk failed while the database was used: %w", err)
	}
	return err
}

func migrate(db *gorm.DB) error {
	options := *gormigrate.DefaultOptions
	options.UseTransaction, options.ValidateUnknownMigrations = true, true
	m := gormigrate.New(db, &options, migrations)
	// Each is a transaction of its own: where one fails, those before it stay, and the next start goes on with it.
	for _, one := range migrations {
		err := m.MigrateTo(one.ID)
		if errors.Is(err, gormigrate.ErrUnknownPastMigration) {
			return fmt.Errorf("the database was written by a newer Inner Gate than this one; run that version, or restore a backup")
		}
		if err != nil {
			return fmt.Errorf("the database can't be brought to its newest form: the step %s failed, and was taken back: %w. Nothing is "+
				"lost. Mend what it names (a full disk, rights to the data folder, a change that somebody made by hand) and start again: "+
				"it goes on with this step", one.ID, Clear(err))
		}
	}
	return nil
}

// listIndexes are for each column by which applications, providers and traces are narrowed or sorted.
var listIndexes = []string{
	"CREATE INDEX application_by_name ON applications (name COLLATE NOCASE, id)",
	"CREATE INDEX application_by_kind ON applications (kind, id)",
	"CREATE INDEX application_by_reach ON applications (reach, id)",
	"CREATE INDEX provider_by_name ON providers (name COLLATE NOCASE, id)",
	"CREATE INDEX provider_by_kind ON providers (kind, id)",
	"CREATE INDEX provider_by_reach ON providers (reach, id)",
	"CREATE INDEX trace_by_flow ON traces (flow, id)",
}

// Page is a request for part of a list: at most Limit rows behind the row that After names, whose sort value contains
// Search.
type Page struct {
	After  string
	Limit  int
	Search string
	// Sort is a column that the list allows, with a leading "-" for descending order.
	Sort string
}

// Rows applies a page to a query. Columns maps the sort names that are allowed to SQL columns; the first of searched
// columns that contains the search text lets a row in. The key of the last row is made by Key.
func (p Page) Rows(db *gorm.DB, columns map[string]string, standard string, searched ...string) (*gorm.DB, error) {
	if p.Limit <= 0 || p.Limit > 200 {
		p.Limit = 50
	}
	name := p.Sort
	if name == "" {
		name = standard
	}
	order, compare := "ASC", ">"
	if strings.HasPrefix(name, "-") {
		name, order, compare = name[1:], "DESC", "<"
	}
	column, ok := columns[name]
	if !ok {
		return nil, fmt.Errorf("the list can't be sorted by %q", name)
	}
	if p.Search != "" {
		pattern := containing(p.Search)
		var parts []string
		var args []any
		for _, s := range searched {
			parts = append(parts, s+` LIKE ? ESCAPE '\'`)
			args = append(args, pattern)
		}
		db = db.Where("("+strings.Join(parts, " OR ")+")", args...)
	}
	if p.After != "" {
		key, err := ReadKey(p.After)
		if err != nil {
			return nil, err
		}
		db = db.Where(fmt.Sprintf("(%s, id) %s (?, ?)", column, compare), key[0], key[1])
	}
	if column != "id" {
		order += ", id " + order
	}
	return db.Order(column + " " + order).Limit(p.Limit + 1), nil
}

// containing is the pattern of LIKE, with the escape \, for whatever a text stands in.
func containing(text string) string {
	return "%" + strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(text) + "%"
}

// AfterKey makes the value with which the page behind a row is asked for.
func AfterKey(sortValue, id string) string {
	return base64.RawURLEncoding.EncodeToString([]byte(sortValue + "\x1f" + id))
}

// ReadKey reads what AfterKey made: the sort value and the ID. Nothing reads as before everything.
func ReadKey(after string) (key [2]string, err error) {
	if after == "" {
		return key, nil
	}
	text, err := base64.RawURLEncoding.DecodeString(after)
	value, id, ok := strings.Cut(string(text), "\x1f")
	if err != nil || !ok {
		return key, errors.New("the page's beginning is not one that this list gave")
	}
	return [2]string{value, id}, nil
}

// One reads the first row for which a condition holds; the zero value where there is none. What went wrong is in words.
func One[T any](db *gorm.DB, where string, args ...any) (T, error) {
	var row T
	err := db.Where(where, args...).Limit(1).Find(&row).Error
	return row, Clear(err)
}
