package browser_test

import (
	"context"
	"encoding/json"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/demo"
	"innergate/gate/node"
	"innergate/nodes"
	"innergate/store"
	"innergate/testbed"
)

// somewhere stands for nodes on other machines.
type somewhere struct {
	mu  sync.Mutex
	all []nodes.Member
}

func (s *somewhere) Members(context.Context) ([]nodes.Member, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.all), nil
}

func (s *somewhere) Leads(ctx context.Context) bool {
	list, _ := s.Members(ctx)
	return slices.ContainsFunc(list, func(m nodes.Member) bool { return m.Own && m.Leads })
}

func (s *somewhere) Relieve(context.Context) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all[0].Leads, s.all[1].Leads = false, true
	return nil
}

func (s *somewhere) Remove(_ context.Context, id uint64) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all = slices.DeleteFunc(s.all, func(m nodes.Member) bool { return m.ID == id })
	return nil
}

// answering makes this gate one of the nodes, or has another one answer what it is.
func answering(t *testing.T, w *demo.World, a *nodes.Authority, m nodes.Member, others *somewhere, own bool) {
	t.Helper()
	identity, err := a.NewIdentity(time.Now())
	require.NoError(t, err)
	at := testbed.FreeAddress(t)
	if own {
		require.NoError(t, w.Gate.Join(t.Context(), others, nodes.Options{Address: m.Address, Errands: at, Identity: identity}))
		t.Cleanup(w.Gate.Node.End)
		return
	}
	c, err := identity.Certificate()
	require.NoError(t, err)
	began := time.Now().Add(-50 * time.Hour)
	e, err := identity.Listen(at, map[string]nodes.Errand{"/state": func(context.Context, json.RawMessage) (any, error) {
		return node.State{Version: w.Gate.Version, Now: time.Now(), Ends: c.NotAfter, Began: began}, nil
	}})
	require.NoError(t, err)
	t.Cleanup(func() { e.Close() })
	require.NoError(t, w.Gate.Store.Write(t.Context(), func(tx *gorm.DB) error {
		return tx.Create(&store.NodeMember{Serial: nodes.SerialOf(c), Address: m.Address, Errands: at, Ends: c.NotAfter}).Error
	}))
}

// TestNodesInTheConsole shows a gate that is alone, and three nodes: who leads, a key for another one, passing the lead on, and
// taking one out.
func TestNodesInTheConsole(t *testing.T) {
	beside(t)
	w := world(t, false)
	p := newPage(t)
	p.signIn(w)
	p.open(w.URL + "/console/nodes")
	p.see("This gate keeps its records alone")
	p.see("innergate node begin --address HOST:8424")
	p.accessible()

	others := &somewhere{all: []nodes.Member{
		{ID: 0x2dc171858c3155be, Address: "10.0.0.1:8424", Role: "voter", Leads: true, Own: true},
		{ID: 0x217d7cd766f53dd1, Address: "10.0.0.2:8424", Role: "voter"},
		{ID: 0x6a7fc9b3be00fc1e, Address: "10.0.0.3:8424", Role: "stand-by"},
	}}
	a, err := nodes.NewAuthority(time.Now())
	require.NoError(t, err)
	require.NoError(t, w.Gate.Node.KeepAuthority(t.Context(), a))
	for i, m := range others.all {
		answering(t, w, a, m, others, i == 0)
	}
	p.open(w.URL + "/console/nodes")
	p.see("10.0.0.3:8424")
	p.see("answers you now")
	p.see("A node does not vote")
	p.press("Make a key")
	p.see("innergate node join --address HOST:8424")
	p.accessible()
	p.shot("nodes")
	p.press("Relieve")
	p.agree("Relieve it")
	p.wait(`[...document.querySelectorAll("tr")].some(r => r.textContent.includes("10.0.0.2") && r.textContent.includes("leads"))`)
	p.press("Remove")
	p.agree("Remove it")
	p.wait(`!document.body.textContent.includes("10.0.0.3:8424")`)
	p.see("With 2 of them, none may be lost.")
	list, err := w.Client().Nodes(t.Context())
	require.NoError(t, err)
	assert.Len(t, list.Nodes, 2)
}
