//go:build nodes

package nodes_test

import (
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net"
	"path/filepath"
	"testing"
	"time"

	engine "github.com/canonical/go-dqlite/driver"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/nodes"
	"innergate/store"
	"innergate/testbed"
)

// some are a number of nodes that keep records together, each with its store.
func some(t *testing.T, count int) ([]*nodes.Node, []*store.Store) {
	t.Helper()
	a, err := nodes.NewAuthority(time.Now())
	require.NoError(t, err)
	sealer, err := store.NewSealer(store.NewMasterKey())
	require.NoError(t, err)
	var all []*nodes.Node
	var stores []*store.Store
	first := testbed.FreeAddress(t)
	for i := range count {
		identity, err := a.NewIdentity(time.Now())
		require.NoError(t, err)
		folder := t.TempDir()
		o := nodes.Options{Data: folder, Address: first, Identity: identity}
		if i > 0 {
			o.Address, o.Others = testbed.FreeAddress(t), []string{first}
		}
		n, err := nodes.Start(t.Context(), o)
		require.NoError(t, err)
		t.Cleanup(func() { n.Close() })
		s, err := store.OpenOn(folder, sealer, n, false)
		require.NoError(t, err)
		t.Cleanup(s.Close)
		all, stores = append(all, n), append(stores, s)
	}
	return all, stores
}

// TestRecordsAreTheSameOnAllNodes writes on each of three nodes, and reads on each.
func TestRecordsAreTheSameOnAllNodes(t *testing.T) {
	all, stores := some(t, 3)
	for i, s := range stores {
		require.NoError(t, s.Write(t.Context(), func(tx *gorm.DB) error {
			return tx.Create(&store.Person{ID: fmt.Sprint("01P", i), Name: "Ivo", CreatedAt: time.Now().UTC()}).Error
		}))
	}
	for _, s := range stores {
		var n int64
		require.NoError(t, s.Read(t.Context()).Model(&store.Person{}).Count(&n).Error)
		assert.EqualValues(t, 3, n)
	}
	// What is there already is refused in the store's own words.
	err := stores[1].Write(t.Context(), func(tx *gorm.DB) error { return tx.Create(&store.Person{ID: "01P0"}).Error })
	assert.ErrorIs(t, err, store.ErrDuplicate)
	members, err := all[2].Members(t.Context())
	require.NoError(t, err)
	require.Len(t, members, 3)
	leads := 0
	for _, m := range members {
		if m.Leads {
			leads++
		}
	}
	assert.Equal(t, 1, leads)
	// Each has traces of its own.
	require.NoError(t, stores[0].Traces.Write(t.Context(), func(tx *gorm.DB) error { return tx.Create(&store.Trace{ID: "a"}).Error }))
	var n int64
	require.NoError(t, stores[1].Traces.Read(t.Context()).Model(&store.Trace{}).Count(&n).Error)
	assert.Zero(t, n)
	assert.FileExists(t, filepath.Join(stores[1].Folder, store.TracesFileName))
}

