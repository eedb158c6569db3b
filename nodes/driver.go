//go:build nodes

package nodes

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"time"

	engine "github.com/canonical/go-dqlite/driver"
)

const (
	// callLimit is how long one call to the engine may take: on a leader that stands still it would wait for ever.
	callLimit = 2 * time.Second
	// turnLimit is how long a transaction waits for its turn.
	turnLimit = 20 * time.Second
	// mostValues is how many values a statement may have besides its text.
	mostValues = 255
)

// ErrUnknown says that the connection was lost while a transaction was being committed: it may have been, or not. Nothing may be
// done again before somebody has looked.
var ErrUnknown = errors.New("the connection to the other nodes was lost while something was written: whether it was is not known")

// connector makes connections whose transactions take the writer's turn when they begin, and whose calls all have an end.
type connector struct {
	driver.Connector
	lines *lines
}

func (c connector) Connect(ctx context.Context) (driver.Conn, error) {
	turn := c.lines.turn.Load()
	in, err := c.Connector.Connect(ctx)
	if err != nil {
		return nil, err
	}
	own, ok := in.(*engine.Conn)
	if !ok {
		return nil, fmt.Errorf("the engine gave a connection of another kind: %T", in)
	}
	return &conn{Conn: own, lines: c.lines, turn: turn}, nil
}

type conn struct {
	*engine.Conn
	lines  *lines
	turn   int64 // of the lead
	within bool  // a transaction
	lost   bool  // an answer did not come
}

// ResetSession and IsValid have a connection thrown away that leads to where nobody leads any more.
func (c *conn) ResetSession(context.Context) error {
	if !c.IsValid() {
		return driver.ErrBadConn
	}
	return nil
}

// IsValid is told of in ResetSession.
func (c *conn) IsValid() bool { return !c.lost && c.turn == c.lines.turn.Load() }

// again says whether what only reads, or only begins, may be done again on another connection: the answer did not come, and
// whoever asked still waits.
func (c *conn) again(ctx context.Context, err error) error {
	if c.failed(err) && ctx.Err() == nil && !c.within {
		return driver.ErrBadConn
	}
	return err
}

// failed says whether an error is no answer of the engine's, and notes that the connection is of no use then.
func (c *conn) failed(err error) bool {
	var e engine.Error
	if err == nil || errors.As(err, &e) {
		return false
	}
	c.lost = true
	return true
}

// bounded gives a call an end where it has none; reports and exports bring one of their own.
func bounded(ctx context.Context) (context.Context, context.CancelFunc) {
	if _, ends := ctx.Deadline(); ends {
		return context.WithCancel(ctx)
	}
	return context.WithTimeout(ctx, callLimit)
}

// BeginTx takes the writer's turn, and waits for it: the engine itself does not wait.
func (c *conn) BeginTx(ctx context.Context, o driver.TxOptions) (driver.Tx, error) {
	how := "BEGIN IMMEDIATE"
	if o.ReadOnly {
		how = "BEGIN"
	}
	for began, pause := time.Now(), time.Millisecond; ; pause = min(pause*2, 20*time.Millisecond) {
		once, cancel := bounded(ctx)
		_, err := c.Conn.ExecContext(once, how, nil)
		cancel()
		if err == nil {
			c.within = true
			return &tx{c}, nil
		}
		var e engine.Error
		if !errors.As(err, &e) || e.Code&0xff != engine.ErrBusy || time.Since(began) > turnLimit || ctx.Err() != nil {
			return nil, c.again(ctx, err)
		}
		time.Sleep(pause/2 + rand.N(pause))
	}
}

type tx struct{ c *conn }

// Commit says ErrUnknown where the answer did not come.
func (t *tx) Commit() error {
	t.c.within = false
	ctx, cancel := bounded(context.Background())
	defer cancel()
	_, err := t.c.Conn.ExecContext(ctx, "COMMIT", nil)
	if t.c.failed(err) {
		return fmt.Errorf("%w (%s)", ErrUnknown, err)
	}
	return err
}

func (t *tx) Rollback() error {
	t.c.within = false
	ctx, cancel := bounded(context.Background())
	defer cancel()
	_, err := t.c.Conn.ExecContext(ctx, "ROLLBACK", nil)
	t.c.failed(err)
	return err
}

// allowed refuses what would end the leader's process: rows that come back from a write outside a transaction.
func (c *conn) allowed(query string) error {
	if !c.within && strings.Contains(strings.ToUpper(query), "RETURNING") {
		return errors.New("a write that returns rows must be in a transaction")
	}
	return nil
}

func (c *conn) ExecContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Result, error) {
	if err := c.allowed(query); err != nil {
		return nil, err
	}
	query, args, err := within(query, args)
	if err != nil {
		return nil, err
	}
	ctx, cancel := bounded(ctx)
	defer cancel()
	result, err := c.Conn.ExecContext(ctx, query, args)
	c.failed(err)
	return result, err
}

func (c *conn) QueryContext(ctx context.Context, query string, args []driver.NamedValue) (driver.Rows, error) {
	if err := c.allowed(query); err != nil {
		return nil, err
	}
	query, args, err := within(query, args)
	if err != nil {
		return nil, err
	}
	once, cancel := bounded(ctx)
	r, err := c.Conn.QueryContext(once, query, args)
	if err != nil {
		cancel()
		return nil, c.again(ctx, err)
	}
	return &rows{r, cancel}, nil
}

func (c *conn) PrepareContext(ctx context.Context, query string) (driver.Stmt, error) {
	if err := c.allowed(query); err != nil {
		return nil, err
	}
	once, cancel := bounded(ctx)
	defer cancel()
	s, err := c.Conn.PrepareContext(once, query)
	if err != nil {
		return nil, c.again(ctx, err)
	}
	own, ok := s.(*engine.Stmt)
	if !ok {
		return nil, fmt.Errorf("the engine gave a statement of another kind: %T", s)
	}
	return stmt{own, c}, nil
}

type stmt struct {
	*engine.Stmt
	on *conn
}

func (s stmt) ExecContext(ctx context.Context, args []driver.NamedValue) (driver.Result, error) {
	if err := whole(args); err != nil {
		return nil, err
	}
	ctx, cancel := bounded(ctx)
	defer cancel()
	result, err := s.Stmt.ExecContext(ctx, args)
	s.on.failed(err)
	return result, err
}

func (s stmt) QueryContext(ctx context.Context, args []driver.NamedValue) (driver.Rows, error) {
	if err := whole(args); err != nil {
		return nil, err
	}
	once, cancel := bounded(ctx)
	r, err := s.Stmt.QueryContext(once, args)
	if err != nil {
		cancel()
		return nil, s.on.again(ctx, err)
	}
	return &rows{r, cancel}, nil
}

// rows hides what the engine says of the types of columns: it panics where a prepared statement has no rows.
type rows struct {
	in     driver.Rows
	cancel context.CancelFunc
}

func (r *rows) Columns() []string              { return r.in.Columns() }
func (r *rows) Next(dest []driver.Value) error { return r.in.Next(dest) }
func (r *rows) Close() error {
	defer r.cancel()
	return r.in.Close()
}
