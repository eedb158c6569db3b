//go:build nodes

package nodes

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/canonical/go-dqlite/app"
	"github.com/canonical/go-dqlite/client"
	engine "github.com/canonical/go-dqlite/driver"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
)

const (
	// databaseName is what the records are called among the nodes.
	databaseName = "gate"
	// latency is what a message between nodes may take: a leader that falls silent for some times as long is replaced.
	latency = 40 * time.Millisecond
	// rolesEvery is how often the leader looks who of the nodes votes.
	rolesEvery = 3 * time.Second
	// betweenLines is how often something of the engine is written down.
	betweenLines = 5 * time.Second
	// startLimit is how long a node waits for the others at its start.
	startLimit = time.Minute
)

// Node is this process's part of the records that some nodes keep together.
type Node struct {
	app   *app.App
	own   Options
	lines *lines
	// stop ends watching, which closes watched.
	stop    context.CancelFunc
	watched chan struct{}
	pool    *engine.Driver
	mu      sync.Mutex
	pools   []*sql.DB
	ended   sync.Once
}

// Start starts a node, and waits until it is one of those that keep the records.
func Start(ctx context.Context, o Options) (*Node, error) {
	folder := filepath.Join(o.Data, folderName)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("the node's folder can't be made: %w", err)
	}
	listen, dial := o.Identity.configs()
	options := []app.Option{app.WithAddress(o.Address), app.WithTLS(listen, dial), app.WithNetworkLatency(latency),
		app.WithRolesAdjustmentFrequency(rolesEvery), app.WithLogFunc(logTo(o.Log))}
	if len(o.Others) > 0 {
		options = append(options, app.WithCluster(o.Others))
	}
	a, err := app.New(folder, options...)
	if err != nil {
		return nil, fmt.Errorf("the node can't be started at %s: %w. Does its service still run, or is the address taken?", o.Address, err)
	}
	waiting, cancel := context.WithTimeout(ctx, startLimit)
	defer cancel()
	if err := a.Ready(waiting); err != nil {
		return nil, errors.Join(fmt.Errorf("the other nodes were not reached: %w", err), a.Close())
	}
	members, err := client.NewYamlNodeStore(filepath.Join(folder, "cluster.yaml"))
	if err != nil {
		return nil, errors.Join(err, a.Close())
	}
	held := &lines{open: map[*line]bool{}}
	pool, err := engine.New(members, engine.WithDialFunc(held.dial(client.DialFuncWithTLS(client.DefaultDialFunc, dial))),
		engine.WithConnectionBackoffFactor(5*time.Millisecond), engine.WithConnectionBackoffCap(50*time.Millisecond),
		engine.WithAttemptTimeout(500*time.Millisecond), engine.WithLogFunc(logTo(o.Log)))
	if err != nil {
		return nil, errors.Join(err, a.Close())
	}
	watching, stop := context.WithCancel(context.WithoutCancel(ctx))
	n := &Node{app: a, pool: pool, own: o, lines: held, stop: stop, watched: make(chan struct{})}
	go n.watch(watching)
	return n, nil
}

// logTo writes down what the engine warns of.
func logTo(log *slog.Logger) client.LogFunc {
	var mu sync.Mutex
	var last time.Time
	return func(level client.LogLevel, format string, args ...any) {
		if log == nil || level < client.LogWarn {
			return
		}
		mu.Lock()
		defer mu.Unlock()
		if now := time.Now(); now.Sub(last) > betweenLines { // it says so at each try
			last = now
			log.Warn("the engine: " + fmt.Sprintf(format, args...))
		}
	}
}

// Pool is a number of connections to the records, wherever the leader is.
func (n *Node) Pool(connections int) *sql.DB {
	inner, err := n.pool.OpenConnector(databaseName)
	if err != nil {
		panic(err) // it takes any name
	}
	db := sql.OpenDB(connector{inner, n.lines})
	db.SetMaxOpenConns(connections)
	db.SetMaxIdleConns(connections)
	n.mu.Lock()
	defer n.mu.Unlock()
	n.pools = append(n.pools, db)
	return db
}

// Dialect says of errors what the dialect of SQLite's own says.
func (n *Node) Dialect(d sqlite.Dialector) gorm.Dialector { return dialect{&d} }

type dialect struct{ *sqlite.Dialector }

// Translate maps the engine's codes: SQLite's extended ones.
func (d dialect) Translate(err error) error {
	var e engine.Error
	if errors.As(err, &e) {
		switch e.Code {
		case 1555, 2067: // primary key, unique
			return gorm.ErrDuplicatedKey
		case 787:
			return gorm.ErrForeignKeyViolated
		}
	}
	return err
}

// Options are those with which it was started.
func (n *Node) Options() Options { return n.own }

// Unknown says whether the answer to a commit was lost.
func (n *Node) Unknown(err error) bool { return errors.Is(err, ErrUnknown) }

// lost are what errors come from that are no answers of the engine's.
var lost = []error{ErrUnknown, driver.ErrBadConn, engine.ErrNoAvailableLeader, net.ErrClosed, io.EOF, io.ErrUnexpectedEOF,
	context.DeadlineExceeded, os.ErrDeadlineExceeded}

// Lost says whether an error is none of the engine's answers: the connection to whoever led was lost, or nobody leads.
func (n *Node) Lost(err error) bool {
	var answer engine.Error
	if errors.As(err, &answer) {
		return false
	}
	var line *net.OpError
	return errors.As(err, &line) || slices.ContainsFunc(lost, func(one error) bool { return errors.Is(err, one) })
}

// Members are the nodes, as the leader knows them.
func (n *Node) Members(ctx context.Context) ([]Member, error) {
	ctx, cancel := bounded(ctx)
	defer cancel()
	c, err := n.app.Leader(ctx)
	if err != nil {
		return nil, fmt.Errorf("no node leads: most of them can't be reached: %w", err)
	}
	defer c.Close()
	leader, err := c.Leader(ctx)
	if err != nil {
		return nil, err
	}
	all, err := c.Cluster(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]Member, 0, len(all))
	for _, one := range all {
		out = append(out, Member{ID: one.ID, Address: one.Address, Role: one.Role.String(), Leads: leader != nil && one.ID == leader.ID,
			Own: one.ID == n.app.ID()})
	}
	return out, nil
}

// Leads says whether this node leads: it does what must be done once.
func (n *Node) Leads(context.Context) bool { return n.lines.leads().ID == n.app.ID() }

// Relieve passes on what this node does for the others: the lead, and its vote.
func (n *Node) Relieve(ctx context.Context) error {
	if err := n.app.Handover(ctx); err != nil {
		return fmt.Errorf("no other node takes over: %w", err)
	}
	return nil
}

// Remove takes a node out of those that keep the records.
func (n *Node) Remove(ctx context.Context, id uint64) error {
	ctx, cancel := bounded(ctx)
	defer cancel()
	c, err := n.app.Leader(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	return c.Remove(ctx, id)
}

// Close ends the node's part. The others go on.
func (n *Node) Close() (err error) {
	n.ended.Do(func() {
		n.stop()
		<-n.watched
		n.mu.Lock()
		defer n.mu.Unlock()
		var all []error
		for _, p := range n.pools {
			all = append(all, p.Close())
		}
		err = errors.Join(append(all, n.app.Close())...)
	})
	return err
}
