package accounts

import (
	"context"
	"errors"
	"sync"
	"time"

	"gorm.io/gorm"

	"innergate/gate/partners"
	"innergate/store"
)

// batch sends some accounts, several at the same time, and writes how it went some at a time.
type batch struct {
	*Room
	app    *partners.Application
	able   *abilities
	people map[string]*who
	talk   *talk // what proves who we are, for all of them

	mu      sync.Mutex
	stopped error // why nothing more is sent for now
	done    []*sent
}

// sent is one account that was sent, and what is kept of it.
type sent struct {
	row    *store.KeptAccount
	turn   int64
	retell bool
	talk   *store.AccountTalk
}

// written is how many are written in one transaction, and how long one waits at most.
const (
	written    = 250
	writtenFor = 250 * time.Millisecond
)

// run sends the accounts. What was sent is written before it returns, whatever became of the others.
func (b *batch) run(ctx context.Context, rows []*store.KeptAccount) (err error) {
	if b.talk, err = b.newTalk(ctx, b.app, active); err != nil {
		b.stopped = err
		return b.pause(ctx, b.app, err)
	}
	queue := make(chan *store.KeptAccount, len(rows))
	for _, r := range rows {
		queue <- r
	}
	close(queue)
	var workers sync.WaitGroup
	for range min(b.app.Accounts.AtOnce, len(rows)) {
		workers.Go(func() {
			for row := range queue {
				if ctx.Err() != nil || b.halted() {
					return
				}
				b.one(ctx, row)
			}
		})
	}
	ended := make(chan struct{})
	go func() { workers.Wait(); close(ended) }()
	tick := time.NewTicker(writtenFor)
	defer tick.Stop()
	for {
		select {
		case <-ended:
			if err := b.flush(ctx, 1); err != nil {
				return err
			}
			if b.stopped != nil {
				return b.pause(ctx, b.app, b.stopped)
			}
			return nil
		case <-tick.C:
			if err := b.flush(ctx, 1); err != nil {
				b.halt(err)
				<-ended
				return err
			}
		}
	}
}

func (b *batch) halted() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.stopped != nil
}

func (b *batch) halt(why error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.stopped == nil {
		b.stopped = why
	}
}

// one sends one account.
func (b *batch) one(ctx context.Context, row *store.KeptAccount) {
	what, turn := row.Would, row.Turn
	t := b.talk.again()
	s := &sending{talk: t, able: b.able, row: row, who: b.people[row.WhoID]}
	var err error
	if row.Kind == OfGroup {
		err = s.sendGroup(ctx)
	} else {
		err = s.send(ctx)
	}
	if ctx.Err() != nil {
		return // it is not known how it went; it is looked up when it is sent again
	}
	var stop *paused
	if errors.As(err, &stop) {
		b.halt(err)
		return
	}
	done := &sent{row: row, turn: turn, retell: s.retell, talk: t.record(row.ID, what, s.result, s.failed)}
	b.mu.Lock()
	b.done = append(b.done, done)
	full := len(b.done) >= written
	b.mu.Unlock()
	if full {
		if err := b.flush(ctx, written); err != nil {
			b.halt(err)
		}
	}
}

// flush writes how it went with those that were sent, if they are so many.
func (b *batch) flush(ctx context.Context, least int) error {
	b.mu.Lock()
	if len(b.done) < least {
		b.mu.Unlock()
		return nil
	}
	list := b.done
	b.done = nil
	b.mu.Unlock()
	ctx = context.WithoutCancel(ctx) // it was sent; that has to be known
	if err := b.Store.Traces.Write(ctx, func(tx *gorm.DB) error {
		for _, one := range list {
			k := one.talk
			if _, err := store.Exec(tx, "INSERT INTO account_talks (id, application_id, account_id, at, what, result, code, entries, "+
				"micros) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)", k.ID, k.ApplicationID, k.AccountID, k.At, k.What, k.Result, k.Code, k.Entries,
				k.Micros); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		b.Log.WarnContext(ctx, "what was said about accounts could not be kept", "error", err)
	}
	return b.Store.Write(ctx, func(tx *gorm.DB) error {
		for _, one := range list {
			if err := saveSent(tx, one); err != nil {
				return err
			}
		}
		return savePump(tx, b.app.ID, map[string]any{"paused_until": nil, "tries": 0, "code": "", "reason": ""})
	})
}

// saveSent writes what was learnt of an account there, and how it stands, unless it became due anew meanwhile.
func saveSent(tx *gorm.DB, one *sent) error {
	const learnt = "UPDATE kept_accounts SET remote_id = ?, remote_name = ?, version = ?, there = ?, sent = ?, unkept = ?"
	r := one.row
	args := []any{r.RemoteID, r.RemoteName, r.Version, r.There, r.Sent, r.Unkept}
	n, err := store.Exec(tx, learnt+", state = ?, next_at = ?, would = ?, tries = ?, code = ?, reason = ?, drift = ?, agreed = ?, "+
		"removed_at = ?, updated_at = ? WHERE id = ? AND turn = ?", append(args[:6:6], r.State, r.NextAt, r.Would, r.Tries, r.Code,
		r.Reason,
		r.Drift, r.Agreed, r.RemovedAt, r.UpdatedAt, r.ID, one.turn)...)
	if err == nil && n == 0 {
		_, err = store.Exec(tx, learnt+" WHERE id = ?", append(args[:6:6], r.ID)...)
	}
	if err != nil || !one.retell || r.Kind != OfPerson {
		return err
	}
	_, err = store.Exec(tx, "UPDATE kept_accounts SET state = 'due', next_at = ?, turn = turn + 1 WHERE application_id = ? AND kind = "+
		"'group' AND state IN ('step', 'due', 'again') AND who_id IN (SELECT group_id FROM memberships WHERE person_id = ?)", r.UpdatedAt,
		r.ApplicationID, r.WhoID)
	return err
}
