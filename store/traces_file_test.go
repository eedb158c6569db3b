package store_test

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate/store"
)

// TestTracesAreWrittenTogether hands in many traces while one is written: they are few transactions, each is there when its
// writer is told so, and one that fails takes back nothing but itself.
func TestTracesAreWrittenTogether(t *testing.T) {
	s, ctx := open(t, t.TempDir()), context.Background()
	trace := func(id string) *store.Trace { return &store.Trace{ID: id, Reference: id, StartedAt: time.Now()} }
	there := func(id string) bool {
		var n int64
		assert.NoError(t, s.Traces.Read(ctx).Model(&store.Trace{}).Where("id = ?", id).Count(&n).Error)
		return n == 1
	}
	// Somebody writes; meanwhile the others gather.
	going, gathered := make(chan struct{}), make(chan struct{})
	var all sync.WaitGroup
	all.Go(func() {
		assert.NoError(t, s.Traces.Write(ctx, func(tx *gorm.DB) error {
			close(going)
			<-gathered
			return tx.Create(trace("first")).Error
		}))
	})
	<-going
	before := s.Traces.Commits()
	refused := errors.New("made by the test")
	var handed atomic.Int64
	for i := range 100 {
		all.Go(func() {
			handed.Add(1)
			id := fmt.Sprint("one-", i)
			err := s.Traces.Write(ctx, func(tx *gorm.DB) error {
				if err := tx.Create(trace(id)).Error; err != nil {
					return err
				}
				switch i % 10 {
				case 3:
					return refused
				case 7:
					panic("made by the test")
				}
				return nil
			})
			switch i % 10 {
			case 3:
				assert.ErrorIs(t, err, refused)
				assert.False(t, there(id))
			case 7:
				assert.ErrorContains(t, err, "panicked")
				assert.False(t, there(id))
			default:
				assert.NoError(t, err)
				assert.True(t, there(id), "what is acknowledged is there")
			}
		})
	}
	require.Eventually(t, func() bool { return handed.Load() == 100 }, 5*time.Second, time.Millisecond)
	close(gathered)
	all.Wait()
	assert.Less(t, s.Traces.Commits()-before, int64(60), "many together")
	// One that hits what is there already fails alone.
	assert.ErrorIs(t, s.Traces.Write(ctx, func(tx *gorm.DB) error { return tx.Create(trace("first")).Error }), store.ErrDuplicate)
	gone, leave := context.WithCancel(ctx)
	leave()
	s.Close()
	assert.ErrorContains(t, s.Traces.Write(gone, func(*gorm.DB) error { return nil }), "closed")
}
