package store

import (
	"context"
	"fmt"
	"os"
	"time"
)

// The write-ahead log grows while somebody reads what was there before it: each commit tries to move it into the database,
// and begins it anew only where nobody reads any more. Under load somebody always does.
const (
	// LogSize is how large the log may be, in octets, without anybody waiting for readers.
	LogSize = 32 << 20
	// logWait is how long the writer waits for readers when the log is over its size; whoever signs in waits as long.
	logWait = 100 * time.Millisecond
)

// Log is how the write-ahead log stands.
type Log struct {
	Size int64
	// Held is set where it is over its size and could not be begun anew, since somebody still reads what is before it.
	Held bool
}

// LogNow tells the size of the write-ahead log.
func (f *file) LogNow() int64 {
	info, err := os.Stat(f.path + "-wal")
	if err != nil {
		return 0
	}
	return info.Size()
}

// Size is the size of the file itself, in octets.
func (f *file) Size() int64 {
	info, err := os.Stat(f.path)
	if err != nil {
		return 0
	}
	return info.Size()
}

// BoundLog begins the write-ahead log anew where it is over its size. It is called every few seconds.
func (f *file) BoundLog(ctx context.Context) (Log, error) {
	if f.engine != nil { // it keeps its own
		return Log{}, nil
	}
	if size := f.LogNow(); size < LogSize {
		return Log{Size: size}, nil
	}
	pool, err := f.write.DB()
	if err != nil {
		return Log{}, err
	}
	conn, err := pool.Conn(ctx)
	if err != nil {
		return Log{}, Clear(err)
	}
	defer conn.Close()
	if _, err := conn.ExecContext(ctx, fmt.Sprintf("PRAGMA busy_timeout = %d", logWait.Milliseconds())); err != nil {
		return Log{}, Clear(err)
	}
	// The connection is the writer's: it must wait as long as before again, whatever became of the caller.
	defer conn.ExecContext(context.WithoutCancel(ctx), fmt.Sprintf("PRAGMA busy_timeout = %d", busyTimeout.Milliseconds()))
	var busy, pages, moved int64
	if err := conn.QueryRowContext(ctx, "PRAGMA wal_checkpoint(TRUNCATE)").Scan(&busy, &pages, &moved); err != nil {
		return Log{}, Clear(err)
	}
	return Log{Size: f.LogNow(), Held: busy != 0}, nil
}
