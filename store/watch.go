package store

import (
	"context"
	"log/slog"
	"strings"
	"sync/atomic"
	"time"

	"gorm.io/gorm/logger"
)

// Slow is how long a statement may take without a word about it in the log.
const Slow = time.Second

// Statement is one that has been run. Its text has no values: those are people's.
type Statement struct {
	Text string
	Took time.Duration
}

// watcher sees each statement that goes through the object mapping, and writes down the slow ones.
type watcher struct {
	log  atomic.Pointer[slog.Logger]
	seen atomic.Pointer[func(Statement)]
}

func (w *watcher) LogMode(logger.LogLevel) logger.Interface      { return w }
func (w *watcher) Info(context.Context, string, ...interface{})  {}
func (w *watcher) Warn(context.Context, string, ...interface{})  {}
func (w *watcher) Error(context.Context, string, ...interface{}) {}

// ParamsFilter leaves the values out.
func (w *watcher) ParamsFilter(_ context.Context, sql string, _ ...interface{}) (string, []interface{}) {
	return sql, nil
}

// Where rows are scanned, the library takes the statement down by a recorder of its own, with all values, whoever asks for it.
func init() {
	logger.RecorderParamsFilter = (*watcher)(nil).ParamsFilter
}

// Trace is told of each statement.
func (w *watcher) Trace(ctx context.Context, begin time.Time, statement func() (string, int64), err error) {
	took, seen := time.Since(begin), w.seen.Load()
	if took < Slow && seen == nil {
		return
	}
	text, _ := statement()
	if seen != nil {
		(*seen)(Statement{text, took})
	}
	if log := w.log.Load(); log != nil && took >= Slow {
		log.WarnContext(ctx, "a statement took long", "seconds", took.Seconds(), "statement", text, "error", err)
	}
}

// LogTo says where slow statements are written down.
func (s *Store) LogTo(log *slog.Logger) { s.watcher.log.Store(log) }

// OnStatement has f called with each statement that goes through the object mapping from now on, by whoever ran it; nil ends
// that. It is how tests look at what is asked of the database.
func (s *Store) OnStatement(f func(Statement)) {
	if f == nil {
		s.watcher.seen.Store(nil)
		return
	}
	s.watcher.seen.Store(&f)
}

// Plan is how the database would go about a statement, a line for each of its parts. What the statement holds values for is
// left open, as it is when a prepared one is planned.
func (f *file) Plan(ctx context.Context, statement string) ([]string, error) {
	rows, err := f.read.Statement.ConnPool.QueryContext(ctx, "EXPLAIN QUERY PLAN "+statement, make([]any, strings.Count(statement, "?"))...)
	if err != nil {
		return nil, Clear(err)
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var id, parent, unused int
		var detail string
		if err := rows.Scan(&id, &parent, &unused, &detail); err != nil {
			return nil, err
		}
		out = append(out, detail)
	}
	return out, Clear(rows.Err())
}
