package ground

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"innergate/core/access"
	"innergate/core/config"
	"innergate/core/people"
)

// cache holds parsed configuration for one generation of the store.
type cache struct {
	Generation string
	Apps       sync.Map // slug or "entity:"+ID → *application
	Providers  sync.Map
	Keys       sync.Map // purpose → *ring
	Confirmed  sync.Map // provider ID → whether it gives roles at the gate itself
	People     atomic.Pointer[people.Settings]
	Sessions   atomic.Pointer[config.Sessions]
	Pages      atomic.Pointer[config.Pages]
	Routes     atomic.Pointer[access.Routes]
	Moves      atomic.Value                    // map[string]*activeMove, by application ID
	Origins    atomic.Pointer[map[string]bool] // where registered pages lie, once somebody has asked
}

// look is what one call has seen of the configuration. A call asks whether it changed once, and again where this
// process wrote something or the call takes long.
type look struct {
	cache   *cache
	commits int64
	at      time.Time
	shared  bool // with other calls
}

type lookKey struct{}

// LookLife is how long a call may go on with what it has seen of the configuration.
const LookLife = 5 * time.Millisecond

// OneLook gives a call a context of its own in which the configuration is looked at once. It must not be shared between
// goroutines.
func OneLook(ctx context.Context) context.Context { return context.WithValue(ctx, lookKey{}, &look{}) }

// RecentLook is OneLook that begins with what another such call has just seen, as long as this process has written
// nothing since. It is for calls that come by the thousand: what another process writes is seen some milliseconds
// later.
func (g *Ground) RecentLook(ctx context.Context) context.Context {
	mine := &look{shared: true}
	if last := g.lastLook.Load(); last != nil {
		*mine = *last
	}
	return context.WithValue(ctx, lookKey{}, mine)
}

// Cache is the parsed configuration of the store's present generation.
func (g *Ground) Cache(ctx context.Context) (*cache, error) {
	look, _ := ctx.Value(lookKey{}).(*look)
	commits := g.Store.Commits()
	if look != nil && look.cache != nil && look.commits == commits && time.Since(look.at) < LookLife {
		return look.cache, nil
	}
	at := time.Now()
	c, err := g.cacheNow(ctx)
	if look != nil && err == nil {
		look.cache, look.commits, look.at = c, commits, at
		if look.shared {
			seen := *look
			g.lastLook.Store(&seen)
		}
	}
	return c, err
}

func (g *Ground) cacheNow(ctx context.Context) (*cache, error) {
	generation, err := g.Store.Generation(ctx)
	if err != nil {
		return nil, err
	}
	if c := g.cached.Load(); c != nil && c.Generation == generation {
		return c, nil
	}
	c := &cache{Generation: generation}
	g.cached.Store(c)
	return c, nil
}
