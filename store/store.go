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
	"strings"
	"sync"
	"time"

	"github.com/mattn/go-sqlite3"
	"github.com/oklog/ulid/v2"
	"gorm.io/gorm"
)

// Store is what the gate keeps: its records in one SQLite file, and the traces of sign-ins in another.
type Store struct {
	file
	generation *sql.Stmt
	ready      struct {
		sync.Mutex
		asked time.Time
		err   error
	}
	// Traces may be lost without anybody losing access.
	Traces *Traces
	// Folder holds both, and what is worked on beside them.
	Folder string
	Sealer *Sealer
}

// FileName is the database's name in the data folder.
const FileName = "innergate.db"

// Open opens the records and the traces in the folder, making what is new, and brings them to the newest form. Told are told,
// in sentences, what is done where that takes long.
func Open(folder string, sealer *Sealer, told ...func(string)) (*Store, error) {
	return OpenOn(folder, sealer, nil, false, told...)
}

// OpenOn is Open with the records kept by an engine; nil means the file in the folder. Traces are in the folder in any case.
// Together says that all nodes are being brought to this version at one time, so that also what they can't share may be changed.
func OpenOn(folder string, sealer *Sealer, engine Engine, together bool, told ...func(string)) (*Store, error) {
	tell := func(text string) {
		for _, t := range told {
			t(text)
		}
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("the data folder %s can't be made: %w", folder, err)
	}
	s := &Store{Sealer: sealer, Folder: folder}
	s.watcher, s.engine = &watcher{}, engine
	traces, err := openTraces(folder, s.watcher, tell)
	if err != nil {
		return nil, err
	}
	s.Traces = traces
	if engine != nil {
		err = s.openPools(func(db *gorm.DB) error { return migrateShared(db, migrations, unshared, together) })
	} else {
		err = s.open(filepath.Join(folder, FileName), func(db *gorm.DB) error { return upgrade(folder, db, traces, tell) })
	}
	if err != nil {
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

// Close closes both files.
func (s *Store) Close() {
	s.file.close()
	if s.Traces != nil {
		s.Traces.close()
	}
}

// Write runs one immediate transaction on the gate's records. What f returns as an error takes everything back. Where another
// process writes for long, it waits for its turn, with growing pauses; f is called once.
func (s *Store) Write(ctx context.Context, f func(tx *gorm.DB) error) error {
	defer s.commits.Add(1)
	return s.transact(ctx, f)
}

// Ready says whether the records can be written now. Many may ask: they are answered together, and at most once a second the
// database is asked.
func (s *Store) Ready(ctx context.Context) error {
	s.ready.Lock()
	defer s.ready.Unlock()
	if time.Since(s.ready.asked) < time.Second {
		return s.ready.err
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), longestReady) // the answer is for others as well
	defer cancel()
	s.ready.err = s.transact(ctx, func(tx *gorm.DB) error {
		_, err := Exec(tx, "INSERT INTO settings (name, value) VALUES ('ready', ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value",
			time.Now().UTC().Format(time.RFC3339))
		return err
	})
	s.ready.asked = time.Now()
	return s.ready.err
}

// longestReady is how long whoever asks whether the gate is ready waits for the database.
const longestReady = 2 * time.Second

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
