package node

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"gorm.io/gorm"

	"innergate/nodes"
	"innergate/store"
)

const (
	// askLimit is how long others are waited for.
	askLimit = 1500 * time.Millisecond
	// errandState asks a node what it is.
	errandState = "/state"
	// errandLook has a node look which nodes there are.
	errandLook = "/look"
)

// State is what a node says of itself.
type State struct {
	Version string    `json:"version"`
	Form    string    `json:"form"` // the newest form of the records that it knows
	Now     time.Time `json:"now"`
	Ends    time.Time `json:"ends"` // its certificate
	Began   time.Time `json:"began"`

	ahead time.Duration // how far its clock is ahead of ours
}

// states asks all nodes what they are.
func (g *Room) states(ctx context.Context) (map[string]State, error) {
	out := map[string]State{}
	if err := g.Look(ctx); err != nil { // one may have joined a moment ago
		return nil, err
	}
	if g.Caller == nil {
		return out, nil
	}
	own, err := g.state()
	if err != nil {
		return nil, err
	}
	out[g.own.Address] = *own
	asked := time.Now()
	_, err = g.Ask(ctx, errandState, struct{}{}, func(node string, answer json.RawMessage) error {
		var s State
		if err := json.Unmarshal(answer, &s); err != nil {
			return err
		}
		// It looked at its clock between the question and the answer, as likely early as late.
		s.ahead = s.Now.Sub(g.Now()) + time.Since(asked)/2
		out[node] = s
		return nil
	})
	return out, err
}

// Begin makes this process one of the nodes: it says in the records where it is asked, and answers that.
func (g *Room) Begin(
	ctx context.Context,
	together Nodes,
	o nodes.Options,
	known map[string]func(context.Context, json.RawMessage) (any, error),
) error {
	at, err := o.ErrandsAddress()
	if err != nil {
		return err
	}
	c, err := o.Identity.Certificate()
	if err != nil {
		return err
	}
	o.Errands = at
	answers := map[string]nodes.Errand{
		errandState: func(context.Context, json.RawMessage) (any, error) { return g.state() },
		errandLook:  func(ctx context.Context, _ json.RawMessage) (any, error) { return nil, g.Look(ctx) },
	}
	for name, do := range known {
		answers[name] = do
	}
	g.Together, g.Caller, g.own, g.began = together, o.Identity.Caller(), o, g.Now().UTC()
	if g.errands, err = o.Identity.Listen(at, answers); err != nil {
		return err
	}
	own := store.NodeMember{Serial: nodes.SerialOf(c), Address: o.Address, Errands: at, Ends: c.NotAfter}
	if err := g.Store.Patiently(ctx, func() error {
		if err := g.Store.Write(ctx, func(tx *gorm.DB) error { return tx.Save(&own).Error }); err != nil {
			return err
		}
		return g.Look(ctx)
	}); err != nil {
		return err
	}
	// The others learn of it at once; who does not answer looks by itself.
	_, err = g.Ask(ctx, errandLook, struct{}{}, func(string, json.RawMessage) error { return nil })
	return err
}

// End ends answering.
func (g *Room) End() {
	if g.errands != nil {
		_ = g.errands.Close() // nobody waits for it
	}
}

// Here is this node's name among the nodes: its address.
func (g *Room) Here() string { return g.own.Address }

func (g *Room) state() (*State, error) {
	c, err := g.own.Identity.Certificate()
	if err != nil {
		return nil, err
	}
	return &State{Version: g.Version, Form: store.NewestForm(), Now: g.Now().UTC(), Ends: c.NotAfter, Began: g.began}, nil
}

// Look reads which nodes there are, and which certificates were taken back. What was read last holds where nobody leads.
func (g *Room) Look(ctx context.Context) error {
	if g.Caller == nil {
		return nil
	}
	var rows []store.NodeMember
	if err := g.Store.Read(ctx).Order("ends").Find(&rows).Error; err != nil {
		return store.Clear(err)
	}
	var withdrawn []string
	var others []store.NodeMember
	for _, r := range rows {
		switch {
		case r.Withdrawn != nil:
			withdrawn = append(withdrawn, r.Serial)
		case r.Errands != "" && r.Address != g.own.Address:
			// The newest certificate is the last.
			others = append(slices.DeleteFunc(others, func(o store.NodeMember) bool { return o.Address == r.Address }), r)
		}
	}
	g.own.Identity.Withdraw(withdrawn)
	g.held.Lock()
	defer g.held.Unlock()
	g.held.others = others
	return nil
}

// Ask asks all other nodes at one time. Each is called with one answer after the other; who did not answer in time is silent.
func (g *Room) Ask(ctx context.Context, name string, question any, each func(node string, answer json.RawMessage) error) (
	silent []string, err error,
) {
	if g.Caller == nil {
		return nil, nil
	}
	g.held.Lock()
	others := g.held.others
	g.held.Unlock()
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	defer cancel()
	var mu sync.Mutex
	var wait sync.WaitGroup
	var failed []error
	for _, o := range others {
		wait.Go(func() {
			answer, err := g.Caller.Ask(ctx, o.Errands, name, question)
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				g.Log.DebugContext(ctx, "a node did not answer", "node", o.Address, "question", name, "error", err)
				silent = append(silent, o.Address)
			} else if err := each(o.Address, answer); err != nil {
				failed = append(failed, fmt.Errorf("what the node at %s answered can't be read: %w", o.Address, err))
			}
		})
	}
	wait.Wait()
	slices.Sort(silent)
	return silent, errors.Join(failed...)
}
