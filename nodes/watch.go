//go:build nodes

package nodes

import (
	"context"
	"errors"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"github.com/canonical/go-dqlite/client"
)

const (
	// watchEvery is how often a node asks its own part of the engine who leads.
	watchEvery = 150 * time.Millisecond
	// mostFailed is after how many questions without an answer nobody is taken to lead.
	mostFailed = 3
)

// lines are the open connections to the engine. Where another node takes the lead, those to the one before are closed at once: who
// waits on one would wait for its time limit, since a machine that stands still closes nothing.
type lines struct {
	mu     sync.Mutex
	open   map[*line]bool
	turn   atomic.Int64    // counts the changes of the lead
	leader client.NodeInfo // as this node's own part of the engine knows it; empty where nobody leads
}

// line is one of them.
type line struct {
	net.Conn
	of *lines
	to string
}

func (l *line) Close() error {
	l.of.mu.Lock()
	delete(l.of.open, l)
	l.of.mu.Unlock()
	if err := l.Conn.Close(); !errors.Is(err, net.ErrClosed) { // it may have been closed by us
		return err
	}
	return nil
}

// dial opens a connection and keeps it in mind.
func (l *lines) dial(open client.DialFunc) client.DialFunc {
	return func(ctx context.Context, address string) (net.Conn, error) {
		c, err := open(ctx, address)
		if err != nil {
			return nil, err
		}
		one := &line{c, l, address}
		l.mu.Lock()
		defer l.mu.Unlock()
		l.open[one] = true
		return one, nil
	}
}

// leads says which node leads.
func (l *lines) leads() client.NodeInfo {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.leader
}

// set notes who leads. Connections to others are of no use any more.
func (l *lines) set(leader client.NodeInfo) {
	l.mu.Lock()
	before := l.leader
	l.leader = leader
	var stale []net.Conn
	if before.ID != leader.ID {
		l.turn.Add(1)
		for one := range l.open {
			if one.to != leader.Address {
				stale = append(stale, one.Conn)
			}
		}
	}
	l.mu.Unlock()
	for _, c := range stale {
		_ = c.Close() // whoever reads from it learns of it
	}
}

// watch asks this node's own part of the engine who leads until the context ends.
func (n *Node) watch(ctx context.Context) {
	defer close(n.watched)
	var own *client.Client
	tick := time.NewTicker(watchEvery)
	defer tick.Stop()
	for failed := 0; ; {
		leader, err := n.askWhoLeads(ctx, &own)
		// A machine that is busy may be slow to answer; that is no reason to give up what is under way.
		if failed++; err == nil {
			failed = 0
		}
		if err == nil || failed >= mostFailed {
			n.lines.set(leader)
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			if own != nil {
				own.Close()
			}
			return
		}
	}
}

func (n *Node) askWhoLeads(ctx context.Context, own **client.Client) (client.NodeInfo, error) {
	ctx, cancel := bounded(ctx)
	defer cancel()
	var err error
	if *own == nil {
		if *own, err = n.app.Client(ctx); err != nil {
			*own = nil
			return client.NodeInfo{}, err
		}
	}
	leader, err := (*own).Leader(ctx)
	if err != nil {
		(*own).Close()
		*own = nil
		return client.NodeInfo{}, err
	}
	if leader == nil {
		return client.NodeInfo{}, nil
	}
	return *leader, nil
}
