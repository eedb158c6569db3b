package soak

import (
	"context"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"innergate/api"
	"innergate/client"
	"innergate/demo"
	"innergate/standin"
	"innergate/store"
	"innergate/testbed"
)

// harm is what may happen to a node, and how it comes back.
type harm struct {
	name       string
	rounds     int
	hurt, heal func(*testing.T, *node, *demo.World)
}

var harms = []harm{
	{
		name: "killed", rounds: 5,
		hurt: func(t *testing.T, n *node, _ *demo.World) { n.kill(t) },
		heal: func(t *testing.T, n *node, w *demo.World) { n.start(t, w.URL) },
	},
	{
		name: "frozen", rounds: 5,
		hurt: func(t *testing.T, n *node, _ *demo.World) {
			n.down.Store(true)
			require.NoError(t, n.cmd.Process.Signal(syscall.SIGSTOP))
		},
		heal: func(t *testing.T, n *node, _ *demo.World) {
			require.NoError(t, n.cmd.Process.Signal(syscall.SIGCONT))
			n.back(t)
		},
	},
	{
		name: "cut off", rounds: 5,
		hurt: func(t *testing.T, n *node, _ *demo.World) {
			n.down.Store(true)
			n.place.cut(t, true)
		},
		heal: func(t *testing.T, n *node, _ *demo.World) {
			n.place.cut(t, false)
			n.back(t)
		},
	},
}

// back waits until a node takes part again.
func (n *node) back(t *testing.T) {
	t.Helper()
	require.Eventually(t, func() bool { return ready(n.listen) }, 30*time.Second, 50*time.Millisecond)
	n.down.Store(false)
}

// leader is the node that leads, as one that is up sees it.
func leader(t *testing.T, w *demo.World, all []*node) *node {
	t.Helper()
	var found *node
	require.Eventually(t, func() bool {
		list, err := w.Client().Nodes(t.Context())
		if err != nil {
			return false
		}
		for _, one := range list.Nodes {
			for _, n := range all {
				if one.Leads && one.Address == n.address && !n.down.Load() {
					found = n
				}
			}
		}
		return found != nil
	}, 20*time.Second, 50*time.Millisecond)
	return found
}

// signsIn waits until somebody can sign in, and says how long that took.
func signsIn(t *testing.T, w *demo.World) time.Duration {
	t.Helper()
	began := time.Now()
	require.Eventually(t, func() bool {
		b := w.Walker()
		return b.SignIn(t.Context(), w.RotaURL+"/sign-in", "mvoss") == nil && b.Inner("nameid") == "mvoss"
	}, 20*time.Second, 10*time.Millisecond, "nobody signs in any more")
	return time.Since(began)
}

// stopped stops the node that leads as an operator does, which passes the lead on first. Then another one goes: the last is not
// ready any more, says so, and is again when they are back.
func stopped(t *testing.T, w *demo.World, all []*node) {
	t.Helper()
	first := leader(t, w, all)
	first.down.Store(true)
	require.NoError(t, first.cmd.Process.Signal(os.Interrupt))
	<-first.ended
	took := signsIn(t, w)
	t.Logf("people signed in %s after the leader was stopped", took)
	second := leader(t, w, all)
	second.kill(t)
	last := all[slices.IndexFunc(all, func(n *node) bool { return n != first && n != second })]
	require.Eventually(t, func() bool { return !ready(last.listen) }, 10*time.Second, 50*time.Millisecond, "one of three is no majority")
	second.start(t, w.URL)
	require.Eventually(t, func() bool { return ready(last.listen) }, 10*time.Second, 50*time.Millisecond)
	first.start(t, w.URL)
	signsIn(t, w)
}

// TestThreeNodesGoOnWhenOneIsLost signs people in behind a balancer without stickiness, so that each request may reach another
// node, and kills, freezes and cuts off the node that leads, again and again: people go on signing in, whoever was signed in still
// is, no answer is taken twice, changes that were acknowledged are there, and the journal's chain is whole.
func TestThreeNodesGoOnWhenOneIsLost(t *testing.T) {
	w, all := three(t, places(t))
	found(t, w, all)
	copied(t, w, all)
	k := &kept{changes: map[string]int{}, nodes: true}
	for _, h := range harms {
		if h.name == "cut off" && all[0].place.name == "" {
			continue
		}
		lost(t, w, all, k, h)
		if t.Failed() {
			return
		}
	}
	stopped(t, w, all)
	require.EventuallyWithT(t, func(c *assert.CollectT) { // who came back last may cause one more election
		verdict, err := w.Client().VerifyJournal(t.Context(), "")
		require.NoError(c, err)
		assert.True(c, verdict.Whole, "%+v", verdict)
		list, err := w.Client().Nodes(t.Context())
		require.NoError(c, err)
		assert.Len(c, list.Nodes, 3)
	}, testbed.Patience, 100*time.Millisecond)
	t.Logf("%d sign-ins and %d changes were acknowledged, %d failed", k.signIns.Load(), k.changed(), k.failed.Load())
}

