//go:build nodes

package nodes

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"time"

	_ "github.com/mattn/go-sqlite3" // the engine's files are SQLite's
)

// copyLimit is how long the engine may take to hand out its files.
const copyLimit = 5 * time.Minute

// Copy writes all records as they are at one moment to a file.
func (n *Node) Copy(ctx context.Context, to string) error {
	ctx, cancel := context.WithTimeout(ctx, copyLimit)
	defer cancel()
	c, err := n.app.Leader(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	files, err := c.Dump(ctx, databaseName)
	if err != nil {
		return fmt.Errorf("the engine did not hand out the records: %w", err)
	}
	if len(files) != 2 {
		return fmt.Errorf("the engine handed out %d files where two were expected", len(files))
	}
	log := to + "-wal"
	defer os.Remove(to + "-shm")
	defer os.Remove(log)
	if err := errors.Join(os.WriteFile(to, files[0].Data, 0o600), os.WriteFile(log, files[1].Data, 0o600)); err != nil {
		return fmt.Errorf("the copy can't be written: %w", err)
	}
	db, err := sql.Open("sqlite3", to)
	if err != nil {
		return err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	for _, set := range []string{"PRAGMA wal_checkpoint(TRUNCATE)", "PRAGMA journal_mode = DELETE"} { // one file, then
		if _, err := db.ExecContext(ctx, set); err != nil {
			return fmt.Errorf("the copy can't be put together: %w", err)
		}
	}
	return nil
}
