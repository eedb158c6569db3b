package messages

import (
	"context"
	"time"

	"gorm.io/gorm"

	"innergate/core/explain"
	"innergate/core/keys"
	"innergate/store"
)

const (
	arrivalLife       = 2 * time.Minute
	arrivalsByAddress = 200
	arrivalsInAll     = 5000
	arrivalBytesInAll = 128 << 20
)

// KeepArrival stores what another site had the browser post, and returns the handle under which the browser's next,
// same-site request finds it: only that one carries our cookies.
func (g *Room) KeepArrival(ctx context.Context, address, place, param, value, relay string) (string, error) {
	handle := keys.NewSecret()
	now := g.Now().UTC()
	a := store.Arrival{Handle: handle, Address: address, Place: place, Param: param, Value: []byte(value), Relay: relay, CreatedAt: now}
	return handle, g.Store.Write(ctx, func(tx *gorm.DB) error {
		var mine int64
		var all struct{ Count, Bytes int64 }
		if err := tx.Raw("SELECT count(*) FROM (SELECT 1 FROM arrivals WHERE address = ? LIMIT ?)", address,
			arrivalsByAddress).Scan(&mine).Error; err != nil {
			return err
		}
		if err := tx.Raw("SELECT count(*) AS count, coalesce(sum(length(value)), 0) AS bytes FROM arrivals").Scan(&all).Error; err != nil {
			return err
		}
		if mine >= arrivalsByAddress || all.Count >= arrivalsInAll || all.Bytes+int64(len(value)) > arrivalBytesInAll {
			return explain.New(explain.GateBusy, explain.Fact("address", address))
		}
		return tx.Create(&a).Error
	})
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
