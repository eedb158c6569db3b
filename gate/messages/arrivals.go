package messages

import (
	"context"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate/core/address"
	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/store"
)

const (
	arrivalLife       = 2 * time.Minute
	arrivalsByNetwork = 200
	arrivalsInAll     = 5000
	arrivalBytesInAll = 128 << 20
	arrivalsBySignIn  = 5
)

// KeepArrival stores what another site had the browser post, and returns the handle under which the browser's next,
// same-site request finds it: only that one carries our cookies. An answer that comes for a sign-in in flight, which its
// RelayState names and nobody can guess, has room of its own; whatever strangers post, it is taken. What comes for a
// provider that is not there is refused before anything is stored.
func (g *Room) KeepArrival(ctx context.Context, from, place, param, value, relay string) (string, error) {
	if err := g.known(ctx, place); err != nil {
		return "", err
	}
	handle := keys.NewSecret()
	now := g.Now().UTC()
	a := store.Arrival{Handle: handle, Address: from, Network: address.Network(from), Place: place, Param: param, Value: []byte(value),
		Relay: relay, CreatedAt: now}
	return handle, g.Store.Write(ctx, func(tx *gorm.DB) error {
		var err error
		if a.Awaited, err = awaited(tx, relay, now); err != nil {
			return err
		}
		if !a.Awaited {
			err = roomForStranger(tx, &a, now)
		}
		if err != nil {
			return err
		}
		return tx.Create(&a).Error
	})
}

// known refuses an address of ours at which no provider could answer.
func (g *Room) known(ctx context.Context, place string) error {
	slug, ok := strings.CutPrefix(place, "acs/")
	if !ok {
		return nil
	}
	_, err := g.partners.SAMLProviderAt(ctx, slug)
	return err
}

// awaited says whether an answer names a sign-in in flight for which not too many came already.
func awaited(tx *gorm.DB, relay string, now time.Time) (bool, error) {
	if len(relay) != len(store.NewID()) {
		return false, nil
	}
	var open, came int64
	if err := tx.Raw("SELECT count(*) FROM sign_ins WHERE id = ? AND finished_at IS NULL AND expires_at > ?", relay,
		now).Scan(&open).Error; err != nil || open == 0 {
		return false, err
	}
	err := tx.Raw("SELECT count(*) FROM arrivals WHERE relay = ? AND awaited AND created_at > ?", relay,
		now.Add(-arrivalLife)).Scan(&came).Error
	return came < arrivalsBySignIn, err
}

// roomForStranger refuses what nobody waits for, where much of that is there already. What is past its time counts no
// more, whether or not it was tidied away.
func roomForStranger(tx *gorm.DB, a *store.Arrival, now time.Time) error {
	since := now.Add(-arrivalLife)
	var mine int64
	if err := tx.Raw("SELECT count(*) FROM (SELECT 1 FROM arrivals WHERE network = ? AND NOT awaited AND created_at > ? LIMIT ?)",
		a.Network,
		since, arrivalsByNetwork).Scan(&mine).Error; err != nil {
		return err
	}
	var all struct{ Count, Bytes int64 }
	if err := tx.Raw("SELECT count(*) AS count, coalesce(sum(length(value)), 0) AS bytes FROM arrivals WHERE NOT awaited AND "+
		"created_at > ?",
		since).Scan(&all).Error; err != nil {
		return err
	}
	if mine >= arrivalsByNetwork || all.Count >= arrivalsInAll || all.Bytes+int64(len(a.Value)) > arrivalBytesInAll {
		return explain.New(explain.GateBusy, explain.Fact("address", a.Address))
	}
	return nil
}

// TakeArrival uses a handle up.
func (g *Room) TakeArrival(ctx context.Context, handle, place string) (*store.Arrival, error) {
	var rows []store.Arrival
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Raw("DELETE FROM arrivals WHERE handle = ? AND place = ? RETURNING *", handle, place).Scan(&rows).Error
	})
	if err != nil {
		return nil, err
	}
	if len(rows) == 0 || g.Now().Sub(rows[0].CreatedAt) > arrivalLife {
		return nil, explain.New(explain.BrowserFinished)
	}
	return &rows[0], nil
}
