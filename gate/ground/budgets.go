package ground

import (
	"sync"
	"time"
)

// Budgets counts what strangers ask for: by a key such as a network, within windows of time. What is counted lies in
// memory, and takes no more than a fixed amount of it, however many keys somebody makes up.
type Budgets struct {
	mu      sync.Mutex
	windows map[string]window
}

type window struct {
	ends  time.Time
	count int
}

// maxWindows is how many keys are counted at once.
const maxWindows = 50_000

// Take counts one more under a key, and says whether it is within the limit for the time. Where more keys came than can
// be counted, a new one has no room.
func (b *Budgets) Take(key string, limit int, per time.Duration, now time.Time) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.windows == nil {
		b.windows = map[string]window{}
	}
	w, known := b.windows[key]
	if !known && len(b.windows) >= maxWindows {
		for k, old := range b.windows {
			if !now.Before(old.ends) {
				delete(b.windows, k)
			}
		}
		if len(b.windows) >= maxWindows {
			return false
		}
	}
	if !known || !now.Before(w.ends) {
		w = window{ends: now.Add(per)}
	}
	w.count++
	b.windows[key] = w
	return w.count <= limit
}