// TestStatementsOfAnySize sends more values than the engine takes, with everything that could be mistaken for a place.
func TestStatementsOfAnySize(t *testing.T) {
	_, stores := some(t, 1)
	s := stores[0]
	var ids []string
	require.NoError(t, s.Write(t.Context(), func(tx *gorm.DB) error {
		var people []store.Person
		for i := range 60 {
			id := fmt.Sprintf("01Q'?\"%d", i)
			ids = append(ids, id)
			people = append(people, store.Person{ID: id, Name: "a ? b -- ' é", CreatedAt: time.Now().UTC()})
		}
		return tx.Create(&people).Error
	}))
	for i := range 400 {
		ids = append(ids, fmt.Sprint("none-", i))
	}
	var rows []store.Person
	require.NoError(t, s.Read(t.Context()).Where("id IN ? /* ? */ AND name <> '?'", ids).Find(&rows).Error)
	require.Len(t, rows, 60)
	assert.Equal(t, "a ? b -- ' é", rows[7].Name)
	assert.False(t, rows[7].CreatedAt.IsZero())
	// What is nothing in a file is nothing here.
	var none int64
	require.NoError(t, s.Write(t.Context(), func(tx *gorm.DB) error { return tx.Create(&store.Rehearsal{ID: "r"}).Error }))
	require.NoError(t, s.Read(t.Context()).Model(&store.Rehearsal{}).Where("browser_hash IS NULL").Count(&none).Error)
	assert.EqualValues(t, 1, none)
	// What would end the leader is refused before it gets there.
	err := s.Read(t.Context()).Raw("DELETE FROM people WHERE id = ? RETURNING id", ids[0]).Scan(new([]string)).Error
	assert.ErrorContains(t, err, "must be in a transaction")
	var gone []string
	require.NoError(t, s.Write(t.Context(), func(tx *gorm.DB) error {
		return tx.Raw("DELETE FROM people WHERE id = ? RETURNING id", ids[0]).Scan(&gone).Error
	}))
	assert.Equal(t, ids[:1], gone)
	err = s.Write(t.Context(), func(tx *gorm.DB) error { return tx.Create(&store.Person{ID: "z", Name: "a\x00b"}).Error })
	assert.ErrorContains(t, err, "zero octet", "it would be cut off there")
}

// TestAnotherNodeTakesTheLead passes the lead on, and has the leader leave: the others go on.
func TestAnotherNodeTakesTheLead(t *testing.T) {
	all, stores := some(t, 3)
	leader := func(but int) int {
		found := -1
		require.Eventually(t, func() bool {
			for i, n := range all {
				if i != but && n.Leads(t.Context()) {
					found = i
					return true
				}
			}
			return false
		}, 10*time.Second, 20*time.Millisecond)
		return found
	}
	write := func(i int, id string) error {
		return stores[i].Write(t.Context(), func(tx *gorm.DB) error { return tx.Create(&store.Person{ID: id}).Error })
	}
	first := leader(-1)
	require.NoError(t, write(first, "before"))
	begin := time.Now()
	require.NoError(t, all[first].Relieve(t.Context()))
	second := leader(first)
	assert.NotEqual(t, first, second)
	var err error
	require.Eventually(t, func() bool { err = write(first, "after"); return err == nil }, 5*time.Second, 10*time.Millisecond, "%v", err)
	t.Logf("writing again %s after the lead was passed on", time.Since(begin))
	require.NoError(t, all[second].Close())
	begin = time.Now()
	i := (second + 1) % 3
	require.Eventually(t, func() bool { err = write(i, "later"); return err == nil }, 10*time.Second, 10*time.Millisecond, "%v", err)
	t.Logf("writing again %s after the leader went", time.Since(begin))
	for _, id := range []string{"before", "after", "later"} {
		var n int64
		require.NoError(t, stores[i].Read(t.Context()).Model(&store.Person{}).Where("id = ?", id).Count(&n).Error)
		assert.EqualValues(t, 1, n, id)
	}
}

// TestWhatIsNoAnswer tells errors of a lost connection, as the engine wraps them, from its answers and from our own.
func TestWhatIsNoAnswer(t *testing.T) {
	t.Parallel()
	n := &nodes.Node{}
	for _, err := range []error{fmt.Errorf("call query-sql: header: %w", net.ErrClosed), nodes.ErrUnknown,
		fmt.Errorf("the step failed: %w", driver.ErrBadConn), fmt.Errorf("connect: %w", engine.ErrNoAvailableLeader),
		&net.OpError{Op: "dial", Err: errors.New("no route to host")}, fmt.Errorf("EOF: %w", io.EOF)} {
		assert.True(t, n.Lost(err), "%v", err)
	}
	for _, err := range []error{nil, engine.Error{Code: 13, Message: "full"}, errors.New("the database was written by a newer Inner Gate")} {
		assert.False(t, n.Lost(err), "%v", err)
	}
}
