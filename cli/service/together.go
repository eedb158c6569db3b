package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"time"

	"innergate/gate"
	"innergate/nodes"
	"innergate/store"
)

// leaveWithin is how long a node that is stopped tries to pass on what it does for the others.
const leaveWithin = 5 * time.Second

// openRecords opens the records: in the folder, or together with other nodes where the folder is a node's.
func openRecords(
	ctx context.Context,
	folder string,
	sealer *store.Sealer,
	together bool,
	log *slog.Logger,
) (*store.Store, *nodes.Node, error) {
	tell := func(text string) { log.InfoContext(ctx, text) }
	if !nodes.IsNode(folder) {
		s, err := store.Open(folder, sealer, tell)
		return s, nil, err
	}
	o, err := nodes.ReadOptions(folder)
	if err != nil {
		return nil, nil, err
	}
	o.Log = log
	tell("This is one of some nodes, reached by the others at " + o.Address + ". It waits for most of them.")
	n, err := nodes.Start(ctx, o)
	if err != nil {
		return nil, nil, err
	}
	s, err := store.OpenOn(folder, sealer, n, together, tell)
	first := false
	if err == nil {
		first, err = nodes.First(folder)
	}
	if first { // what another one holds besides, from before it joined, is not the nodes'
		err = bringAlong(ctx, folder, sealer, s, tell)
	}
	if err != nil {
		if s != nil {
			s.Close()
		}
		return nil, nil, errors.Join(err, n.Close())
	}
	return s, n, nil
}

// bringAlong copies the records that a gate has kept alone to the nodes, of which it is the first. The file stays as a copy.
func bringAlong(ctx context.Context, folder string, sealer *store.Sealer, to *store.Store, tell func(string)) error {
	at := filepath.Join(folder, store.FileName)
	if _, err := os.Stat(at); err != nil {
		return nil
	}
	alone, err := store.Open(folder, sealer, tell)
	if err != nil {
		return err
	}
	err = to.BringAlong(ctx, alone, tell)
	alone.Close()
	if err != nil {
		return fmt.Errorf("the records can't be brought to the nodes: %w", err)
	}
	if err := os.MkdirAll(filepath.Join(folder, store.CopiesBefore), 0o700); err != nil {
		return err
	}
	return os.Rename(at, filepath.Join(folder, store.CopiesBefore, "alone.db"))
}

// joinIn tells a gate of the other nodes, and answers what these ask. The first of them brings the authority that it has made.
func joinIn(ctx context.Context, g *gate.Gate, n *nodes.Node, folder string) error {
	a, forget, err := nodes.TakeAuthority(folder)
	if err != nil {
		return err
	}
	if a != nil {
		if err := g.Node.KeepAuthority(ctx, a); err != nil {
			return err // the folder's is the only one yet
		}
		if err := forget(); err != nil {
			return err
		}
	}
	return g.Join(ctx, n, n.Options())
}

// leave passes the lead on before a node is stopped, so that nobody waits.
func leave(ctx context.Context, n *nodes.Node, log *slog.Logger) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), leaveWithin)
	defer cancel()
	if list, err := n.Members(ctx); err != nil || len(list) < 2 || !n.Leads(ctx) {
		return
	}
	if err := n.Relieve(ctx); err != nil {
		log.WarnContext(ctx, "the lead was not passed on", "error", err)
	}
}