// lost harms the node that leads, as often as that is done, and looks at everything that was acknowledged.
func lost(t *testing.T, w *demo.World, all []*node, k *kept, h harm) {
	t.Helper()
	var waits []time.Duration
	for round := range rounds(t, h.rounds) {
		ctx, stop := context.WithCancel(t.Context())
		var load sync.WaitGroup
		for range 2 {
			load.Go(func() { k.signIn(ctx, w) })
		}
		load.Go(func() { k.change(ctx, w, "crew-rota") })
		time.Sleep(time.Duration(200+rand.IntN(500)) * time.Millisecond) // it is lost anywhere
		gone := leader(t, w, all)
		h.hurt(t, gone, w)
		waits = append(waits, signsIn(t, w))
		stop()
		load.Wait()
		k.holds(t, w, round)
		h.heal(t, gone, w)
		if t.Failed() {
			t.Logf("after a node was %s", h.name)
			return
		}
	}
	slices.Sort(waits)
	t.Logf("until the next sign-in after a node was %s it took %s in the median, %s at most", h.name, waits[len(waits)/2],
		waits[len(waits)-1])
	if os.Getenv("INNERGATE_SOAK") != "" && h.name == "killed" { // beside other tests, elections take as long as these let them
		assert.Less(t, waits[len(waits)/2], 2*time.Second)
	}
}

// found finds the traces of all nodes from each of them, and is told which node did not answer.
func found(t *testing.T, w *demo.World, all []*node) {
	t.Helper()
	keepers := map[string]bool{}
	for began := time.Now(); len(keepers) < 3 && time.Since(began) < 30*time.Second; {
		signsIn(t, w)
		b := w.Walker()
		b.Provider = "saltmere-staff"
		if b.SignIn(t.Context(), w.LedgerURL+"/sign-in", "mvoss") != nil { // its tokens may be fetched at another node
			continue // an election came between
		}
		for range rand.IntN(3) { // so that the next one begins, and ends, elsewhere
			ready(strings.TrimPrefix(w.URL, "http://"))
		}
		list, err := w.Client().Traces(t.Context(), client.Page{Limit: 2})
		if err != nil {
			continue
		}
		for _, one := range list.Items {
			keepers[one.Node] = true
		}
	}
	assert.Len(t, keepers, 3, "each keeps some: %v", keepers)
	require.Eventually(t, func() bool {
		list, err := w.Client().Traces(t.Context(), client.Page{Limit: 1, Filters: map[string]string{"outcome": "waiting"}})
		return err == nil && len(list.Items) == 0
	}, testbed.Patience, 50*time.Millisecond, "each application came for its tokens, wherever")
	list, err := w.Client().Traces(t.Context(), client.Page{Limit: 12, Filters: map[string]string{"outcome": "signed-in"}})
	require.NoError(t, err)
	for _, one := range list.Items {
		for _, n := range all {
			got, err := client.New("http://"+n.listen, w.Token).Trace(t.Context(), one.Reference)
			require.NoError(t, err, "%s at %s", one.Reference, n.address)
			assert.Equal(t, one.Node, got.Node)
			assert.NotEmpty(t, got.Entries)
		}
	}
	toldOfAccounts(t, all, w.Token)
	silent := all[2]
	require.NoError(t, silent.cmd.Process.Signal(syscall.SIGSTOP))
	at := client.New("http://"+all[0].listen, w.Token)
	require.Eventually(t, func() bool { // it may have led
		list, err := at.Traces(t.Context(), client.Page{Limit: 100})
		return err == nil && len(list.Items) > 0 && slices.Equal(list.Silent, []string{silent.address})
	}, 20*time.Second, 100*time.Millisecond)
	seen, err := at.Nodes(t.Context())
	require.NoError(t, err)
	var codes []string
	for _, f := range seen.Findings {
		codes = append(codes, f.Code)
	}
	assert.Contains(t, codes, "node.silent")
	require.NoError(t, silent.cmd.Process.Signal(syscall.SIGCONT))
	require.Eventually(t, func() bool {
		seen, err := at.Nodes(t.Context())
		return err == nil && len(seen.Findings) == 0
	}, 30*time.Second, 200*time.Millisecond, "all is well again")
}

