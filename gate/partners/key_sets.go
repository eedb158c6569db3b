package partners

import (
	"context"
	"sync"
	"time"

	"innergate/core/explain"
	"innergate/core/jose"
	"innergate/gate/fetch"
)

const (
	// keySetLife is how long a key set is used without looking again; keySetStale how long where it can't be fetched.
	keySetLife  = time.Hour
	keySetStale = 24 * time.Hour
	// keySetPause is how long after a fetch the same set is not fetched again, whatever a token names.
	keySetPause = 15 * time.Second
	// BackTimeout is how long a call of the back channel may take.
	BackTimeout = 10 * time.Second
)

// keySets are the key sets of partners, by address.
type keySets struct {
	sync.Mutex
	held map[string]*heldKeys
}

type heldKeys struct {
	sync.Mutex
	set     *jose.KeySet
	at      time.Time // of the set
	tried   time.Time
	failure error
}

func (k *keySets) at(address string) *heldKeys {
	k.Lock()
	defer k.Unlock()
	if k.held == nil || len(k.held) > 10000 {
		k.held = map[string]*heldKeys{}
	}
	h := k.held[address]
	if h == nil {
		h = &heldKeys{}
		k.held[address] = h
	}
	return h
}

// KeySet gives the key set at an address, fetched at most every hour; again asks for a newer one, since a token names a
// key that is not in it. Only sign-ins through the same partner wait for a fetch. Fetched says whether one was made.
func (g *Room) KeySet(ctx context.Context, address string, again bool) (set jose.KeySet, fetched bool, err error) {
	h := g.keySets.at(address)
	h.Lock()
	defer h.Unlock()
	now := g.Now()
	age := now.Sub(h.at)
	if h.set != nil && age < keySetLife && (!again || now.Sub(h.tried) < keySetPause) {
		return *h.set, false, nil
	}
	if h.set == nil && h.failure != nil && now.Sub(h.tried) < 5*time.Second {
		return jose.KeySet{}, false, h.failure
	}
	h.tried = now
	got, err := g.Fetch.Do(
		ctx,
		fetch.Want{
			URL:      address,
			MaxBytes: jose.MaxKeySet,
			Timeout:  BackTimeout,
			Header:   map[string]string{"Accept": "application/jwk-set+json, application/json"},
		},
	)
	if err == nil {
		var read *jose.KeySet
		if read, err = jose.ReadKeySet(got.Body); err == nil {
			h.set, h.at, h.failure = read, now, nil
			return *read, true, nil
		}
	} else {
		err = explain.New(explain.OIDCKeysUnreachable, explain.Fact("reason", err.Error()), explain.Fact("address", address))
	}
	h.failure = err
	if h.set != nil && age < keySetStale {
		return *h.set, true, nil
	}
	return jose.KeySet{}, true, err
}
