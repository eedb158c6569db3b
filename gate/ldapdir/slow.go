package ldapdir

import (
	"context"
	"sync/atomic"
	"time"
)

const (
	// slowestAtFirst is how long a wrong password takes at least before it is known how long the directory takes for one.
	slowestAtFirst = 150 * time.Millisecond
	slowestAtMost  = 2 * time.Second
)

// slowest is how long a wrong password takes at a directory, so that a name that nobody has takes as long.
type slowest struct{ nanos atomic.Int64 }

// wait waits until a refusal has taken as long as the slowest one of late. Known ones tell how long that is.
func (s *slowest) wait(ctx context.Context, began time.Time, known bool) {
	took := time.Since(began)
	if known {
		for {
			held := s.nanos.Load()
			if int64(took) <= held || s.nanos.CompareAndSwap(held, int64(min(took, slowestAtMost))) {
				break
			}
		}
	}
	least := max(slowestAtFirst, time.Duration(s.nanos.Load()))
	if took >= least {
		return
	}
	select {
	case <-time.After(least - took):
	case <-ctx.Done():
	}
}