// toldOfAccounts reads what was sent about an account from each node, whichever it was that sent.
func toldOfAccounts(t *testing.T, all []*node, token string) {
	t.Helper()
	var first []api.AccountTalk
	for _, n := range all {
		at := client.New("http://"+n.listen, token)
		var got *api.AccountDetail
		require.Eventually(t, func() bool { // an election may come between, or a node answer late
			list, err := at.AccountList(t.Context(), "cargo-ledger", client.Page{Filters: map[string]string{"state": "step"}})
			if err != nil || len(list.Items) == 0 {
				return false
			}
			got, err = at.Account(t.Context(), "cargo-ledger", list.Items[0].ID)
			return err == nil && len(got.Silent) == 0
		}, testbed.Patience, 100*time.Millisecond, "at %s", n.address)
		require.NotEmpty(t, got.Talks, "at %s", n.address)
		if first == nil {
			first = got.Talks
		}
		assert.Equal(t, first, got.Talks, "at %s", n.address)
	}
}

// copied copies the records of the nodes by the command line, and brings them back as those of a gate alone.
func copied(t *testing.T, w *demo.World, all []*node) {
	t.Helper()
	t.Setenv("INNERGATE_URL", w.URL)
	t.Setenv("INNERGATE_TOKEN", w.Token)
	copied := filepath.Join(t.TempDir(), "copy.db")
	said, err := run(t, "", "backup", copied, "--data", all[1].folder)
	require.NoError(t, err, said)
	assert.Contains(t, said, "4 applications, 6 providers and 3 people")
	folder := filepath.Join(t.TempDir(), "back")
	said, err = run(t, "", "restore", copied, "--data", folder)
	require.NoError(t, err, said)
	master, err := store.MasterKeys("", filepath.Join(all[0].folder, "master.key"), false)
	require.NoError(t, err)
	sealer, err := store.NewSealer(master[0])
	require.NoError(t, err)
	s, err := store.Open(folder, sealer)
	require.NoError(t, err)
	defer s.Close()
	var people int64
	require.NoError(t, s.Read(t.Context()).Model(&store.Person{}).Count(&people).Error)
	assert.EqualValues(t, 3, people)
}

// TestRateOfThreeNodes tells how many people can sign in with the three nodes, their partners and the load on one machine; none may
// fail.
func TestRateOfThreeNodes(t *testing.T) {
	if os.Getenv("INNERGATE_SOAK") == "" {
		t.Skip("it says something on a machine that does nothing else")
	}
	w, _ := three(t, here())
	signsIn(t, w)
	var mu sync.Mutex
	var took []time.Duration
	var wait sync.WaitGroup
	const lasts = 15 * time.Second
	until := time.Now().Add(lasts)
	for range 6 {
		wait.Go(func() {
			for time.Now().Before(until) {
				began, b := time.Now(), w.Walker()
				if err := b.SignIn(t.Context(), w.RotaURL+"/sign-in", "mvoss"); err != nil || b.Inner("nameid") != "mvoss" {
					t.Errorf("%v %s", err, b.Text)
					return
				}
				mu.Lock()
				took = append(took, time.Since(began))
				mu.Unlock()
			}
		})
	}
	wait.Wait()
	slices.Sort(took)
	t.Logf("%.1f sign-ins a second; p50 %s, p99 %s", float64(len(took))/lasts.Seconds(), took[len(took)/2], took[len(took)*99/100])
}

// TestTheWalkOnThreeNodes walks all of the demo on three nodes, and kills the one that leads in the middle of it.
func TestTheWalkOnThreeNodes(t *testing.T) {
	w, all := three(t, here())
	out := &steps{each: func(line string) {
		if strings.Contains(line, "rehearsal begun at the gate") {
			leader(t, w, all).kill(t)
			signsIn(t, w)
		}
	}}
	err := demo.Check(t.Context(), w, &standin.Recorder{}, out)
	require.NoError(t, err, out.text.String())
	down := 0
	for _, n := range all {
		if n.down.Load() {
			down++
		}
	}
	assert.Equal(t, 1, down, out.text.String())
}

// steps is told of each line.
type steps struct {
	text strings.Builder
	each func(string)
}

func (s *steps) Write(line []byte) (int, error) {
	s.each(string(line))
	return s.text.Write(line)
}
