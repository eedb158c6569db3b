package accounts

import (
	"context"
	"errors"
	"sync"
	"time"

	"gorm.io/gorm"

	"innergate/core/explain"
	"innergate/core/people"
	"innergate/gate/partners"
	"innergate/store"
)

const (
	// leaseFor is how long a process that sends is believed to be alive since it last said so.
	leaseFor = 10 * time.Second
	// lookEvery is how often it is looked whether something is to be done, besides what this process changes itself.
	lookEvery = time.Second
)

// Always works out what changed and sends it, application by application, until the context ends. One application never waits for
// another.
func (g *Room) Always(ctx context.Context) {
	running := map[string]bool{}
	var mu sync.Mutex
	var all sync.WaitGroup
	defer all.Wait()
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for ctx.Err() == nil {
		if err := g.workOutAll(ctx); err != nil && ctx.Err() == nil {
			g.Log.ErrorContext(ctx, "what changed of accounts could not be worked out", "error", err)
		}
		apps, err := g.sendable(ctx)
		if err != nil && ctx.Err() == nil {
			g.Log.ErrorContext(ctx, "which accounts are to be sent could not be read", "error", err)
		}
		for _, app := range apps {
			mu.Lock()
			busy := running[app.ID]
			running[app.ID] = true
			mu.Unlock()
			if busy {
				continue
			}
			all.Go(func() {
				defer func() {
					mu.Lock()
					defer mu.Unlock()
					delete(running, app.ID)
				}()
				if err := g.Pump(ctx, app.ID); err != nil && ctx.Err() == nil {
					g.Log.ErrorContext(ctx, "accounts could not be sent", "application", app.Slug, "error", err)
				}
			})
		}
		select {
		case <-g.wake:
		case <-tick.C:
		case <-ctx.Done():
		}
	}
}

func (g *Room) workOutAll(ctx context.Context) error {
	for ctx.Err() == nil {
		more, err := g.WorkOut(ctx)
		if err != nil || !more {
			return err
		}
	}
	return ctx.Err()
}

// sendable are the applications to which something is to be sent now.
func (g *Room) sendable(ctx context.Context) ([]*partners.Application, error) {
	apps, err := g.switched(ctx)
	if err != nil {
		return nil, err
	}
	now := g.Now().UTC()
	var out []*partners.Application
	for _, app := range apps {
		if !app.Accounts.On {
			continue
		}
		var due bool
		if err := g.Store.Row(ctx, "SELECT EXISTS (SELECT 1 FROM kept_accounts WHERE application_id = ? AND state IN ('due', 'again') AND "+
			"next_at <= ?) AND EXISTS (SELECT 1 FROM account_pumps WHERE application_id = ? AND compared_at IS NOT NULL AND "+
			"(paused_until IS NULL OR paused_until <= ?))", app.ID, now, app.ID, now).Scan(&due); err != nil {
			return nil, store.Clear(err)
		}
		if due {
			out = append(out, app)
		}
	}
	return out, nil
}

// hold has this process be the one that sends to an application; false where another one does.
func (g *Room) hold(ctx context.Context, applicationID string) (bool, error) {
	var mine bool
	err := g.Store.Write(ctx, func(tx *gorm.DB) error {
		now := time.Now().UTC() // between processes, whatever clock a test sets
		n, err := store.Exec(tx, "UPDATE account_pumps SET holder = ?, until = ? WHERE application_id = ? AND (holder = ? OR until < ?)",
			g.holder, now.Add(leaseFor), applicationID, g.holder, now)
		mine = n > 0
		return err
	})
	return mine, err
}

// free lets another process send at once.
func (g *Room) free(ctx context.Context, applicationID string) {
	if err := g.Store.Write(context.WithoutCancel(ctx), func(tx *gorm.DB) error {
		return tx.Exec("UPDATE account_pumps SET until = ? WHERE application_id = ? AND holder = ?", time.Time{}, applicationID,
			g.holder).Error
	}); err != nil {
		g.Log.WarnContext(ctx, "who sends accounts could not be written down", "error", err)
	}
}

// Pump sends what is due at an application until nothing is.
func (g *Room) Pump(ctx context.Context, applicationID string) error {
	mine, err := g.hold(ctx, applicationID)
	if err != nil || !mine {
		return err
	}
	defer g.free(ctx, applicationID)
	work, stop := context.WithCancel(ctx)
	defer stop()
	go g.keepHolding(work, stop, applicationID)
	for work.Err() == nil {
		app, err := g.partners.ApplicationByID(work, applicationID)
		if err != nil || app.Accounts == nil || !app.Accounts.On {
			return err
		}
		anew, err := g.newSender(app).run(work)
		if err != nil || !anew {
			return err
		}
	}
	return ctx.Err()
}

// keepHolding says from time to time that this process is alive, and ends the work where it could not.
func (g *Room) keepHolding(ctx context.Context, stop func(), applicationID string) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(leaseFor / 3):
		}
		limited, done := context.WithTimeout(ctx, leaseFor/2)
		mine, err := g.hold(limited, applicationID)
		done()
		if ctx.Err() == nil && (err != nil || !mine) {
			stop()
			return
		}
	}
}

// learnFirst asks what the application can do before anything is sent to it.
func (g *Room) learnFirst(ctx context.Context, app *partners.Application) (*abilities, error) {
	t, err := g.newTalk(ctx, app, active)
	if err != nil {
		return nil, err
	}
	a, _, err := t.learn(ctx)
	if err != nil {
		return nil, err
	}
	a.Asked = true // it was asked, whatever it said
	if err := g.keepAbilities(ctx, app, a); err != nil {
		return nil, err
	}
	return g.able(ctx, app)
}

// recently is for how long what was taken away counts towards the share that may be gone at once.
const recently = 10 * time.Minute

// heldBack says whether accounts are not taken away for now: since more would be than may be at once, or since a large change is still
// being worked out. Somebody who agreed to it is not asked again about the same.
func (g *Room) heldBack(ctx context.Context, app *partners.Application) (bool, error) {
	var open, pending, gone, there int
	const ours = "(SELECT count(*) FROM kept_accounts WHERE application_id = ? AND kind = 'person' AND "
	if err := g.Store.Row(ctx, "SELECT count(*) FROM kept_accounts INDEXED BY kept_leaving WHERE application_id = ? AND kind = 'person' "+
		"AND "+store.Leaving+" AND NOT agreed", app.ID).Scan(&pending); err != nil {
		return true, store.Clear(err)
	}
	if pending == 0 {
		return false, g.asking(ctx, app, 0)
	}
	err := g.Store.Row(ctx, "SELECT (SELECT count(*) FROM (SELECT 1 FROM account_news WHERE kind IN ('members', 'application', 'rules') "+
		"LIMIT 1)), "+ours+"removed_at > ? AND NOT wanted), "+ours+"there = 'active')", app.ID, g.Now().UTC().Add(-recently),
		app.ID).Scan(&open, &gone, &there)
	if err != nil {
		return true, store.Clear(err)
	}
	if open > 0 {
		return true, nil
	}
	if !people.TooManyGone(pending+gone, there+gone, app.Accounts.GoneShare) {
		return false, g.asking(ctx, app, 0)
	}
	return true, g.asking(ctx, app, pending)
}

// asking notes how many accounts somebody is asked about.
func (g *Room) asking(ctx context.Context, app *partners.Application, n int) error {
	pump, err := store.One[store.AccountPump](g.Store.Read(ctx), "application_id = ?", app.ID)
	if err != nil || pump.Asking == n {
		return err
	}
	return g.Store.Write(ctx, func(tx *gorm.DB) error { return savePump(tx, app.ID, map[string]any{"asking": n}) })
}

// pauses are how long an application is left alone that can't be reached or refuses the gate altogether.
var pauses = []time.Duration{2 * time.Second, 5 * time.Second, 15 * time.Second, 30 * time.Second, time.Minute, 2 * time.Minute,
	5 * time.Minute}

// pause leaves an application alone for some time.
func (g *Room) pause(ctx context.Context, app *partners.Application, why error) error {
	var p *paused
	if !errors.As(why, &p) {
		var f *explain.Failure
		if !errors.As(why, &f) {
			return why
		}
		p = &paused{Failure: f}
	}
	pump, err := store.One[store.AccountPump](g.Store.Read(ctx), "application_id = ?", app.ID)
	if err != nil {
		return err
	}
	wait := max(p.wait, pauses[min(pump.Tries, len(pauses)-1)])
	until := g.Now().UTC().Add(wait)
	return g.Store.Write(context.WithoutCancel(ctx), func(tx *gorm.DB) error {
		return savePump(tx, app.ID, map[string]any{"paused_until": until, "tries": pump.Tries + 1, "code": string(p.Code),
			"reason": p.Explain().Cause})
	})
}
